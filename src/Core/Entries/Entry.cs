using System.Collections.Immutable;
using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Entries;

/// <summary>How bad what happened is (RFC 5424, section 6.2.1).</summary>
public enum EntrySeverity
{
    Emergency,
    Alert,
    Critical,
    Error,
    Warning,
    Notice,
    Informational,
    Debug,
}

/// <summary>
/// One thing that happened, as data. Every kind is a record of its own, which says what it has, how bad it is, what people are told of it
/// and how it reads; the kinds stand in this folder, a file a chapter, each with the list that reads them back. Nothing reads a sentence.
/// </summary>
public abstract record Entry
{
    /// <summary>Where whoever asked for it sat: <c>console</c>, or a terminal.</summary>
    public string? From { get; init; }

    public virtual EntryKind Kind => EntryKinds.Of(GetType());

    /// <summary>What is stored and sent of it.</summary>
    public EntryFields Fields => Own with { From = From };

    /// <summary>As people read it. What is somebody else's in it can neither begin a line nor be obeyed by whatever shows it.</summary>
    public string Text
    {
        get
        {
            try
            {
                return Shown.Line(Sentence);
            }
            catch (EntryFieldsException)
            {
                // Somebody changed it behind the sentry's back: that keeps nobody from reading the rest.
                return $"An entry '{Kind}' whose fields do not fit it.";
            }
        }
    }

    protected virtual EntryFields Own => EntryFields.None;

    /// <exception cref="EntryFieldsException">It needs a field that is missing.</exception>
    protected abstract string Sentence { get; }

    protected virtual EntrySeverity Severity => Kind.Severity;

    /// <param name="tells">A person is to hear of it.</param>
    public EntrySeverity SeverityIf(bool tells) => tells ? EntrySeverity.Alert : Severity;

    /// <summary>What an alert would be about.</summary>
    /// <param name="tells">A person is to hear of it.</param>
    /// <param name="isJob">It is about a job.</param>
    /// <returns>Null: nobody is told of such an entry.</returns>
    public virtual Topic? TopicIf(bool tells, bool isJob) => null;

    /// <summary>What was told of its service until then, and is over with it; null: nothing is.</summary>
    public virtual Topic? Ends => null;

    /// <summary>Of what it tells, or ends: where it is seen of the service; null: its program says it.</summary>
    public virtual AskedAt? Asks { get; init; }

    /// <summary>Fields by their names.</summary>
    private protected static EntryFields Fielded(
        RunNumber? run = null,
        int? pid = null,
        Outcome? outcome = null,
        bool failedStart = false,
        bool forced = false,
        TimeSpan? took = null,
        TimeSpan? usual = null,
        TimeSpan? limit = null,
        TimeSpan? pause = null,
        DateTimeOffset? moment = null,
        long? count = null,
        int? revision = null,
        string? name = null,
        ImmutableArray<string>? names = null,
        string? about = null,
        string? seen = null,
        ImmutableArray<DefinitionChange>? changes = null,
        EntryNext next = EntryNext.Nothing
    ) =>
        new()
        {
            Run = run,
            Pid = pid,
            Outcome = outcome,
            FailedStart = failedStart,
            Forced = forced,
            Took = took,
            Usual = usual,
            Limit = limit,
            Pause = pause,
            Moment = moment,
            Count = count,
            Revision = revision,
            Name = name,
            Names = names ?? [],
            About = about,
            Seen = seen,
            Changes = changes ?? [],
            Next = next,
        };

    /// <summary>A planned moment, by the host's clock.</summary>
    private protected static string At(DateTimeOffset moment) =>
        WallClock.In(moment, TimeZoneInfo.Local).ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture);

    private protected static string Hours(TimeSpan until) =>
        Duration.Write(TimeSpan.FromHours(Math.Max(1, Math.Round(until.TotalHours))));

    private protected static string SoMany(long count) => count == 1 ? "1 service was" : $"{count} services were";

    private protected static string Listed(ImmutableArray<string> names) => string.Join(", ", names);
}

/// <summary>What is stored and sent of an entry, whatever its kind.</summary>
public sealed record EntryFields
{
    public static EntryFields None { get; } = new();

    public RunNumber? Run { get; init; }

    public int? Pid { get; init; }

    public Outcome? Outcome { get; init; }

    /// <summary>It ended before it was proven.</summary>
    public bool FailedStart { get; init; }

    /// <summary>More than what is usual was done: the steps of a wind-down did not suffice, nothing is restarted.</summary>
    public bool Forced { get; init; }

    /// <summary>How long it took.</summary>
    public TimeSpan? Took { get; init; }

    /// <summary>How long it usually takes.</summary>
    public TimeSpan? Usual { get; init; }

    /// <summary>The limit it was to keep.</summary>
    public TimeSpan? Limit { get; init; }

    /// <summary>Until the next try.</summary>
    public TimeSpan? Pause { get; init; }

    /// <summary>The planned moment it is about.</summary>
    public DateTimeOffset? Moment { get; init; }

    /// <summary>How many: bad looks, failures, processes, bytes.</summary>
    public long? Count { get; init; }

    public int? Revision { get; init; }

    /// <summary>What it is about beside its service: another service, an account, a secret, a step, a path.</summary>
    public string? Name { get; init; }

    public ImmutableArray<string> Names { get; init; } = [];

    /// <summary>By what that is known again, where its name is what people call it: a need's.</summary>
    public string? About { get; init; }

    /// <summary>What was seen or answered by something outside, as a clause: evidence.</summary>
    public string? Seen { get; init; }

    public ImmutableArray<DefinitionChange> Changes { get; init; } = [];

    /// <summary>Where whoever asked for it sat.</summary>
    public string? From { get; init; }

    public EntryNext Next { get; init; }
}

/// <summary>What follows of itself from something that happened.</summary>
public enum EntryNext
{
    Nothing,

    /// <summary>Restarted after a pause.</summary>
    Restart,
    StaysStopped,

    /// <summary>It stays stopped, and what needs it is stopped.</summary>
    StopsDependents,
    Hold,

    /// <summary>It was tried while on hold, and is on hold again.</summary>
    HoldAgain,
    KeepsWaiting,
    GoesAhead,
    KeepsRunning,

    /// <summary>It is stopped and started again.</summary>
    StopAndRestart,

    /// <summary>It is killed and started again.</summary>
    KillAndRestart,
    NextStep,

    /// <summary>What is left of it is killed.</summary>
    Kill,

    /// <summary>It rests until its next moment.</summary>
    Rests,

    /// <summary>The files that it had before are put back.</summary>
    FilesBefore,
}

internal static class EntryNexts
{
    /// <summary>As a sentence that follows one; empty: there is nothing to say.</summary>
    public static string InWords(this EntryNext next) =>
        next switch
        {
            EntryNext.KeepsWaiting => "An alert is raised and it keeps waiting.",
            EntryNext.GoesAhead => "It starts without it.",
            EntryNext.Hold => "It is put on hold; 'calm release' or a start tries it again.",
            EntryNext.KeepsRunning => "An alert is raised and it keeps running.",
            EntryNext.StopAndRestart => "It is stopped and restarted.",
            EntryNext.KillAndRestart => "It is killed and restarted.",
            EntryNext.NextStep => "The next step follows.",
            EntryNext.Kill => "What is left of it is killed.",
            _ => "",
        };
}
