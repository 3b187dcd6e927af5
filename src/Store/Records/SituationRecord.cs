using System.Collections.Immutable;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Store.Records;

/// <summary>Where a service stands, as it is stored (form 2). Lengths of time are in microseconds.</summary>
internal sealed record SituationRecord : IRecord
{
    public int Form { get; init; }

    public required string Phase { get; init; }

    public required DateTimeOffset Since { get; init; }

    public long LastRun { get; init; }

    public RunRecord? Run { get; init; }

    public AwaitedRecord? Awaited { get; init; }

    public ImmutableArray<string>? Lost { get; init; }

    public string? HeldFor { get; init; }

    public DateTimeOffset? WatchesPausedUntil { get; init; }

    public bool OnTrial { get; init; }

    public DateTimeOffset? WakeAt { get; init; }

    public int WindDownStep { get; init; }

    public ImmutableArray<StepRecord>? Steps { get; init; }

    public string? Afterwards { get; init; }

    public int Pauses { get; init; }

    public ImmutableArray<DateTimeOffset>? BadEnds { get; init; }

    public int FollowedUp { get; init; }

    public ImmutableArray<DateTimeOffset>? DisplayFalls { get; init; }

    public ImmutableArray<AnswerRecord>? Answers { get; init; }

    public int Restarts { get; init; }

    public EndRecord? LastEnd { get; init; }

    public AskingRecord? Asked { get; init; }

    public RhythmRecord? Rhythm { get; init; }

    public QuietRecord? Quiet { get; init; }

    public ClockRecord? Saved { get; init; }

    public static SituationRecord Of(Situation now) =>
        new()
        {
            Form = Forms.Situation,
            Phase = Words.Of(now.Phase),
            Since = now.Since,
            LastRun = now.LastRun,
            Run = now.Run is { } run ? RunRecord.Of(run) : null,
            Awaited = now.Awaited is { } awaited ? AwaitedRecord.Of(awaited) : null,
            Lost = Some(now.Lost),
            HeldFor = now.HeldFor,
            WatchesPausedUntil = now.WatchesPausedUntil,
            OnTrial = now.OnTrial,
            WakeAt = now.WakeAt,
            WindDownStep = now.WindDownStep,
            Steps = StepRecord.Of(now.Steps),
            Afterwards = now.Afterwards == default ? null : Words.Of(now.Afterwards),
            Pauses = now.Pauses,
            BadEnds = Some(now.BadEnds),
            FollowedUp = now.FollowedUp,
            DisplayFalls = Some(now.DisplayFalls),
            Answers = Some(now.Answers.ToRecords(given => new AnswerRecord(given.Question, given.Run, given.At))),
            Restarts = now.Restarts,
            LastEnd = now.LastEnd is { } end ? EndRecord.Of(end) : null,
            Asked = now.Asked is { } asked
                ? new(
                    Words.Of(asked.What),
                    asked.By.Name,
                    asked.At,
                    asked.By.Kind == default ? null : Words.Of(asked.By.Kind)
                )
                : null,
            Rhythm = now.Rhythm is { } rhythm ? RhythmRecord.Of(rhythm) : null,
            Quiet = now.Quiet is { } quiet
                ? new(
                    quiet.Began,
                    quiet.Until,
                    quiet.NoRestarts,
                    quiet.Reason,
                    quiet.Count,
                    Some(quiet.Withheld),
                    Some(quiet.Topics.Select(topic => topic is { } known ? Words.Of(known) : "").ToImmutableArray())
                )
                : null,
        };

