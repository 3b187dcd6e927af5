using System.Collections.Immutable;
using System.Globalization;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Entries;

// The sentry itself

public sealed record DiskWillFillEntry(string Path, TimeSpan Until, string Left) : Entry
{
    protected override EntryFields Own => Fielded(name: Path, limit: Until, seen: Left);
    protected override string Sentence =>
        $"The disk of {Path} will be full in {Hours(Until)} at the rate of the last day: {Left} are left.";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.Disk : null;
}

public sealed record MemoryWillFillEntry(TimeSpan Until, string Left) : Entry
{
    protected override EntryFields Own => Fielded(limit: Until, seen: Left);
    protected override string Sentence =>
        $"This machine's memory will run out in {Hours(Until)} at the rate of the last day: {Left} are left.";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.MachineMemory : null;
}

/// <summary>A check finds what it did not find before.</summary>
/// <param name="Finding">Its word.</param>
/// <param name="Seen">Sentences.</param>
public sealed record FoundEntry(string Finding, string Seen) : Entry
{
    protected override EntryFields Own => Fielded(name: Finding, seen: Seen);
    protected override string Sentence => $"A check finds {Finding}: {Seen}";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.Expiring : null;
}

/// <summary>A copy of a running program, outside the sentry.</summary>
/// <param name="Copy">What it is, as a clause.</param>
public sealed record CopySeenEntry(int? Pid, string Copy) : Entry
{
    protected override EntryFields Own => Fielded(pid: Pid, seen: Copy);
    protected override string Sentence => $"A copy of it runs outside the sentry: {Copy}.";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.Copy : null;
}

/// <summary>The same program, of an account that has no say in the service.</summary>
public sealed record CopyNamedEntry(int? Pid, string Copy) : Entry
{
    protected override EntryFields Own => Fielded(pid: Pid, seen: Copy);
    protected override string Sentence => $"Another account runs the same program, in nobody's way: {Copy}.";
}

/// <summary>A copy that was seen is not beside the program any more.</summary>
/// <param name="Left">How many others still are.</param>
/// <param name="Why">As a clause.</param>
public sealed record CopyOverEntry(int? Pid, long Left, string Why) : Entry
{
    protected override EntryFields Own => Fielded(pid: Pid, count: Left, seen: Why);
    protected override string Sentence =>
        $"A copy outside the sentry (pid {Pid}) is no longer beside it: {Why}."
        + (Left > 0 ? $" {(Left == 1 ? "Another one is" : $"{Left} others are")}." : "");

    public override Topic? Ends => Left == 0 ? Topic.Copy : null;
}

/// <param name="Why">As a clause.</param>
public sealed record ForwardStuckEntry(string Target, TimeSpan For, string Why) : Entry
{
    protected override EntryFields Own => Fielded(name: Target, limit: For, seen: Why);
    protected override string Sentence =>
        $"The logbook has not been forwarded to {Target} for {Duration.Write(For)}: {Why}. What comes meanwhile waits.";
}

public sealed record ForwardedAgainEntry(string Target) : Entry
{
    protected override EntryFields Own => Fielded(name: Target);
    protected override string Sentence => $"The logbook is forwarded to {Target} again, with all that waited.";
}

public sealed record NotForwardedEntry(string Target, long Entries) : Entry
{
    protected override EntryFields Own => Fielded(name: Target, count: Entries);
    protected override string Sentence => $"{Entries} entries were dropped before they could be forwarded to {Target}.";
}

/// <summary>Messages do not get to a recipient.</summary>
/// <param name="Why">As a clause.</param>
public sealed record TellStuckEntry(string Recipient, TimeSpan For, string Why) : Entry
{
    protected override EntryFields Own => Fielded(name: Recipient, limit: For, seen: Why);
    protected override string Sentence =>
        $"Nobody at {Recipient} can be told for {Duration.Write(For)}: {Why}. What there is to tell waits.";
}

public sealed record ToldAgainEntry(string Recipient) : Entry
{
    protected override EntryFields Own => Fielded(name: Recipient);
    protected override string Sentence => $"Messages get to {Recipient} again, with all that waited.";
}

