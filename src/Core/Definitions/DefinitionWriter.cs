using System.Globalization;

namespace CalmSentry.Core.Definitions;

/// <summary>
/// From the typed model back to a node tree, complete: every effective value is written. Reading it gives the same
/// definition.
/// </summary>
public static class DefinitionWriter
{
    public static MapNode Write(Definition definition)
    {
        var (program, identity, resources, recover) = (
            definition.Program,
            definition.Identity,
            definition.Resources,
            definition.Recover
        );
        return Map(
            ("format", Text(DefinitionReader.Format)),
            ("name", Text(definition.Name)),
            ("title", Text(definition.Title)),
            ("notes", definition.Notes.Length == 0 ? null : Text(definition.Notes)),
            (
                "program",
                Map(
                    (
                        "kind",
                        Text(
                            program.Kind switch
                            {
                                ProgramKind.Detaches => "detaches",
                                ProgramKind.Toggles => "toggles",
                                _ => "stays",
                            }
                        )
                    ),
                    ("path", Text(program.Path)),
                    ("with", Maybe(program.With)),
                    ("arguments", new ListNode([.. program.Arguments.Select(Text)])),
                    ("directory", Maybe(program.Directory)),
                    (
                        "environment",
                        new MapNode([
                            .. program.Environment.Select(pair =>
                                KeyValuePair.Create(pair.Key, (Node)Text(pair.Value))
                            ),
                        ])
                    ),
                    (
                        "secrets",
                        new ListNode([
                            .. program.Secrets.Select(use =>
                                use.AsFile ? Map(("key", Text(use.Key)), ("as", Text("file"))) : Text(use.Key)
                            ),
                        ])
                    ),
                    ("pid-file", Maybe(program.PidFile)),
                    ("stop", program.Stop.IsEmpty ? null : new ListNode([.. program.Stop.Select(Text)])),
                    ("terminal", program.Terminal ? Text("true") : null)
                )
            ),
            (
                "identity",
                Map(
                    ("account", identity.Account.Length == 0 ? null : Text(identity.Account)), // not named yet: a finding says so
                    ("groups", new ListNode([.. identity.Groups.Select(Text)])),
                    ("umask", Text(Octal(identity.Umask))),
                    ("more-rights", Text(identity.MoreRights ? "allowed" : "denied"))
                )
            ),
            (
                "resources",
                Map(
                    ("priority", Text(Of(resources.Priority))),
                    ("disk", Text(Of(resources.Disk))),
                    ("processors", resources.Processors.IsEmpty ? null : Text(Processors.Write(resources.Processors))),
                    ("memory", Maybe(resources.Memory is { } memory ? Size.Write(memory) : null)),
                    (
                        "cpu",
                        Maybe(resources.Cpu is { } cpu ? string.Create(CultureInfo.InvariantCulture, $"{cpu} %") : null)
                    ),
                    ("open-files", Maybe(resources.OpenFiles?.ToString(CultureInfo.InvariantCulture))),
                    ("tasks", Maybe(resources.Tasks?.ToString(CultureInfo.InvariantCulture)))
                )
            ),
            ("begin", BeginWriter.Write(definition.Begin)),
            (
                "watch",
                definition.Watch.All(watch => watch.Implied)
                    ? null
                    : new ListNode([.. definition.Watch.Where(watch => !watch.Implied).Select(WatchWriter.Watch)])
            ),
            (
                "recover",
                Map(
                    (
                        "after",
                        Text(
                            recover.After switch
                            {
                                RecoverAfter.AnyEnd => "any-end",
                                RecoverAfter.Never => "never",
                                _ => "failure",
                            }
                        )
                    ),
                    (
                        "pause",
                        Map(
                            ("first", Time(recover.First)),
                            ("grow", Text(recover.Grow.ToString(CultureInfo.InvariantCulture))),
                            ("longest", Time(recover.Longest)),
                            ("steady-after", Time(recover.SteadyAfter)),
                            ("spread", Text(string.Create(CultureInfo.InvariantCulture, $"{recover.Spread} %")))
                        )
                    ),
                    (
                        "hold",
                        Map(
                            ("ends", Text(recover.HoldEnds.ToString(CultureInfo.InvariantCulture))),
                            ("within", Time(recover.HoldWithin)),
                            ("retry-every", recover.RetryEvery is { } beat ? Time(beat) : null)
                        )
                    ),
                    (
                        "codes",
                        recover.Codes.IsEmpty
                            ? null
                            : new MapNode([
                                .. recover.Codes.Select(pair =>
                                    KeyValuePair.Create(
                                        pair.Key,
                                        Text(DefinitionReader.CodeWords.First(word => word.Value == pair.Value).Key)
                                    )
                                ),
                            ])
                    )
                )
            ),
            (
                "wind-down",
                program.Kind == ProgramKind.Toggles
                    ? null
                    : new ListNode([.. definition.WindDown.Select(WatchWriter.Step)])
            ),
            ("accept", definition.Accept.IsEmpty ? null : new ListNode([.. definition.Accept.Select(Text)]))
        );
    }

    public static string Of(PriorityClass priority) =>
        priority switch
        {
            PriorityClass.Idle => "idle",
            PriorityClass.BelowNormal => "below-normal",
            PriorityClass.AboveNormal => "above-normal",
            PriorityClass.High => "high",
            _ => "normal",
        };

    public static string Of(WatchThen then) => WatchWriter.Of(then);

    public static string Of(BeginAt at) =>
        at switch
        {
            BeginAt.Boot => "boot",
            BeginAt.BootLate => "boot-late",
            BeginAt.Never => "never",
            _ => "request",
        };

    public static string Octal(int mask) => Convert.ToString(mask, 8).PadLeft(4, '0');

    internal static ScalarNode? Maybe(string? text) => text is null ? null : new ScalarNode(text);

    internal static MapNode Map(params (string Key, Node? Value)[] entries) =>
        new([
            .. entries
                .Where(entry => entry.Value is not null)
                .Select(entry => KeyValuePair.Create(entry.Key, entry.Value!)),
        ]);

    internal static Node Text(string text) => new ScalarNode(text);

    internal static ScalarNode Time(TimeSpan length) => new(Duration.Write(length));
}