    public Situation ToCore() =>
        new()
        {
            Phase = Words.To<Phase>(Phase),
            Since = Since,
            LastRun = new(LastRun),
            Run = Run?.ToCore(),
            Awaited = Awaited?.ToCore(),
            Lost = Lost ?? [],
            HeldFor = HeldFor,
            WatchesPausedUntil = WatchesPausedUntil,
            OnTrial = OnTrial,
            WakeAt = WakeAt,
            WindDownStep = WindDownStep,
            Steps = StepRecord.ToCore(Steps),
            Afterwards = Afterwards is { } then ? Words.To<Afterwards>(then) : default,
            Pauses = Pauses,
            BadEnds = BadEnds ?? [],
            FollowedUp = FollowedUp,
            DisplayFalls = DisplayFalls ?? [],
            Answers = (Answers ?? []).ToRecords(given => new AnswerGiven(given.Question, new(given.Run), given.At)),
            Restarts = Restarts,
            LastEnd = LastEnd?.ToCore(),
            Asked = Asked is { } asked
                ? new(
                    Words.To<AskedFor>(asked.What),
                    new(asked.By, asked.Kind is { } kind ? Words.To<PrincipalKind>(kind) : default),
                    asked.At
                )
                : null,
            Rhythm = Rhythm?.ToCore(),
            Quiet = Quiet is { } quiet
                ? new(quiet.Began, quiet.Until, quiet.NoRestarts, quiet.Reason, quiet.Count, quiet.Withheld ?? [])
                {
                    // Earlier versions did not write them down.
                    Topics =
                    [
                        .. (quiet.Topics ?? [])
                            .Concat(Enumerable.Repeat("", quiet.Withheld?.Length ?? 0))
                            .Take(quiet.Withheld?.Length ?? 0)
                            .Select(word => word.Length > 0 ? Words.To<Topic>(word) : (Topic?)null),
                    ],
                }
                : null,
        };

    internal static ImmutableArray<T>? Some<T>(ImmutableArray<T> all) => all.IsEmpty ? null : all;
}

internal sealed record QuietRecord(
    DateTimeOffset Began,
    DateTimeOffset Until,
    bool NoRestarts,
    string? Reason,
    int Count,
    ImmutableArray<string>? Withheld,
    ImmutableArray<string>? Topics = null
);

internal sealed record RhythmRecord
{
    public required ImmutableArray<RhythmPlaceRecord> Places { get; init; }

    public DateTimeOffset? Slot { get; init; }

    public string? SlotOf { get; init; }

    public int Tries { get; init; }

    public SlotRecord? Queued { get; init; }

    public DueRestartRecord? Restart { get; init; }

    public long Spared { get; init; }

    public DateTimeOffset? Restarting { get; init; }

    public DateTimeOffset? Good { get; init; }

    public bool Overdue { get; init; }

    public DateTimeOffset? ToldLate { get; init; }

    public DateTimeOffset? TellAt { get; init; }

    public ImmutableArray<FileDaysRecord>? Days { get; init; }

    public DateTimeOffset? ReadDaysAt { get; init; }

    public static RhythmRecord Of(RhythmState rhythm) =>
        new()
        {
            Places = rhythm.Places.ToRecords(place => new RhythmPlaceRecord(
                place.Of,
                place.Taken,
                place.Next,
                place.Due,
                place.Except
            )),
            Slot = rhythm.Slot,
            SlotOf = rhythm.SlotOf,
            Tries = rhythm.Tries,
            Queued = rhythm.Queued is { } queued ? new(queued.At, queued.Of) : null,
            Restart = rhythm.Restart is { } due ? new(due.Of, due.Moment, due.Latest, due.Busy, due.Goes) : null,
            Spared = rhythm.Spared,
            Restarting = rhythm.Restarting,
            Good = rhythm.Good,
            Overdue = rhythm.Overdue,
            ToldLate = rhythm.ToldLate,
            TellAt = rhythm.TellAt,
            Days = SituationRecord.Some(
                rhythm.Days.ToRecords(file => new FileDaysRecord(file.File, [.. file.Days], file.Wrong))
            ),
            ReadDaysAt = rhythm.ReadDaysAt,
        };

    public RhythmState ToCore() =>
        new(
            Places.ToRecords(place => new RhythmPlace(place.Of, place.Taken, place.Next, place.Due)
            {
                Except = place.Except,
            })
        )
        {
            Slot = Slot,
            SlotOf = SlotOf,
            Tries = Tries,
            Queued = Queued is { } queued ? (queued.At, queued.Of) : null,
            Restart = Restart is { } due
                ? new(due.Of, due.Moment, due.Latest) { Busy = due.Busy, Goes = due.Goes }
                : null,
            Spared = Spared,
            Restarting = Restarting,
            Good = Good,
            Overdue = Overdue,
            ToldLate = ToldLate,
            TellAt = TellAt,
            Days = (Days ?? []).ToRecords(file => new FileDays(file.File, [.. file.Days], file.Wrong)),
            ReadDaysAt = ReadDaysAt,
        };
}