/// <summary>A message was refused for good.</summary>
/// <param name="Why">As a clause.</param>
public sealed record NotToldEntry(string Recipient, long Message, string Why) : Entry
{
    protected override EntryFields Own => Fielded(name: Recipient, count: Message, seen: Why);
    protected override string Sentence => $"Message {Message} to {Recipient} was refused for good: {Why}.";
}

/// <summary>The sign of life did not get to its address.</summary>
/// <param name="Why">As a clause.</param>
public sealed record SignalMissedEntry(string Address, string Why) : Entry
{
    protected override EntryFields Own => Fielded(name: Address, seen: Why);
    protected override string Sentence => $"The sign of life did not get to {Address}: {Why}.";
}

public sealed record SignalArrivesEntry(string Address, long Missed) : Entry
{
    protected override EntryFields Own => Fielded(name: Address, count: Missed);
    protected override string Sentence =>
        $"The sign of life gets to {Address} again; {Missed} {(Missed == 1 ? "was" : "were")} missed.";
}

/// <summary>Somebody looks at an alert.</summary>
public sealed record AcknowledgedEntry(long Alert, string Subject, string? Note) : Entry
{
    /// <summary>It is put aside until then; null: until it is over.</summary>
    public DateTimeOffset? Until { get; init; }

    protected override EntryFields Own => Fielded(count: Alert, name: Subject, seen: Note, moment: Until);
    protected override string Sentence =>
        $"Alert {Alert} ({Subject}) is {(Until is { } until ? $"put aside until {At(until)}" : "acknowledged")}{(Note is { } word ? $": {word.TrimEnd('.')}" : "")}.";
}

/// <summary>Somebody says that it is done with.</summary>
public sealed record AlertClosedEntry(long Alert, string Subject) : Entry
{
    protected override EntryFields Own => Fielded(count: Alert, name: Subject);
    protected override string Sentence => $"Alert {Alert} ({Subject}) is closed.";
}

/// <param name="Hash">Of the last entry that was dropped.</param>
public sealed record LogbookCutEntry(long UpTo, string Hash) : Entry
{
    protected override EntryFields Own => Fielded(count: UpTo, seen: Hash);
    protected override string Sentence =>
        $"Entries up to number {UpTo} are dropped as too old or too many; the last of them had the hash {Hash}.";
}

/// <summary>
/// Of older entries only the digest is kept from here on. It is told in the chain, so that nobody else can let an entry's content go unseen.
/// </summary>
/// <param name="Whose">The service they are about; null: several, as of those that an earlier version let go.</param>
/// <param name="Hash">Of their numbers and digests, in order (SHA-256).</param>
public sealed record LogbookEmptiedEntry(long Count, long First, long Last, string? Whose, string Hash) : Entry
{
    protected override EntryFields Own =>
        Fielded(count: Count, name: Whose, seen: Hash, names: [Written(First), Written(Last)]);
    protected override string Sentence =>
        $"Of {Count} entries {(Whose is { } whose ? $"about {whose}" : "about several services")}, from {First} to {Last}, only the digests are kept from here on.";

    public static LogbookEmptiedEntry Read(EntryFields f) =>
        f.Names is [var from, var to]
        && long.TryParse(from, NumberStyles.None, CultureInfo.InvariantCulture, out var first)
        && long.TryParse(to, NumberStyles.None, CultureInfo.InvariantCulture, out var last)
            ? new(f.Count.Needed(), first, last, f.Name, f.Seen.Needed())
            : throw new EntryFieldsException();

    private static string Written(long number) => number.ToString(CultureInfo.InvariantCulture);
}

/// <summary>The settings' file has a mistake; what was good before goes on holding.</summary>
/// <param name="Seen">What is wrong, and where.</param>
public sealed record SettingsWrongEntry(string Seen) : Entry
{
    protected override EntryFields Own => Fielded(seen: Seen);
    protected override string Sentence =>
        $"The settings have a mistake, and what was good before holds: {Seen.TrimEnd('.')}.";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.Settings : null;
}

