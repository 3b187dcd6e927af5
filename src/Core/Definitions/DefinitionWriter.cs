using System.Globalization;

namespace CalmSentry.Core.Definitions;

/// <summary>From the typed model back to a node tree, complete: every effective value is written. Reading it gives the same definition.</summary>
public static class DefinitionWriter
{
    public static MapNode Write(Definition definition)
    {
        var recover = definition.Recover;
        return Map(
            ("format", Text(DefinitionReader.Format)),
            ("name", Text(definition.Name)),
            ("title", Text(definition.Title)),
            ("notes", definition.Notes.Length == 0 ? null : Text(definition.Notes)),
            ("program", Map(
                ("path", Text(definition.Program.Path)),
                ("arguments", new ListNode([.. definition.Program.Arguments.Select(Text)])),
                ("directory", definition.Program.Directory is { } directory ? Text(directory) : null),
                ("environment", new MapNode([.. definition.Program.Environment.Select(pair => KeyValuePair.Create(pair.Key, (Node)Text(pair.Value)))])))),
            ("identity", Map(("account", Text(definition.Account)))),
            ("begin", Map(("at", Text(definition.At == BeginAt.Boot ? "boot" : "request")))),
            ("recover", Map(
                ("after", Text(recover.After switch { RecoverAfter.AnyEnd => "any-end", RecoverAfter.Never => "never", _ => "failure" })),
                ("pause", Map(
                    ("first", Time(recover.First)),
                    ("grow", Text(recover.Grow.ToString(CultureInfo.InvariantCulture))),
                    ("longest", Time(recover.Longest)),
                    ("steady-after", Time(recover.SteadyAfter)))),
                ("hold", Map(
                    ("ends", Text(recover.HoldEnds.ToString(CultureInfo.InvariantCulture))),
                    ("within", Time(recover.HoldWithin)))))),
            ("wind-down", new ListNode([.. definition.WindDown.Select(step => Map(("signal", Text(step.Signal)), ("wait", Time(step.Wait))))])));
    }

    private static MapNode Map(params (string Key, Node? Value)[] entries) =>
        new([.. entries.Where(entry => entry.Value is not null).Select(entry => KeyValuePair.Create(entry.Key, entry.Value!))]);

    private static Node Text(string text) => new ScalarNode(text);

    private static ScalarNode Time(TimeSpan length) => new(Duration.Write(length));
}
