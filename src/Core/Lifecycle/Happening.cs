using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Lifecycle;

/// <summary>Something that happened to a service: a person's word, the keeper's news, or time passing.</summary>
public abstract record Happening;

/// <param name="WithoutNeeds">Its needs are passed over, this once.</param>
/// <param name="BringsBack">It ran, and was stopped for a while: whoever did that begins it again.</param>
public sealed record StartAsked(Principal By, bool WithoutNeeds = false, bool BringsBack = false) : Happening;

/// <param name="ThisRun">Of a job: its rhythm goes on.</param>
public sealed record StopAsked(Principal By, bool ThisRun = false) : Happening;

/// <summary>It was registered.</summary>
public sealed record Wrapped : Happening;

/// <summary>By people's clock a planned moment may have come.</summary>
/// <param name="ClockSet">Since the machine came up the clock is known to be set.</param>
public sealed record CalendarCame(bool ClockSet = true) : Happening;

/// <summary>The host is in another time zone: moments without a zone of their own are others.</summary>
public sealed record ZoneSet : Happening;

/// <summary>A file with days that its rhythm leaves out was read.</summary>
/// <param name="Wrong">Why it could not be, as a clause; null: it could.</param>
public sealed record DaysRead(string File, ImmutableSortedSet<DateOnly> Days, string? Wrong) : Happening;

/// <summary>The next planned moment is not to be.</summary>
public sealed record SkipAsked(Principal By) : Happening;

/// <summary>The next planned moment is now.</summary>
public sealed record AdvanceAsked(Principal By) : Happening;

/// <summary>Until then nothing of it is told; a time that is past ends what is under way.</summary>
/// <param name="NoRestarts">Nothing is restarted either.</param>
public sealed record QuietAsked(Principal By, DateTimeOffset Until, bool NoRestarts = false, string? Reason = null)
    : Happening;

/// <summary>In a quiet time the program asked for a person.</summary>
/// <param name="Said">As a sentence.</param>
public sealed record PersonAsked(string Said) : Happening;

/// <summary>The program needs nobody any more.</summary>
public sealed record PersonAnswered : Happening;

/// <summary>It was looked whether a restart that is due can be done.</summary>
/// <param name="Busy">What the program is busy with, as a clause; null: nothing.</param>
/// <param name="Memory">What is its own, in bytes; null: that is not known.</param>
/// <param name="Ceiling">When its memory reaches its limit, as it grows; null: it does not grow steadily, or was not asked for.</param>
public sealed record RestartWeighed(DateTimeOffset Moment, string? Busy, long? Memory, TimeSpan? Ceiling = null)
    : Happening;

public sealed record RestartAsked(Principal By) : Happening;

/// <summary>A person lets a service that is on hold try again.</summary>
public sealed record ReleaseAsked(Principal By) : Happening;

/// <summary>For so long nothing is done about what its watches find; zero: they count again.</summary>
public sealed record WatchesPaused(Principal By, TimeSpan Length) : Happening;

/// <summary>The time for winding down is over: what is left of a stop under way is ended by force.</summary>
public sealed record ForceAsked(Principal By) : Happening;

/// <summary>The service is to be removed; a live run is stopped cleanly first.</summary>
public sealed record UnwrapAsked(Principal By) : Happening;

/// <summary>The machine came up, or a drill has it that way.</summary>
/// <param name="Cause">Boot or drill.</param>
/// <param name="HeldBack">Somebody wants nothing begun at this boot.</param>
public sealed record MachineBegan(Cause Cause = Cause.Boot, bool HeldBack = false) : Happening;

/// <summary>All that begins with the machine has been proven or has come to rest otherwise.</summary>
public sealed record BootSettled : Happening;

/// <summary>Its needs were looked at.</summary>
/// <param name="Missing">For each need in the order of the definition what is not so, as a clause, or null.</param>
public sealed record NeedsSeen(ImmutableArray<string?> Missing) : Happening;

/// <summary>The machine has room for one more to begin.</summary>
/// <param name="Missing">Its needs as they are now, as in <see cref="NeedsSeen"/>: the wait for its turn may have been long.</param>
public sealed record TurnCame(ImmutableArray<string?> Missing) : Happening;