/// <summary>The settings were changed by hand, and are good.</summary>
/// <param name="Owner">Whose file it is.</param>
/// <param name="Keys">What is otherwise; none: a mistake was taken out again.</param>
/// <param name="Later">What of it holds from the sentry's next start on.</param>
public sealed record SettingsTakenEntry(string Owner, ImmutableArray<string> Keys, string? Later) : Entry
{
    protected override EntryFields Own => Fielded(name: Owner, names: Keys, seen: Later);
    protected override string Sentence =>
        Keys.IsEmpty
            ? "The settings have no mistake any more, and are as they were."
            : $"The settings were changed in a file of {Owner}: {string.Join(", ", Keys)}"
                + (Later is { } later ? $"; from the sentry's next start on: {later}." : ".");

    public override Topic? Ends => Topic.Settings;
}

/// <param name="Why">As a clause.</param>
public sealed record LogbookBrokenEntry(string Why) : Entry
{
    protected override EntryFields Own => Fielded(seen: Why);
    protected override string Sentence => $"The logbook is not as it was written: {Why}.";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.Logbook : null;
}

/// <param name="Where">Its root and its host.</param>
public sealed record ServingEntry(string Version, string Where, int? Pid) : Entry
{
    protected override EntryFields Own => Fielded(name: Version, seen: Where, pid: Pid);
    protected override string Sentence => $"calm-sentry {Version} serves {Where} as pid {Pid}.";
}

/// <summary>For a while there was no server.</summary>
/// <param name="Asked">It had ended because somebody wanted it so.</param>
public sealed record AbsentEntry(DateTimeOffset Since, TimeSpan For, bool Asked) : Entry
{
    protected override EntryFields Own => Fielded(moment: Since, took: For, forced: !Asked);
    protected override string Sentence =>
        $"The sentry was not there from {At(Since)} on, for {Duration.Write(TimeSpan.FromSeconds(Math.Round(For.TotalSeconds)))}: "
        + $"it had {(Asked ? "been ended" : "ended without being asked")}. Programs ran on; what became of them is in the logbook.";
}

/// <summary>What the guard of the server saw, or what became of it.</summary>
/// <param name="Said">Sentences.</param>
public sealed record GuardEntry(string Said, int? Pid = null) : Entry
{
    protected override EntryFields Own => Fielded(seen: Said, pid: Pid);
    protected override string Sentence => Said;

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? null : Topic.Unclean;
}

/// <summary>The sentry itself is at fault.</summary>
/// <param name="Said">Sentences.</param>
public sealed record TroubleEntry(string Said) : Entry
{
    protected override EntryFields Own => Fielded(seen: Said);
    protected override string Sentence => Said;
}

/// <param name="Stopped">How many services it stops; null: it is over.</param>
/// <param name="Said">What came of it, as sentences; null: it begins.</param>
public sealed record DrillEntry(long? Stopped = null, string? Said = null) : Entry
{
    protected override EntryFields Own => Fielded(count: Stopped, seen: Said);
    protected override string Sentence =>
        Stopped is { } stopped
            ? $"Drill: {SoMany(stopped)} stopped, then started as a boot would start them."
            : $"The drill: {Said}";
}

/// <param name="Said">How services started, as sentences.</param>
public sealed record BootEntry(string Said) : Entry
{
    protected override EntryFields Own => Fielded(seen: Said);
    protected override string Sentence => $"After the machine came up: {Said}";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? null : Topic.Boot;
}

/// <param name="Said">How services started, as sentences.</param>
public sealed record StartEntry(string Said) : Entry
{
    protected override EntryFields Own => Fielded(seen: Said);
    protected override string Sentence => $"After the start: {Said}";
}

public sealed record WindingDownEntry(TimeSpan Limit) : Entry
{
    protected override EntryFields Own => Fielded(limit: Limit);
    protected override string Sentence => $"All services are stopped in order, within {Duration.Write(Limit)}.";
}

public sealed record TimeOverEntry(TimeSpan Limit) : Entry
{
    protected override EntryFields Own => Fielded(limit: Limit);
    protected override string Sentence =>
        $"The {Duration.Write(Limit)} for stopping all services are over; what is left is killed.";
}

/// <param name="Names">In the order in which they ended.</param>
public sealed record WoundDownEntry(long Count, ImmutableArray<string> Names) : Entry
{
    protected override EntryFields Own => Fielded(count: Count, names: Names);
    protected override string Sentence =>
        $"{SoMany(Count)} stopped{(Names.IsEmpty ? "" : $", in this order: {Listed(Names)}")}.";
}

