using CalmSentry.Linux.Processes;

namespace CalmSentry.Inspection.Checks;

/// <summary>A process as the copies are looked for: its command line and the file it executes.</summary>
internal sealed record ProcessLine(int Pid, IReadOnlyList<string> Command, string? Executable)
{
    private string? directory;

    /// <summary>Read once, however many ask; null: it has ended, or nobody may know.</summary>
    public string? WorkingDirectory => directory ??= ProcessFacts.WorkingDirectory(Pid);

    /// <summary>
    /// Whether it is another on a second look. Between two readings a process may become another program: a shell's child, its command.
    /// </summary>
    public bool HasChanged() =>
        !ProcessFacts.CommandLine(Pid).SequenceEqual(Command) || ProcessFacts.Executable(Pid) != Executable;

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