/// <summary>Its proof of readiness is there.</summary>
/// <param name="Seen">What proved it, as a clause.</param>
/// <param name="Usual">Median time from launch to proof of its earlier runs.</param>
public sealed record Proven(RunNumber Run, string Seen, TimeSpan? Usual = null) : Happening;

/// <summary>What the proof of readiness still lacks, as a clause.</summary>
public sealed record ProofMissing(RunNumber Run, string Missing) : Happening;

/// <summary>One of its watches looked.</summary>
/// <param name="Of">The watch, of the definition in effect.</param>
/// <param name="Bad">What is not as it should be, as a clause; null: all is well.</param>
/// <param name="Seen">What was seen, as a clause.</param>
public sealed record WatchSeen(RunNumber Run, Watch Of, string? Bad, string Seen) : Happening;

/// <summary>The display that it shows its windows on is gone, whatever became of the program.</summary>
/// <param name="Why">How it ended, as a clause; null: that is not known.</param>
public sealed record DisplayFell(RunNumber Run, string? Why = null) : Happening;

/// <summary>Its terminal, or its display, was looked at.</summary>
/// <param name="Text">As in <see cref="Question"/>, of at most <see cref="Question.Longest"/> characters; null: it asks nothing there.</param>
/// <param name="Place">As in <see cref="Question"/>.</param>
/// <param name="Lasts">It has waited for a while, and used no processor time.</param>
public sealed record QuestionSeen(
    RunNumber Run,
    string? Text,
    long Place = 0,
    bool Lasts = false,
    AskedAt At = AskedAt.Terminal
) : Happening;

/// <summary>What came of a step of the wind-down.</summary>
/// <param name="Failed">It could not be taken at all: waiting for its effect would be in vain.</param>
public sealed record StepAnswered(RunNumber Run, int Index, string Answer, bool Failed) : Happening;

/// <summary>A service it needs was ready and is no more.</summary>
public sealed record NeededLost(string Service) : Happening;

/// <summary>A service it needs is proven ready.</summary>
public sealed record NeededBack(string Service) : Happening;

/// <summary>A returning server has found out where every service stands.</summary>
public sealed record Resumed : Happening;

/// <summary>Another definition is in effect.</summary>
/// <param name="Was">The one until now.</param>
public sealed record Adjusted(Definition Was) : Happening;

public sealed record Launched(RunNumber Run, int Pid) : Happening;

/// <summary>The main process ended and others of its tree are left.</summary>
public sealed record MainEnded(RunNumber Run, Outcome Outcome) : Happening;

/// <summary>Of a program that put itself into the background: this process is the program.</summary>
public sealed record MainFound(RunNumber Run, int Pid) : Happening;

/// <summary>The run is over: its whole tree has ended, or it never came to run.</summary>
/// <param name="JudgesFiles">It was begun with new files, and its end says that they are not good: no failure of the service.</param>
public sealed record RunEnded(RunNumber Run, Outcome Outcome, bool JudgesFiles = false) : Happening;

/// <summary>
/// A returning server found that runs were ordered which the store had not heard of yet: all but the latest are over,
/// and their ends are given; what became of the latest is told next.
/// </summary>
/// <param name="Moment">Of a job: the moment that the latest was ordered for; null: none, or that is not known.</param>
/// <param name="LeftOut">The highest number that nothing is left of, and that may have been given; null: there is none.</param>
public sealed record RunsUnseen(
    ImmutableArray<UnseenEnd> Ended,
    RunNumber Latest,
    DateTimeOffset Began,
    DateTimeOffset? Moment = null,
    RunNumber? LeftOut = null
) : Happening;

/// <summary>
/// A run from before numbers were left out, of which it was not on record that it was ordered, was for this moment of a job.
/// </summary>
public sealed record MomentUnseen(DateTimeOffset Moment) : Happening;

public sealed record UnseenEnd(RunNumber Run, Outcome Outcome, DateTimeOffset At, DateTimeOffset? Moment = null);

/// <summary>A returning server found this run alive under its keeper.</summary>
public sealed record TakenUp(RunNumber Run, int Pid) : Happening;

/// <summary>The situation's <see cref="Situation.WakeAt"/> has come.</summary>
public sealed record TimeCame : Happening;