/// <param name="Left">Services that had not ended.</param>
public sealed record NotWoundDownEntry(ImmutableArray<string> Left) : Entry
{
    protected override EntryFields Own => Fielded(names: Left);
    protected override string Sentence =>
        Left.IsEmpty
            ? "The machine went down after all was wound down, before that was on record."
            : $"The machine went down before all was wound down: {Listed(Left)} had not ended.";
}

/// <param name="Plan">As people call it.</param>
public sealed record PlanTakenUpEntry(string Plan) : Entry
{
    protected override EntryFields Own => Fielded(name: Plan);
    protected override string Sentence =>
        $"The server before was lost in the middle of a {Plan}; this one goes on with it.";
}

internal static class SentryEntries
{
    public static ImmutableArray<EntryKind> Kinds { get; } =
    [
        EntryKind.Of(
            f => new DiskWillFillEntry(f.Name.Needed(), f.Limit.Needed(), f.Seen.Needed()),
            EntrySeverity.Warning
        ),
        EntryKind.Of(f => new MemoryWillFillEntry(f.Limit.Needed(), f.Seen.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new FoundEntry(f.Name.Needed(), f.Seen.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new CopySeenEntry(f.Pid, f.Seen.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new CopyNamedEntry(f.Pid, f.Seen.Needed())),
        EntryKind.Of(f => new CopyOverEntry(f.Pid, f.Count ?? 0, f.Seen.Needed())),
        EntryKind.Of(f => new ForwardStuckEntry(f.Name.Needed(), f.Limit.Needed(), f.Seen.Needed())),
        EntryKind.Of(f => new ForwardedAgainEntry(f.Name.Needed())),
        EntryKind.Of(f => new NotForwardedEntry(f.Name.Needed(), f.Count.Needed())),
        EntryKind.Of(
            f => new TellStuckEntry(f.Name.Needed(), f.Limit.Needed(), f.Seen.Needed()),
            EntrySeverity.Warning
        ),
        EntryKind.Of(f => new ToldAgainEntry(f.Name.Needed())),
        EntryKind.Of(f => new NotToldEntry(f.Name.Needed(), f.Count.Needed(), f.Seen.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new SignalMissedEntry(f.Name.Needed(), f.Seen.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new SignalArrivesEntry(f.Name.Needed(), f.Count.Needed())),
        EntryKind.Of(f => new AcknowledgedEntry(f.Count.Needed(), f.Name.Needed(), f.Seen) { Until = f.Moment }),
        EntryKind.Of(f => new AlertClosedEntry(f.Count.Needed(), f.Name.Needed())),
        EntryKind.Of(f => new LogbookCutEntry(f.Count.Needed(), f.Seen.Needed()), EntrySeverity.Notice),
        EntryKind.Of(LogbookEmptiedEntry.Read),
        EntryKind.Of(f => new SettingsWrongEntry(f.Seen.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new SettingsTakenEntry(f.Name.Needed(), f.Names, f.Seen), EntrySeverity.Notice),
        EntryKind.Of(f => new LogbookBrokenEntry(f.Seen.Needed()), EntrySeverity.Critical),
        EntryKind.Of(f => new ServingEntry(f.Name.Needed(), f.Seen.Needed(), f.Pid)),
        EntryKind.Of(f => new AbsentEntry(f.Moment.Needed(), f.Took.Needed(), !f.Forced), EntrySeverity.Warning),
        EntryKind.Of(f => new GuardEntry(f.Seen.Needed(), f.Pid)),
        EntryKind.Of(f => new TroubleEntry(f.Seen.Needed()), EntrySeverity.Error),
        EntryKind.Of(f => new DrillEntry(f.Count, f.Seen)),
        EntryKind.Of(f => new BootEntry(f.Seen.Needed())),
        EntryKind.Of(f => new StartEntry(f.Seen.Needed())),
        EntryKind.Of(f => new WindingDownEntry(f.Limit.Needed())),
        EntryKind.Of(f => new TimeOverEntry(f.Limit.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new WoundDownEntry(f.Count ?? 0, f.Names)),
        EntryKind.Of(f => new NotWoundDownEntry(f.Names), EntrySeverity.Warning),
        EntryKind.Of(f => new PlanTakenUpEntry(f.Name.Needed())),
    ];
}