internal sealed record FileDaysRecord(string File, ImmutableArray<DateOnly> Days, string? Wrong);

internal sealed record RhythmPlaceRecord(
    string Of,
    DateTimeOffset Taken,
    DateTimeOffset? Next,
    DateTimeOffset? Due,
    string? Except = null
);

internal sealed record SlotRecord(DateTimeOffset At, string Of);

internal sealed record DueRestartRecord(
    string Of,
    DateTimeOffset Moment,
    DateTimeOffset Latest,
    string? Busy,
    bool Goes
);

internal sealed record ClockRecord(DateTimeOffset Wall, long Forward);

/// <param name="Kind">Of who asked; null: an account.</param>
internal sealed record AskingRecord(string What, string By, DateTimeOffset At, string? Kind);

/// <param name="Core">The kernel wrote a core dump.</param>
internal sealed record OutcomeRecord(string Kind, int Code, bool Core, string? Detail)
{
    public static OutcomeRecord Of(Outcome outcome) =>
        new(Words.Of(outcome.Kind), outcome.Code, outcome.Core, outcome.Detail);

    public Outcome ToCore() => new(Words.To<OutcomeKind>(Kind), Code, Core, Detail);
}

internal sealed record RunRecord
{
    public required long Number { get; init; }

    public required string Cause { get; init; }

    public required DateTimeOffset Began { get; init; }

    public int? Pid { get; init; }

    public DateTimeOffset? Launched { get; init; }

    public OutcomeRecord? MainOutcome { get; init; }

    public bool Detached { get; init; }

    public string? Switch { get; init; }

    /// <summary>What its group and mark are named after, where that is not the service's id.</summary>
    public string? Label { get; init; }

    public DateTimeOffset? Wanted { get; init; }

    public ImmutableArray<WaitedRecord>? Waited { get; init; }

    public DateTimeOffset? Proven { get; init; }

    public string? Proof { get; init; }

    public string? Missing { get; init; }

    public bool Overdue { get; init; }

    public OutcomeRecord? EndedFor { get; init; }

    public ImmutableArray<WatchedRecord>? Watched { get; init; }

    public QuestionRecord? Question { get; init; }

    public QuestionRecord? Dialog { get; init; }

    public static RunRecord Of(LiveRun run) =>
        new()
        {
            Number = run.Number,
            Cause = Words.Of(run.Cause),
            Began = run.Began,
            Pid = run.Pid,
            Launched = run.Launched,
            MainOutcome = run.MainOutcome is { } main ? OutcomeRecord.Of(main) : null,
            Detached = run.Detached,
            Switch = run.Switch == default ? null : Words.Of(run.Switch),
            Label = run.Label,
            Wanted = run.Wanted == run.Began ? null : run.Wanted,
            Waited = SituationRecord.Some(
                run.Waited.ToRecords(one => new WaitedRecord(one.What, Micros.Of(one.Length), one.PassedOver))
            ),
            Proven = run.Proven,
            Proof = run.Proof,
            Missing = run.Missing,
            Overdue = run.Overdue,
            EndedFor = run.EndedFor is { } reason ? OutcomeRecord.Of(reason) : null,
            Watched = SituationRecord.Some(
                run.Watched.ToRecords(one => new WatchedRecord(one.Bad, one.Since, one.Seen, one.PoorSince, one.Of))
            ),
            Question = QuestionRecord.Of(run.Question),
            Dialog = QuestionRecord.Of(run.Dialog),
        };

