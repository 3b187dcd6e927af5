namespace CalmSentry.Linux.Processes;

/// <summary>The status word of wait(2), taken apart.</summary>
public readonly record struct WaitStatus(int Word)
{
    /// <summary>A signal has stopped it: it has not ended.</summary>
    public bool IsPaused => (Word & 0xff) == 0x7f;

    /// <summary>It was stopped and goes on: it has not ended.</summary>
    public bool GoesOn => Word == 0xffff;

    /// <summary>The signal that ended the process, or 0.</summary>
    public int Signal => Word & 0x7f;

    public int ExitCode => (Word >> 8) & 0xff;

    public bool DumpedCore => Signal != 0 && (Word & 0x80) != 0;
}
