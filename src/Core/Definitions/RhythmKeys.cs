using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Definitions;

/// <summary>The keys of a rhythm.</summary>
public static class RhythmKeys
{
    /// <summary>When something comes, in words.</summary>
    public static Form<string> Words { get; } =
        Forms.Text(RhythmWords.Allowed, text => RhythmWords.TryRead(text, out _)) with
        {
            AllowedFor = RhythmWords.AllowedFor,
        };

    private static readonly Form<string> Zone = Forms.Text(
        "a time zone of this host, such as Europe/Oslo or UTC",
        text =>
            text.Length is > 0 and < 100 && !text.StartsWith('/') && TimeZoneInfo.TryFindSystemTimeZoneById(text, out _)
    );

    private static readonly Form<string> Busy = Forms.Text(
        "said (by the program, on its socket), an address that answers 200 while it is busy, or a command that exits with 0 then, with an absolute path",
        text =>
            text == PlannedRestart.BusySaid
            || Forms.Url.Read(text, out _)
            || (text.StartsWith('/') && CommandLine.Words(text).Length > 0)
    );

    private static readonly Form<IfMissed> Missed = Forms.Choice(("once", IfMissed.Once), ("pass", IfMissed.Pass));

    public static Union<Planned> Rhythms { get; } =
        new(
            "{ run: every 15 min from 16:30 } or { restart: daily at 01:00 }",
            [
                UnionOf<Planned>.Kind(
                    "run",
                    Words,
                    words => new PlannedRun(Read(words)),
                    planned => (planned as PlannedRun)?.When.ToString(),
                    "A run of a job (kind: periodic) at these moments."
                ) with
                {
                    Of = "WHEN",
                    Example = "every 15 min from 16:30",
                },
                UnionOf<Planned>.Kind(
                    "restart",
                    Words,
                    words => new PlannedRestart(Read(words)) { Missed = IfMissed.Pass },
                    planned => (planned as PlannedRestart)?.When.ToString(),
                    "A restart of a program that stays, at these moments, through its wind-down and proof."
                ) with
                {
                    Of = "WHEN",
                    Example = "daily at 01:00",
                },
                UnionOf<Planned>.Kind(
                    PlannedQuiet.Kind,
                    Words,
                    words => new PlannedQuiet(Read(words)) { Spread = TimeSpan.Zero },
                    planned => (planned as PlannedQuiet)?.When.ToString(),
                    "A quiet time begins at these moments: nothing of it is told until it is over, then all that was withheld "
                        + "is listed."
                ) with
                {
                    Of = "WHEN",
                    Example = "on sun at 02:00",
                },
            ],
            [
                UnionOf<Planned>.Attribute(
                    "zone",
                    Zone,
                    planned => planned.Zone,
                    (planned, zone) => planned with { Zone = zone },
                    "By whose clock."
                ) with
                {
                    Default = "the host's",
                    Example = "Europe/Oslo",
                },
                UnionOf<Planned>.Attribute(
                    "spread",
                    Forms.Length,
                    planned => planned.Spread,
                    (planned, spread) => planned with { Spread = spread },
                    "Each moment comes later by a random part of this."
                ) with
                {
                    Only = ["run", "restart"],
                    Default =
                        "none; of 'every' without 'from' the service's own second within the first minute, the same each time",
                    Example = "30 s",
                },
                UnionOf<Planned>.Attribute(
                    "missed",
                    Missed,
                    planned => planned.Missed,
                    (planned, missed) => planned with { Missed = missed },
                    "Moments at which the machine was off or asleep, or the sentry down: once makes up for them with one, "
                        + "pass leaves it at an entry in the logbook."
                ) with
                {
                    Only = ["run", "restart"],
                    Default = "once; of a restart pass",
                },
                new(
                    "except",
                    "Days on which nothing of it comes, by its clock: days, or a file with one a line, read as the account when it is "
                        + "saved and once a day. A file that cannot be read leaves the days of before."
                )
                {
                    IsText = true,
                    OrList = true,
                    Default = "none",
                    Example = "2026-12-24 2026-12-25",
                    Set = ReadExcepted,
                    Give = planned => planned.Except is { } except ? new ScalarNode(except.ToString()) : null,
                },
                UnionOf<Planned>.Attribute(
                    "for",
                    Forms.LengthFrom(TimeSpan.FromMinutes(1)),
                    planned => (planned as PlannedQuiet)?.For,
                    (planned, length) => ((PlannedQuiet)planned) with { For = length },
                    "How long it is quiet."
                ) with
                {
                    Only = [PlannedQuiet.Kind],
                    Needed = true,
                    Default = null,
                    Example = "2 h",
                },
                UnionOf<Planned>.Attribute(
                    "no-restarts",
                    Forms.Switch,
                    planned => planned is PlannedQuiet { NoRestarts: true } ? true : null,
                    (planned, none) => ((PlannedQuiet)planned) with { NoRestarts = none },
                    "Nothing is restarted either: what falls is started again when it is over."
                ) with
                {
                    Only = [PlannedQuiet.Kind],
                    Default = "false",
                },
                UnionOf<Planned>.Attribute(
                    "if-running",
                    Forms.Choice(
                        ("pass", IfRunning.Pass),
                        ("queue", IfRunning.Queue),
                        ("take-over", IfRunning.TakeOver)
                    ),
                    planned => (planned as PlannedRun)?.IfRunning,
                    (planned, running) => ((PlannedRun)planned) with { IfRunning = running },
                    "A moment at which the run before is still at work: it passes, is queued behind it (one at most), or takes over."
                ) with
                {
                    Only = ["run"],
                    Default = "pass",
                },
                UnionOf<Planned>.Attribute(
                    "longest",
                    Forms.LengthFrom(TimeSpan.FromSeconds(1)),
                    planned => (planned as PlannedRun)?.Longest,
                    (planned, longest) => ((PlannedRun)planned) with { Longest = longest },
                    "A run that takes longer is wound down, and has failed."
                ) with
                {
                    Only = ["run"],
                    Default = "as long as it takes",
                    Example = "30 min",
                },
                UnionOf<Planned>.Attribute(
                    "late-after",
                    Forms.LengthFrom(TimeSpan.FromSeconds(1)),
                    planned => (planned as PlannedRun)?.LateAfter,
                    (planned, length) => ((PlannedRun)planned) with { LateAfter = length },
                    "A run that is not done so long after it was due is late, and an alert is raised; it goes on."
                ) with
                {
                    Only = ["run"],
                    Default = "never",
                    Example = "20 min",
                },
                UnionOf<Planned>.Attribute(
                    "success-within",
                    Forms.LengthFrom(TimeSpan.FromSeconds(1)),
                    planned => (planned as PlannedRun)?.SuccessWithin,
                    (planned, length) => ((PlannedRun)planned) with { SuccessWithin = length },
                    "An alert is raised when no run has succeeded for so long, whatever the reason."
                ) with
                {
                    Only = ["run"],
                    Default = "however long that is",
                    Example = "26 h",
                },
                UnionOf<Planned>.Attribute(
                    "again",
                    Forms.Whole(0, 100),
                    planned => (planned as PlannedRun)?.Again,
                    (planned, again) => ((PlannedRun)planned) with { Again = again },
                    "So many times a run that failed is tried again, after the pauses of recover.pause, as long as that is "
                        + "before the next moment."
                ) with
                {
                    Only = ["run"],
                    Default = "0",
                    Example = "2",
                },
                UnionOf<Planned>.Attribute(
                    "busy",
                    Busy,
                    planned => (planned as PlannedRestart)?.Busy,
                    (planned, busy) => ((PlannedRestart)planned) with { Busy = busy },
                    "Who says that it is busy, so that the restart is put off: said (the program, with /busy on its socket), "
                        + "an address (busy while it answers 200), or a command run as the account (busy while it exits with 0)."
                ) with
                {
                    Only = ["restart"],
                    IsText = true,
                    Default = "nobody is asked",
                    Example = "http://127.0.0.1:7413/printing",
                },
                UnionOf<Planned>.Attribute(
                    "put-off",
                    Forms.Length,
                    planned => (planned as PlannedRestart)?.PutOff,
                    (planned, length) => ((PlannedRestart)planned) with { PutOff = length },
                    "How long it is put off at most; then it is restarted all the same."
                ) with
                {
                    Only = ["restart"],
                    Default = "2 h",
                    Example = "2 h",
                },
                UnionOf<Planned>.Attribute(
                    "needless-within",
                    Forms.Length,
                    planned => (planned as PlannedRestart)?.NeedlessWithin,
                    (planned, length) => ((PlannedRestart)planned) with { NeedlessWithin = length },
                    "It is needless where the program was started within so long, whoever did it."
                ) with
                {
                    Only = ["restart"],
                    Default = "0 s",
                    Example = "6 h",
                },
                UnionOf<Planned>.Attribute(
                    "memory-above",
                    Forms.Size,
                    planned => (planned as PlannedRestart)?.MemoryAbove,
                    (planned, bytes) => ((PlannedRestart)planned) with { MemoryAbove = bytes },
                    "It is needless unless its memory is above this; how many restarts that spared is counted."
                ) with
                {
                    Only = ["restart"],
                    Default = "whatever its memory is",
                    Example = "400 MiB",
                },
                UnionOf<Planned>.Attribute(
                    "ceiling-within",
                    Forms.LengthFrom(TimeSpan.FromMinutes(1)),
                    planned => (planned as PlannedRestart)?.CeilingWithin,
                    (planned, within) => ((PlannedRestart)planned) with { CeilingWithin = within },
                    "It is needless unless its memory grows so that it reaches resources.memory within this; how many restarts that "
                        + "spared is counted. With memory-above one of the two suffices."
                ) with
                {
                    Only = ["restart"],
                    Default = "however its memory grows",
                    Example = "26 h",
                },
            ]
        );

