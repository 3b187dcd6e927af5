using System.Reflection;
using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;
using Xunit.Runner.InProc.SystemConsole;

namespace CalmSentry.Tests.EndToEnd.Queue;

/// <summary>
/// Runs classes in this process, one after the other, as it is asked to: a runtime that is started, and code that is
/// compiled, once for many of them. A line in: class, report, log, parted by tabs. A line out when that class has ended.
/// </summary>
internal static partial class Worker
{
    /// <summary>What is answered for a class, in front of what it left running.</summary>
    public const string Ended = "ended\t";

    public static async Task<int> Run()
    {
        // What tests start has this process's input and output: neither may be the lines to the coordinator.
        using var asked = new StreamReader(Moved(0, FileAccess.Read, File.OpenHandle("/dev/null")));
        await using var answers = new StreamWriter(Moved(1, FileAccess.Write, new(2, ownsHandle: false)));
        var before = Others();
        while (await asked.ReadLineAsync() is { } line)
        {
            var (name, report, log) = line.Split('\t') is [var one, var two, var three]
                ? (one, two, three)
                : throw new ArgumentException($"not a class, a report and a log: {line}");
            await using (var told = new StreamWriter(log) { AutoFlush = true })
            using (var runner = new Runner(["-class", name, "-xml", report, .. Listing.Discovery]))
                await runner.EntryPoint(TextReader.Null, told);
            var left = Others().Except(before).Select(pid => $"{pid} {Sentry.CommandLine(pid).Replace('\0', ' ')}");
            await answers.WriteLineAsync(Ended + string.Join("; ", left));
            await answers.FlushAsync();
        }

        return 0;
    }

    /// <summary>The live processes beside this one, where they are all its own: in namespaces of a worker.</summary>
    private static HashSet<int> Others() =>
        Environment.GetEnvironmentVariable(Isolation.Variable) is null
            ? []
            :
            [
                .. Directory
                    .EnumerateDirectories("/proc")
                    .Select(Path.GetFileName)
                    .Where(name => name!.All(char.IsAsciiDigit))
                    .Select(int.Parse!)
                    .Where(pid => pid != Environment.ProcessId && Sentry.Lives(pid)),
            ];

    /// <summary>A standard descriptor's file, under a number that no child gets; in its place from now on is another file.</summary>
    private static FileStream Moved(int descriptor, FileAccess access, SafeFileHandle instead)
    {
        var moved = Fcntl(descriptor, DuplicateCloseOnExec, 10);
        using (instead)
            Assert.True(moved >= 0 && Dup2((int)instead.DangerousGetHandle(), descriptor) == descriptor);
        return new(new SafeFileHandle(moved, ownsHandle: true), access, bufferSize: 0);
    }

    /// <summary>fcntl(2): the lowest free descriptor from a number on, closed by execve(2).</summary>
    private const int DuplicateCloseOnExec = 1030;

    [LibraryImport("libc", EntryPoint = "fcntl")]
    private static partial int Fcntl(int descriptor, int command, int from);

    [LibraryImport("libc", EntryPoint = "dup2")]
    private static partial int Dup2(int from, int to);

    /// <summary>The encoding of the console stays: several of these follow each other in a process.</summary>
    private sealed class Runner(string[] arguments) : ConsoleRunner(arguments, Assembly.GetExecutingAssembly())
    {
        protected override void SetOutputEncoding() { }
    }
}
