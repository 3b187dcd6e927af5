using System.Diagnostics;
using System.Globalization;
using System.Text;

namespace CalmSentry.Linux.Accounts;

/// <summary>A right to be asked for on a path: r, w or x, and the answer of the kernel as an errno, 0 for yes.</summary>
public readonly record struct AccessQuestion(char Right, string Path);

/// <summary>
/// Asks and runs things as an account, in a process that really is that account: only the kernel knows what groups,
/// access lists, mount options and network file systems add up to. The keeper's <c>as</c> mode is that process.
/// </summary>
public sealed class AsAccount(string keeper)
{
    /// <summary>How long a program that only looks at something may take.</summary>
    public static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    /// <summary>For each question, in order, 0 or the errno.</summary>
    /// <exception cref="IOException">The process did not answer.</exception>
    public async Task<IReadOnlyList<int>> Ask(Account account, IEnumerable<uint> moreGroups, IReadOnlyList<AccessQuestion> questions, CancellationToken cancellation = default)
    {
        if (questions.Count == 0) return [];
        using var process = Start(account, moreGroups, ["ask"], new Dictionary<string, string>());
        var asked = new StringBuilder();
        foreach (var (right, path) in questions) asked.Append(right).Append(path).Append('\0');
        await process.StandardInput.BaseStream.WriteAsync(Encoding.UTF8.GetBytes(asked.ToString()), cancellation).ConfigureAwait(false);
        process.StandardInput.Close();
        var text = await process.StandardOutput.ReadToEndAsync(cancellation).ConfigureAwait(false);
        await process.WaitForExitAsync(cancellation).ConfigureAwait(false);
        var answers = text.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(line => int.Parse(line, CultureInfo.InvariantCulture)).ToList();
        return answers.Count == questions.Count ? answers : throw new IOException($"a process of the account {account.Name} could not be made to ask what it may do (exit code {process.ExitCode})");
    }

    /// <summary>Runs a program to its end and returns what it said; null when it could not be run or took too long.</summary>
    public async Task<(int ExitCode, string Output, string Error)?> Run(
        Account account, IEnumerable<uint> moreGroups, string directory, IReadOnlyDictionary<string, string> environment, IReadOnlyList<string> command, TimeSpan patience, CancellationToken cancellation = default)
    {
        using var process = Start(account, moreGroups, ["run", directory, .. command], environment);
        process.StandardInput.Close();
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(patience);
        try
        {
            var error = process.StandardError.ReadToEndAsync(limit.Token);
            var output = await process.StandardOutput.ReadToEndAsync(limit.Token).ConfigureAwait(false);
            await process.WaitForExitAsync(limit.Token).ConfigureAwait(false);
            return process.ExitCode == 126 ? null : (process.ExitCode, output, await error.ConfigureAwait(false));
        }
        catch (OperationCanceledException)
        {
            process.Kill(entireProcessTree: true);
            cancellation.ThrowIfCancellationRequested();
            return null;
        }
    }

    private Process Start(Account account, IEnumerable<uint> moreGroups, string[] rest, IReadOnlyDictionary<string, string> environment)
    {
        var change = Account.OwnId == 0;
        var start = new ProcessStartInfo(
            keeper,
            [
                "as", change ? account.Uid.ToString(CultureInfo.InvariantCulture) : "-", account.Gid.ToString(CultureInfo.InvariantCulture),
                string.Join(',', account.Groups.Concat(moreGroups).Distinct()), .. rest,
            ])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            WorkingDirectory = "/",
        };
        start.Environment.Clear();
        foreach (var (name, value) in environment) start.Environment[name] = value;
        return Process.Start(start) ?? throw new IOException($"{keeper} cannot be started");
    }
}
