using System.Globalization;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Definitions;

/// <summary>What is done once a watch finds its program in a poor state.</summary>
public enum WatchFollow
{
    /// <summary>An entry in the logbook.</summary>
    Note,

    /// <summary>Somebody should look.</summary>
    Tell,

    /// <summary>It is wound down and begun again; this counts as a bad end.</summary>
    Restart,

    /// <summary>All of it is ended at once and begun again; this counts as a bad end.</summary>
    RestartByForce,
}

/// <summary>One thing that is looked at for as long as the program runs.</summary>
public abstract record Watch
{
    public static readonly TimeSpan UsualBeat = TimeSpan.FromSeconds(15),
        UsualSample = TimeSpan.FromSeconds(10),
        // A keeper tells when its program is stopped: what is looked at are figures for the evidence of a fall.
        QuietSample = TimeSpan.FromSeconds(30);

    /// <summary>Time between two looks.</summary>
    public required TimeSpan Beat { get; init; }

    /// <summary>So many looks in a row must be bad before anything is done.</summary>
    public int Patience { get; init; } = 1;

    /// <summary>It must have been bad for so long before anything is done.</summary>
    public TimeSpan Lasting { get; init; }

    public WatchFollow Follows { get; init; }

    /// <summary>It was not asked for by the definition, but stands in each.</summary>
    public bool Implied { get; init; }

    /// <summary>By what it is known again, whatever it is called by people: its kind, what it looks at, and how long it bears with that.</summary>
    public string Id => Lasting > TimeSpan.Zero ? $"{Of},lasting={Duration.Write(Lasting)}" : Of;

    /// <summary>Its kind, and what it looks at.</summary>
    protected abstract string Of { get; }

    /// <summary>What is to be so, as a clause.</summary>
    public abstract string InWords { get; }

    /// <summary>A limit as it is looked at, with the time it may be over it.</summary>
    protected string Limit(string words) =>
        Lasting > TimeSpan.Zero ? $"{words} (for no more than {Duration.Write(Lasting)})" : words;
}

/// <summary>
/// Something that can be asked: http, tcp or a command. <paramref name="Look"/> says which and what is a good answer.
/// </summary>
public sealed record AnswerWatch(Proof Look) : Watch
{
    protected override string Of => Look.Id;

    public override string InWords => Look.InWords;
}

/// <summary>It prints something at least so often.</summary>
public sealed record SilenceWatch(TimeSpan Longest) : Watch
{
    protected override string Of => $"silent-for:{Duration.Write(Longest)}";

    public override string InWords => $"it is never silent for {Duration.Write(Longest)}";
}

/// <summary>It writes a file at least so often.</summary>
public sealed record FreshFileWatch(string Path, TimeSpan Oldest) : Watch
{
    protected override string Of => $"file:{Path},fresh-for={Duration.Write(Oldest)}";

    public override string InWords => $"{Path} is never older than {Duration.Write(Oldest)}";
}

/// <summary>It says on its socket (CALM_SAY, /well) that it is well, at least so often.</summary>
public sealed record WellWatch(TimeSpan Within) : Watch
{
    protected override string Of => $"well-within:{Duration.Write(Within)}";

    public override string InWords => $"it says that it is alive within each {Duration.Write(Within)}";
}

/// <summary>It asks nothing for so long, neither at its terminal nor in a window.</summary>
public sealed record QuestionWatch(TimeSpan Longest) : Watch
{
    protected override string Of => $"asks-for:{Duration.Write(Longest)}";

    public override string InWords => $"it does not ask anybody for {Duration.Write(Longest)}";
}

/// <summary>What its windows show changes at least so often.</summary>
public sealed record StillWatch(TimeSpan Longest) : Watch
{
    protected override string Of => $"still-for:{Duration.Write(Longest)}";

    public override string InWords => $"what its window shows changes within {Duration.Write(Longest)}";
}

/// <summary>Memory of its tree that is its own, in bytes.</summary>
public sealed record MemoryWatch(long Bytes) : Watch
{
    protected override string Of => $"memory-above:{Size.Write(Bytes)}";

    public override string InWords => Limit($"its memory is not above {Size.Write(Bytes)}");
}

/// <summary>Processor time of its tree, in percent of one processor.</summary>
public sealed record CpuWatch(int Percent) : Watch
{
    protected override string Of => string.Create(CultureInfo.InvariantCulture, $"cpu-above:{Percent}");

    public override string InWords =>
        Limit(string.Create(CultureInfo.InvariantCulture, $"its processor time is not above {Percent} %"));
}

/// <summary>Open files and sockets of its tree.</summary>
public sealed record OpenFilesWatch(int Most) : Watch
{
    protected override string Of => string.Create(CultureInfo.InvariantCulture, $"open-files-above:{Most}");

    public override string InWords =>
        Limit(string.Create(CultureInfo.InvariantCulture, $"it has no more than {Most} files open"));
}

/// <summary>Processes below its main one.</summary>
public sealed record TreeWatch(int Most) : Watch
{
    protected override string Of => string.Create(CultureInfo.InvariantCulture, $"tree-above:{Most}");

    public override string InWords =>
        Limit(string.Create(CultureInfo.InvariantCulture, $"it has no more than {Most} processes below it"));
}

/// <summary>At the rate it grows, its memory does not reach its ceiling within so long.</summary>
public sealed record CeilingWatch(TimeSpan Within) : Watch
{
    public static readonly TimeSpan Default = TimeSpan.FromHours(1);

    protected override string Of => $"ceiling-within:{Duration.Write(Within)}";

    public override string InWords => $"its memory will not reach its limit within {Duration.Write(Within)}";
}

/// <summary>Its main process is not kept stopped by a signal (SIGSTOP, SIGTSTP) for so long.</summary>
public sealed record PausedWatch(TimeSpan Longest) : Watch
{
    public static readonly TimeSpan Default = TimeSpan.FromSeconds(30);

    protected override string Of => $"paused-for:{Duration.Write(Longest)}";

    public override string InWords => $"its main process is not stopped by a signal for {Duration.Write(Longest)}";
}
