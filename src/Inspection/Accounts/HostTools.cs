using System.Diagnostics;

namespace CalmSentry.Inspection.Accounts;

/// <summary>The host's own commands for what only they should change.</summary>
internal static class HostTools
{
    private static readonly string[] Places = ["/usr/sbin", "/usr/bin", "/sbin", "/bin"];

    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);

    private static string? Find(string command) =>
        Places.Select(place => Path.Combine(place, command)).FirstOrDefault(File.Exists);

    /// <returns>Null when it did its work, else what it said.</returns>
    public static async Task<string?> Run(string command, params IEnumerable<string> arguments)
    {
        var (exit, _, error) = await Ask(command, arguments).ConfigureAwait(false);
        return exit == 0 ? null
            : error.Trim() is { Length: > 0 } said ? said
            : $"{command} ended with exit code {exit}";
    }

    public static async Task<(int ExitCode, string Output, string Error)> Ask(
        string command,
        params IEnumerable<string> arguments
    )
    {
        if (Find(command) is not { } path)
            return (127, "", $"this host has no {command}");
        var start = new ProcessStartInfo(path, arguments)
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            RedirectStandardInput = true,
            WorkingDirectory = "/",
        };
        start.Environment["LC_ALL"] = "C.UTF-8";
        Process process;
        try
        {
            process = Process.Start(start)!;
        }
        catch (System.ComponentModel.Win32Exception refused)
        {
            return (126, "", $"{path} cannot be executed: {refused.Message}");
        }

        using var _ = process;
        process.StandardInput.Close();
        using var limit = new CancellationTokenSource(Patience);
        try
        {
            var error = process.StandardError.ReadToEndAsync(limit.Token);
            var output = await process.StandardOutput.ReadToEndAsync(limit.Token).ConfigureAwait(false);
            await process.WaitForExitAsync(limit.Token).ConfigureAwait(false);
            return (process.ExitCode, output, await error.ConfigureAwait(false));
        }
        catch (OperationCanceledException)
        {
            process.Kill(entireProcessTree: true);
            return (124, "", $"{command} had not ended after {Patience.TotalSeconds:0} s");
        }
    }
}
