using System.Globalization;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Server.Definitions;

/// <summary>How a definition can be given again: as a command to type, and as a file.</summary>
internal static class Repeat
{
    public static string File(MapNode given) => YamlNodes.Write(given);

    /// <summary>
    /// The words of a <c>calm wrap</c> command, each to be quoted by whoever shows it; null when only a file can say
    /// all of it.
    /// </summary>
    public static IReadOnlyList<string>? Command(Definition definition)
    {
        var words = new List<string> { "calm", "wrap", definition.Name };
        void Flag(string key, string flag, string? value)
        {
            if (value is not null && definition.Given.Contains(key))
                words.AddRange([flag, value]);
        }

        var (program, identity, resources, recover) = (
            definition.Program,
            definition.Identity,
            definition.Resources,
            definition.Recover
        );
        if (
            definition.Given.Any(key =>
                key.StartsWith("recover.pause.", StringComparison.Ordinal) && key != "recover.pause.first"
            ) || definition.Given.Contains("begin.at-latest")
        )
            return null;
        Flag("title", "--title", definition.Title);
        Flag("notes", "--notes", definition.Notes);
        Flag("program.kind", "--kind", program.Kind.ToString().ToLowerInvariant());
        Flag("program.with", "--with", program.With);
        Flag("program.directory", "--directory", program.Directory);
        foreach (var (name, value) in program.Environment)
            words.AddRange(["--environment", $"{name}={value}"]);
        foreach (var secret in program.Secrets)
            words.AddRange(["--secret", secret.Key + (secret.AsFile ? ":file" : "")]);
        Flag("program.pid-file", "--pid-file", program.PidFile);
        Flag("program.terminal", "--terminal", program.Terminal ? "true" : "false");
        if (!program.Stop.IsEmpty)
            words.AddRange(program.Stop.SelectMany(word => new[] { "--stop-command", word }));
        Flag("identity.account", "--account", identity.Account);
        foreach (var group in identity.Groups)
            words.AddRange(["--group", group]);
        Flag("identity.umask", "--umask", DefinitionWriter.Octal(identity.Umask));
        Flag("identity.more-rights", "--more-rights", identity.MoreRights ? "allowed" : "denied");
        Flag("resources.priority", "--priority", DefinitionWriter.Of(resources.Priority));
        Flag("resources.disk", "--disk", DefinitionWriter.Of(resources.Disk));
        Flag("resources.processors", "--processors", Processors.Write(resources.Processors));
        Flag("resources.memory", "--memory", resources.Memory is { } memory ? Size.Write(memory) : null);
        Flag("resources.cpu", "--cpu", resources.Cpu is { } cpu ? Text(cpu) + " %" : null);
        Flag("resources.open-files", "--open-files", resources.OpenFiles is { } files ? Text(files) : null);
        Flag("resources.tasks", "--tasks", resources.Tasks is { } tasks ? Text(tasks) : null);
        Flag("begin.at", "--at", DefinitionWriter.Of(definition.Begin.At));
        foreach (var need in definition.Begin.Needs)
            words.AddRange(["--need", BeginWords.Of(need)]);
        if (definition.Given.Any(key => key.StartsWith("begin.proof.", StringComparison.Ordinal)))
        {
            if (BeginWords.Of(definition.Begin.Proof) is not { } proof)
                return null;
            words.AddRange(["--proof", proof]);
        }

        Flag(
            "recover.after",
            "--recover",
            recover.After switch
            {
                RecoverAfter.AnyEnd => "any-end",
                RecoverAfter.Never => "never",
                _ => "failure",
            }
        );
        Flag("recover.pause.first", "--pause", Duration.Write(recover.First));
        Flag("recover.hold.ends", "--hold-ends", Text(recover.HoldEnds));
        Flag("recover.hold.within", "--hold-within", Duration.Write(recover.HoldWithin));
        Flag("recover.hold.retry-every", "--retry-every", recover.RetryEvery is { } beat ? Duration.Write(beat) : null);
        foreach (var (code, then) in recover.Codes)
            words.AddRange(["--code", $"{code}={DefinitionReader.CodeWords.First(word => word.Value == then).Key}"]);
        foreach (var watch in definition.Watch.Where(watch => !watch.Implied))
        {
            if (WatchWords.Of(watch) is not { } word)
                return null;
            words.AddRange(["--watch", word]);
        }

        if (definition.Given.Contains("wind-down"))
        {
            foreach (var step in definition.WindDown)
            {
                if (WatchWords.Of(step) is not { } word)
                    return null;
                words.AddRange(["--wind-down", word]);
            }
        }

        foreach (var code in definition.Accept)
            words.AddRange(["--accept", code]);
        return [.. words, "--", program.Path, .. program.Arguments];
    }

    private static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);
}
