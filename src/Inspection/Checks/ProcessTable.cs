using System.Globalization;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Inspection.Checks;

/// <summary>A process as the copies are looked for: its command line and the file it executes.</summary>
internal sealed record ProcessLine(int Pid, IReadOnlyList<string> Command, string? Executable)
{
    private string? directory;
    private long? service;

    /// <summary>Read once, however many ask; null: it has ended, or nobody may know.</summary>
    public string? WorkingDirectory => directory ??= ProcessFacts.WorkingDirectory(Pid);

    /// <summary>
    /// The id of the service whose run it is, as its environment says behind the mark; 0: it is no run of this sentry's; -1: it is, but
    /// no service's. Read once, however many ask: a thousand may run the same program.
    /// </summary>
    public long ServiceOf(byte[] mark) =>
        service ??=
            ProcessFacts.RestOfVariable(Pid, mark) is not { } run ? 0
            : run.Split(':') is [.., ['S', .. var id], _]
            && long.TryParse(id, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
                ? number
            : -1;

    /// <summary>
    /// Whether it carries none on a second look either, and still is what was read. Between two readings a process may
    /// become another program (a shell's child, its command), and while it does its environment reads as empty.
    /// </summary>
    public bool StaysForeign(byte[] mark) =>
        ProcessFacts.CommandLine(Pid).SequenceEqual(Command)
        && ProcessFacts.Executable(Pid) == Executable
        && !ProcessFacts.HasVariableThatBegins(Pid, mark);

    public static IReadOnlyList<ProcessLine> All() =>
        [
            .. ProcessFacts
                .All()
                .Select(pid => (Pid: pid, Command: ProcessFacts.CommandLine(pid)))
                .Where(process => process.Command.Count > 0) // the kernel's own have none
                .Select(process => new ProcessLine(process.Pid, process.Command, ProcessFacts.Executable(process.Pid))),
        ];
}

/// <summary>
/// One reading of all processes for everybody who asks at the same time: whoever asks gets a reading that began after
/// the
/// asking, so nothing it shows is old, and two hundred starts at once read the table a few times, not two hundred.
/// </summary>
internal sealed class ProcessTable : IDisposable
{
    private readonly SemaphoreSlim turn = new(1);
    private readonly Lock nextLock = new();
    private Task<IReadOnlyList<ProcessLine>>? next;

    public Task<IReadOnlyList<ProcessLine>> Read()
    {
        lock (nextLock)
            return next ??= Task.Run(ReadNext);
    }

    public void Dispose() => turn.Dispose();

    private async Task<IReadOnlyList<ProcessLine>> ReadNext()
    {
        await turn.WaitAsync().ConfigureAwait(false);
        try
        {
            lock (nextLock)
                next = null; // from here on another reading is needed
            return ProcessLine.All();
        }
        finally
        {
            turn.Release();
        }
    }
}
