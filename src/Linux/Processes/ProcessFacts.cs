using System.Globalization;
using System.Text;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Processes;

/// <summary>What the kernel says of a process (proc(5)).</summary>
public static class ProcessFacts
{
    /// <summary>The real command line, one string per argument; empty when the process is gone.</summary>
    public static IReadOnlyList<string> CommandLine(int pid)
    {
        var bytes = Read(pid, "cmdline");
        if (bytes.Length == 0) return [];
        if (bytes[^1] == 0) bytes = bytes[..^1];
        return Encoding.UTF8.GetString(bytes).Split('\0');
    }

    /// <summary>The user id the process acts with, or null when it is gone.</summary>
    public static uint? EffectiveUser(int pid)
    {
        foreach (var line in Encoding.UTF8.GetString(Read(pid, "status")).Split('\n'))
            if (line.StartsWith("Uid:", StringComparison.Ordinal)) return uint.Parse(line.Split('\t')[2], CultureInfo.InvariantCulture);
        return null;
    }

    /// <summary>Every process whose environment at its start held this exact NAME=VALUE.</summary>
    public static IEnumerable<int> WithVariable(string variable)
    {
        var wanted = Encoding.UTF8.GetBytes(variable + '\0');
        foreach (var directory in Directory.EnumerateDirectories("/proc"))
        {
            if (!int.TryParse(Path.GetFileName(directory), NumberStyles.None, CultureInfo.InvariantCulture, out var pid)) continue;
            var environment = Read(pid, "environ");
            var at = environment.AsSpan().IndexOf(wanted);
            if (at == 0 || (at > 0 && environment[at - 1] == 0)) yield return pid;
        }
    }

    /// <summary>Ends a process at once. True while it is still there to be ended.</summary>
    public static bool End(int pid) => Libc.kill(pid, Libc.SIGKILL) == 0;

    private static byte[] Read(int pid, string file)
    {
        try
        {
            return File.ReadAllBytes($"/proc/{pid}/{file}");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return [];
        }
    }
}