    private static readonly Form<Excepted> Days = new(Excepted.Allowed, Excepted.TryRead, days => days.ToString())
    {
        AllowedFor = Excepted.AllowedFor,
    };

    private static Planned ReadExcepted(MapReader map, Planned planned)
    {
        var all = map.OneOrMore("except", Days);
        if (all.IsEmpty)
            return planned;
        var files = all.Select(one => one.File).OfType<string>().Distinct().ToList();
        if (files.Count > 1)
            map.Contradicts("except", $"{files.Count} files", "one file at most");
        return planned with { Except = new([.. all.SelectMany(one => one.Days)], files.FirstOrDefault()) };
    }

    private static Rhythm Read(string words) =>
        RhythmWords.TryRead(words, out var rhythm)
            ? rhythm
            : throw new ArgumentException($"'{words}' was read before", nameof(words));

    internal static void Check(MapReader map, Definition definition)
    {
        var periodic = definition.Program.Kind == ProgramKind.Periodic;
        if (periodic && !definition.Rhythm.Any(planned => planned is PlannedRun) && !map.IsWrong("rhythm"))
            map.Contradicts("rhythm", "none", "with kind: periodic, at least one run: [{ run: every 15 min }]");
        for (var i = 0; i < definition.Rhythm.Length; i++)
        {
            if (definition.Rhythm[i] is not PlannedQuiet && definition.Rhythm[i] is PlannedRun != periodic)
                map.Contradicts(
                    $"rhythm[{i}]",
                    periodic ? "a restart of a job" : "a run of a program that is no job",
                    periodic
                        ? "'run' and 'quiet', for a job (kind: periodic) ends by itself"
                        : "'restart' and 'quiet'; 'run' is for jobs (kind: periodic)"
                );
            if (
                definition.Rhythm[i] is PlannedRestart { CeilingWithin: not null }
                && definition.Resources.Memory is null
            )
                map.Contradicts(
                    $"rhythm[{i}].ceiling-within",
                    "a limit that its memory may reach, with no limit set",
                    "with resources.memory, such as 512 MiB"
                );
            if (definition.Rhythm[i] is { When: Every every, Spread: { } spread } && spread > every.Length)
                map.Contradicts(
                    $"rhythm[{i}].spread",
                    $"'{Duration.Write(spread)}', longer than what is between two moments",
                    $"at most {Duration.Write(every.Length)}"
                );
            if (definition.Rhythm.Take(i).Any(other => other.Of == definition.Rhythm[i].Of))
                map.Contradicts($"rhythm[{i}]", $"'{definition.Rhythm[i].When}' once more", "each rhythm once");
        }

        if (
            definition.Program.Kind == ProgramKind.Toggles
            && definition.Rhythm.Any(planned => planned is not PlannedQuiet)
        )
            map.Contradicts("rhythm", "a run or restart of what toggles", "quiet alone");
    }
}