    public LiveRun ToCore() =>
        new(new(Number), Words.To<Cause>(Cause), Began, Pid, Launched, MainOutcome?.ToCore(), Detached)
        {
            Switch = Switch is { } at ? Words.To<Switch>(at) : default,
            Label = Label,
            Wanted = Wanted ?? Began,
            Waited = (Waited ?? []).ToRecords(one => new WaitedFor(one.What, Micros.To(one.Length), one.PassedOver)),
            Proven = Proven,
            Proof = Proof,
            Missing = Missing,
            Overdue = Overdue,
            EndedFor = EndedFor?.ToCore(),
            Watched = (Watched ?? []).ToRecords(one => new WatchState(one.Bad, one.Since, one.Seen)
            {
                PoorSince = one.PoorSince,
                Of = one.Of,
            }),
            Question = Question?.ToCore(),
            Dialog = Dialog?.ToCore(),
        };
}

internal sealed record QuestionRecord(string Text, long Place, DateTimeOffset Since, bool Answered, string? Told)
{
    public static QuestionRecord? Of(Question? asked) =>
        asked is null ? null : new(asked.Text, asked.Place, asked.Since, asked.Answered, asked.Told);

    public Question ToCore() => new(Text, Place, Since) { Answered = Answered, Told = Told };
}

internal sealed record AnswerRecord(string Question, long Run, DateTimeOffset At);

internal sealed record WaitedRecord(string What, long Length, bool PassedOver);

internal sealed record WatchedRecord(
    int Bad,
    DateTimeOffset? Since,
    string? Seen,
    DateTimeOffset? PoorSince,
    string? Of
);

internal sealed record AwaitedRecord(string Cause, DateTimeOffset Since, string Step, ImmutableArray<NeedRecord>? Needs)
{
    public static AwaitedRecord Of(Awaited awaited) =>
        new(
            Words.Of(awaited.Cause),
            awaited.Since,
            Words.Of(awaited.Step),
            SituationRecord.Some(
                awaited.Needs.ToRecords(need => new NeedRecord(
                    need.Missing,
                    need.Limit,
                    need.MetAt,
                    need.PassedOver,
                    need.Told,
                    need.Of
                ))
            )
        );

    public Awaited ToCore() =>
        new(
            Words.To<Cause>(Cause),
            Since,
            Words.To<AwaitStep>(Step),
            (Needs ?? []).ToRecords(need => new NeedState(need.Missing, need.Limit)
            {
                MetAt = need.MetAt,
                PassedOver = need.PassedOver,
                Told = need.Told,
                Of = need.Of,
            })
        );
}

internal sealed record NeedRecord(
    string? Missing,
    DateTimeOffset Limit,
    DateTimeOffset? MetAt,
    bool PassedOver,
    bool Told,
    string? Of
);

internal sealed record StepRecord(
    int Index,
    string What,
    DateTimeOffset At,
    string? Answer,
    bool Failed,
    long? EndedAfter
)
{
    public static ImmutableArray<StepRecord>? Of(ImmutableArray<StepTaken> steps) =>
        SituationRecord.Some(
            steps.ToRecords(step => new StepRecord(
                step.Index,
                step.What,
                step.At,
                step.Answer,
                step.Failed,
                step.EndedAfter is { } after ? Micros.Of(after) : null
            ))
        );

    public static ImmutableArray<StepTaken> ToCore(ImmutableArray<StepRecord>? steps) =>
        (steps ?? []).ToRecords(step => new StepTaken(step.Index, step.What, step.At)
        {
            Answer = step.Answer,
            Failed = step.Failed,
            EndedAfter = step.EndedAfter is { } after ? Micros.To(after) : null,
        });
}

internal sealed record EndRecord(
    long Run,
    OutcomeRecord Outcome,
    DateTimeOffset At,
    bool AsAsked,
    bool Forced,
    bool FailedStart,
    bool Bad,
    ImmutableArray<StepRecord>? Steps
)
{
    public static EndRecord Of(LastEnd end) =>
        new(
            end.Run,
            OutcomeRecord.Of(end.Outcome),
            end.At,
            end.AsAsked,
            end.Forced,
            end.FailedStart,
            end.Bad,
            StepRecord.Of(end.Steps)
        );

    public LastEnd ToCore() =>
        new(new(Run), Outcome.ToCore(), At, AsAsked, Forced)
        {
            FailedStart = FailedStart,
            Bad = Bad,
            Steps = StepRecord.ToCore(Steps),
        };
}
