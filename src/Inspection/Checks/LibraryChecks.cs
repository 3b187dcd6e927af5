using System.Collections.Concurrent;
using CalmSentry.Core.Findings;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Programs;

namespace CalmSentry.Inspection.Checks;

/// <summary>
/// Whether every shared library of a native program is found. The loader the program itself names is asked to list them
/// (ld.so(8), --list), as the account and with its environment: it knows every rule, and runs nothing of the program.
/// </summary>
internal sealed class LibraryChecks
{
    /// <summary>Programs whose libraries were all there, as they were then; and whether they draw windows.</summary>
    private readonly ConcurrentDictionary<(string Path, DateTime Written, string? Search, uint Uid), bool> fine = new();

    public async Task<IReadOnlyList<Finding>> Look(Subject subject)
    {
        var program = subject.Definition.Program;
        if (subject.Account is not { } account)
            return [];
        var found = new List<Finding>();
        foreach (
            var file in new[] { program.With ?? program.Path, Interpreters.FirstLine(program.Path) }
                .OfType<string>()
                .Where(Path.IsPathRooted)
                .Where(File.Exists)
                .Distinct()
        )
        {
            var key = (
                file,
                File.GetLastWriteTimeUtc(file),
                program.Environment.GetValueOrDefault("LD_LIBRARY_PATH"),
                account.Uid
            );
            if (!fine.TryGetValue(key, out var draws))
            {
                (var missing, draws) = await Asked(subject, file).ConfigureAwait(false);
                if (missing.Count > 0)
                {
                    found.Add(MissingOf(file, missing));
                    continue;
                }

                fine[key] = draws;
            }

            if (draws && WindowChecks.Unseen(subject.Definition, file) is { } unseen)
                found.Add(unseen);
        }

        return found;
    }

    private static Finding MissingOf(string file, IReadOnlyList<string> missing) =>
        new(
            FindingCode.LibraryMissing,
            Severity.Blocks,
            $"{file} needs {(missing.Count == 1 ? "a shared library that is" : "shared libraries that are")} "
                + $"not found: {string.Join(", ", missing)}.",
            "The loader would end it before its first instruction.",
            "Install the packages that bring them ('apt-file search NAME' tells which), or say where "
                + "they are with --environment LD_LIBRARY_PATH=FOLDER."
        );

    /// <param name="named">By a link as well: what is looked for beside the program is looked for beside what that leads to.</param>
    /// <returns>What is missing, and whether it draws windows.</returns>
    private static async Task<(IReadOnlyList<string> Missing, bool Draws)> Asked(Subject subject, string named)
    {
        var file = Folders.Real(named);
        try
        {
            if (ElfFile.Read(file) is not { IsForThisMachine: true, Loader: { } loader } || !File.Exists(loader))
                return ([], false);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return ([], false);
        }

        var environment = LaunchOrder.EnvironmentOf(
            subject.Definition,
            subject.Account!,
            Checker.Label,
            subject.Tools.Places
        );
        var said = await subject
            .AsAccount.Run(
                subject.Account!,
                subject.Groups,
                "/",
                environment,
                [ElfFile.Read(file)!.Loader!, "--list", file],
                AsAccount.Patience
            )
            .ConfigureAwait(false);
        if (said is not { } listed)
            return ([], false);
        var missing = listed
            .Output.Split('\n')
            .Where(line => line.EndsWith("=> not found", StringComparison.Ordinal))
            .Select(line => line.Split("=>")[0].Trim())
            .ToList();
        const string cannot = "error while loading shared libraries: ";
        if (missing.Count == 0 && listed.Error.IndexOf(cannot, StringComparison.Ordinal) is >= 0 and var at)
        {
            var name = listed.Error[(at + cannot.Length)..].Split(':')[0].Trim();
            if (name != file)
                missing.Add(name);
        }

        return (missing, WindowChecks.Draws(listed.Output));
    }
}
