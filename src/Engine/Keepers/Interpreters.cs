using CalmSentry.Core.Definitions;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Engine.Keepers;

/// <summary>An interpreter that could run a script.</summary>
/// <param name="Why">Where it comes from, in words.</param>
/// <param name="IsMeant">By this very path, and not by what that leads to.</param>
internal sealed record InterpreterCandidate(string Path, ScriptKind? Kind, string Why, bool IsMeant = false);

/// <summary>Which interpreters a script could be run with on this machine.</summary>
internal static class Interpreters
{
    private static readonly string[] Places =
    [
        "/usr/local/bin",
        "/usr/bin",
        "/bin",
        "/usr/local/sbin",
        "/usr/sbin",
        "/usr/share/dotnet",
        "/usr/lib/dotnet",
        "/snap/bin",
    ];

    /// <summary>
    /// All there are for the script, the one to choose first: a virtual environment beside it, its own first line, its
    /// kind.
    /// </summary>
    /// <param name="more">Further directories to look into, such as those of the administrator's own PATH.</param>
    public static IReadOnlyList<InterpreterCandidate> For(string script, IEnumerable<string> more)
    {
        var asked = FirstLine(script);
        var kind = (asked is null ? null : ScriptKind.OfInterpreter(asked)) ?? ScriptKind.OfFile(script);
        var found = new List<InterpreterCandidate>();
        if (kind?.Name == "Python")
        {
            for (
                var (directory, up) = (Path.GetDirectoryName(script), 0);
                directory is not null && up < 3;
                directory = Path.GetDirectoryName(directory), up++
            )
                foreach (var name in new[] { ".venv", "venv", "env" })
                    if (
                        File.Exists(Path.Combine(directory, name, "pyvenv.cfg"))
                        && File.Exists(Path.Combine(directory, name, "bin", "python"))
                    )
                        found.Add(
                            new(
                                Path.Combine(directory, name, "bin", "python"),
                                kind,
                                "the virtual environment beside the script",
                                IsMeant: true
                            )
                        );
        }

        var directories = Places
            .Concat(Glob("/opt", "bin"))
            .Concat(Glob("/usr/lib/jvm", "bin"))
            .Concat(more.Where(Path.IsPathRooted))
            .Distinct()
            .ToList();
        if (asked is not null)
        {
            var path = Path.IsPathRooted(asked)
                ? asked
                : directories.Select(directory => Path.Combine(directory, asked)).FirstOrDefault(File.Exists);
            if (path is not null && File.Exists(path))
                found.Add(
                    new(
                        path,
                        ScriptKind.OfInterpreter(path) ?? kind,
                        "the script's first line asks for it",
                        IsMeant: true
                    )
                );
        }

        foreach (var command in kind?.Commands ?? [])
        foreach (var directory in directories)
            if (File.Exists(Path.Combine(directory, command)))
                found.Add(new(Path.Combine(directory, command), kind, $"it runs {kind!.Name}"));
        return
        [
            .. found.DistinctBy(one => one.Path).DistinctBy(one => one.IsMeant ? one.Path : Folders.Real(one.Path)),
        ];
    }

    /// <summary>The one to choose, or null when this machine has none.</summary>
    public static InterpreterCandidate? Best(string script) => For(script, []) is [var first, ..] ? first : null;

    /// <summary>
    /// The interpreter a script's <c>#!</c> line asks for, <c>env</c> looked through; null when it has none.
    /// </summary>
    public static string? FirstLine(string script)
    {
        try
        {
            ReadOnlySpan<byte> head = Held.Head(Ground.Program, script, 256);
            if (!head.StartsWith("#!"u8))
                return null;
            var end = head.IndexOf((byte)'\n');
            var words = System
                .Text.Encoding.UTF8.GetString(end < 0 ? head[2..] : head[2..end])
                .Split([' ', '\t', '\r'], StringSplitOptions.RemoveEmptyEntries);
            if (words.Length == 0)
                return null;
            if (Path.GetFileName(words[0]) != "env")
                return words[0];
            return words
                .Skip(1)
                .FirstOrDefault(word => !word.StartsWith('-') && !word.Contains('=', StringComparison.Ordinal));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    private static IEnumerable<string> Glob(string directory, string inner) =>
        Directory.Exists(directory)
            ? Directory
                .GetDirectories(directory)
                .Order(StringComparer.Ordinal)
                .Select(one => Path.Combine(one, inner))
                .Where(Directory.Exists)
            : [];
}
