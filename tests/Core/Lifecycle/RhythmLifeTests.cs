using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Runs;
using CsCheck;

namespace CalmSentry.Tests.Core.Lifecycle;

/// <summary>What comes of planned moments: runs, restarts, and what is left out, each moment once.</summary>
public class RhythmLifeTests
{
    private static readonly PlannedRun QuarterHourly = new(Words("every 15 min from 00:00")) { Zone = "UTC" };

    private static Rhythm Words(string words)
    {
        Assert.True(RhythmWords.TryRead(words, out var rhythm));
        return rhythm!;
    }

    private static Definition Job(params Planned[] rhythm) =>
        AnyLife.Usual with
        {
            Program = AnyLife.Usual.Program with { Kind = ProgramKind.Periodic },
            Rhythm = [.. rhythm],
        };

    private static World Wrapped(params Planned[] rhythm)
    {
        var world = new World(Job(rhythm));
        world.Happens(new Wrapped());
        Assert.Equal(Phase.Resting, world.Situation.Phase);
        return world;
    }

    private static World Running(params Planned[] rhythm)
    {
        var world = new World(AnyLife.Usual with { Rhythm = [.. rhythm] });
        world.Happens(new StartAsked(new("anna")));
        Up(world);
        return world;
    }

    private static void Up(World world)
    {
        world.Launch();
        world.PassToNextDecision();
        Assert.Equal(Phase.Running, world.Situation.Phase);
    }

    private static List<T> Said<T>(World world)
        where T : Entry => [.. world.Done.OfType<Note>().Select(note => note.Entry).OfType<T>()];

    private static readonly Outcome Good = new(OutcomeKind.Exited),
        Failed = new(OutcomeKind.Exited, 1);

    // Jobs

    [Fact]
    public void A_job_runs_at_its_moments_and_rests_between()
    {
        var world = Wrapped(QuarterHourly);
        for (var i = 0; i < 96; i++)
        {
            Assert.True(world.PassToNextMoment());
            Assert.Equal(0, world.Now.Minute % 15);
            Assert.Equal((Cause.Rhythm, Phase.Starting), (world.Situation.Run!.Cause, world.Situation.Phase));
            world.Launch();
            world.End(Good);
            Assert.Equal(Phase.Resting, world.Situation.Phase);
            Assert.IsType<Dismiss>(world.Done.Last(deed => deed is not Note)); // resting jobs keep no keeper
        }

        Assert.Equal(96, world.Launches);
    }

    [Fact]
    public void Days_that_are_left_out_bring_nothing_and_those_of_a_file_are_read_once_a_day()
    {
        const string file = "/srv/skerry/days";
        var world = Wrapped(new PlannedRun(Words("daily at 03:00")) { Zone = "UTC", Except = new([Day(2)], file) });
        var ran = new List<DateOnly>();
        for (var end = world.Now.AddDays(12); world.Now < end; )
        {
            var asked = world.Done.OfType<ReadDays>().Count();
            world.PassToNextMoment();
            var today = DateOnly.FromDateTime(world.Now.UtcDateTime);
            if (world.Done.OfType<ReadDays>().Count() > asked)
                world.Happens(
                    new DaysRead(
                        file,
                        today < Day(5) ? [Day(4), Day(7)] : [],
                        today >= Day(5) && today < Day(9) ? "it is gone" : null
                    )
                );
            if (world.Situation.Phase != Phase.Starting)
                continue;
            ran.Add(DateOnly.FromDateTime(world.Situation.Rhythm!.Slot!.Value.UtcDateTime));
            world.Launch();
            world.End(Good);
        }

        Assert.Equal(
            Enumerable.Range(0, 13).Select(Day).Where(day => day > Day(0) && !Left(day)),
            ran.Where(day => day <= Day(12))
        );
        Assert.InRange(world.Done.OfType<ReadDays>().Count(), 12, 13);
        Assert.Equal(
            [(2L, null), (2L, "it is gone"), (0L, null)],
            Said<DaysReadEntry>(world).Select(entry => (entry.Days, entry.Wrong))
        );

        static DateOnly Day(int number) => DateOnly.FromDateTime(World.Start.UtcDateTime).AddDays(number);
        static bool Left(DateOnly day) => day == Day(2) || day == Day(4) || day == Day(7);
    }

    [Fact]
    public void A_day_that_is_no_longer_left_out_brings_nothing_back_that_is_past()
    {
        var planned = new PlannedRun(Words("daily at 03:00")) { Zone = "UTC" };
        var today = DateOnly.FromDateTime(World.Start.UtcDateTime).AddDays(1);
        var world = Wrapped(planned with { Except = new([today], null) });
        world.Now = new(today, new(10, 0), TimeSpan.Zero);
        world.Adjust(world.Definition with { Rhythm = [planned] });
        Assert.Equal(
            new DateTimeOffset(today.AddDays(1), new(3, 0), TimeSpan.Zero),
            world.Situation.Rhythm!.Places[0].Next
        );
    }

    [Fact]
    public void A_moment_while_the_run_before_is_at_work_passes_is_queued_or_takes_over()
    {
        var passes = Wrapped(QuarterHourly);
        passes.PassToNextMoment();
        Up(passes);
        passes.PassToNextMoment();
        Assert.Equal((1, 1), (passes.Launches, Said<MomentPassedEntry>(passes).Count));

        var queues = Wrapped(QuarterHourly with { IfRunning = IfRunning.Queue });
        queues.PassToNextMoment();
        Up(queues);
        queues.PassToNextMoment();
        queues.PassToNextMoment(); // one waits at most
        Assert.Equal((1, 1), (Said<MomentQueuedEntry>(queues).Count, Said<MomentPassedEntry>(queues).Count));
        queues.End(Good);
        Assert.Equal((2, Phase.Starting), (queues.Launches, queues.Situation.Phase));
        queues.Launch();
        queues.End(Good);
        Assert.Equal(Phase.Resting, queues.Situation.Phase);

        var takes = Wrapped(QuarterHourly with { IfRunning = IfRunning.TakeOver });
        takes.PassToNextMoment();
        Up(takes);
        takes.PassToNextMoment();
        Assert.Equal(Phase.Stopping, takes.Situation.Phase);
        takes.End(new(OutcomeKind.Signalled, 15));
        Assert.Equal((2, Phase.Starting), (takes.Launches, takes.Situation.Phase));
    }

    [Fact]
    public void A_job_that_fails_is_tried_again_so_often_within_its_slot_and_told_then()
    {
        var world = Wrapped(QuarterHourly with { Again = 2 });
        world.PassToNextMoment();
        for (var tries = 0; tries < 2; tries++)
        {
            world.Launch();
            world.End(Failed);
            Assert.Equal(Phase.Waiting, world.Situation.Phase);
            Assert.DoesNotContain(world.Done.OfType<Note>(), note => note.Tells);
            world.PassToNextDecision();
        }

        world.Launch();
        world.End(Failed);
        Assert.Equal((3, Phase.Resting), (world.Launches, world.Situation.Phase));
        Assert.Single(world.Done.OfType<Note>(), note => note.Tells);
        Assert.NotNull(CalmSentry.Core.Wording.Attention.Of(world.Definition, world.Situation));
        world.PassToNextMoment(); // the next moment has its own tries
        world.Launch();
        world.End(Failed);
        Assert.Equal(Phase.Waiting, world.Situation.Phase);
    }

    [Fact]
    public void No_try_goes_beyond_the_next_moment()
    {
        var world = Wrapped(QuarterHourly with { Again = 5 });
        world.PassToNextMoment();
        world.Launch();
        world.Passes(TimeSpan.FromMinutes(14.999));
        world.End(Failed);
        Assert.Equal(Phase.Resting, world.Situation.Phase);
    }

    [Fact]
    public void A_run_that_takes_too_long_is_wound_down_and_has_failed()
    {
        var world = Wrapped(QuarterHourly with { Longest = TimeSpan.FromMinutes(10) });
        world.PassToNextMoment();
        var began = world.Now;
        Up(world);
        world.PassToNextDecision();
        Assert.Equal((Phase.Stopping, began.AddMinutes(10)), (world.Situation.Phase, world.Now));
        world.End(new(OutcomeKind.Signalled, 15));
        Assert.Equal(
            (Phase.Resting, OutcomeKind.TooLong),
            (world.Situation.Phase, world.Situation.LastEnd!.Outcome.Kind)
        );
        Assert.True(world.Situation.LastEnd.Bad);
    }

    [Fact]
    public void A_start_runs_it_now_and_a_stop_lays_its_rhythm_to_rest()
    {
        var world = Wrapped(QuarterHourly);
        var next = world.Situation.Rhythm!.Next;
        world.Happens(new StartAsked(new("anna")));
        Up(world);
        Assert.Equal(next, world.Situation.Rhythm!.Next); // its rhythm is left alone
        world.Happens(new StopAsked(new("anna"), ThisRun: true));
        world.End(new(OutcomeKind.Signalled, 15));
        Assert.Equal((Phase.Resting, next), (world.Situation.Phase, world.Situation.Rhythm!.Next));
        world.PassToNextMoment();
        Up(world);
        world.Happens(new StopAsked(new("anna")));
        world.End(new(OutcomeKind.Signalled, 15));
        Assert.Equal((Phase.Stopped, (RhythmState?)null), (world.Situation.Phase, world.Situation.Rhythm));
        Assert.False(world.PassToNextMoment());
        world.Passes(TimeSpan.FromDays(1));
        world.Happens(new StartAsked(new("anna")));
        world.Launch();
        world.End(Good);
        Assert.Equal(Phase.Resting, world.Situation.Phase);
        world.PassToNextMoment();
        Assert.Empty(Said<MomentsMissedEntry>(world)); // nobody wanted what was at rest
    }

    [Fact]
    public void A_boot_puts_a_rhythm_in_force_and_runs_nothing_before_its_moment()
    {
        var world = Wrapped(QuarterHourly);
        world.Happens(new StopAsked(new("anna")));
        world.Happens(new MachineBegan());
        Assert.Equal((Phase.Resting, 0), (world.Situation.Phase, world.Launches));
        world.Happens(new MachineBegan(HeldBack: true));
        Assert.Equal((Phase.Stopped, (RhythmState?)null), (world.Situation.Phase, world.Situation.Rhythm));
    }

    [Fact]
    public void Its_rhythm_is_in_force_unless_somebody_says_request()
    {
        var left = Job(QuarterHourly) with { Begin = new() };
        Assert.True(left.BeginsWithMachine);
        var world = new World(left with { Given = ["begin.at"] });
        world.Happens(new Wrapped());
        Assert.Equal((Phase.Stopped, (RhythmState?)null), (world.Situation.Phase, world.Situation.Rhythm));
        world.Happens(new StartAsked(new("anna")));
        world.Launch();
        world.End(Good);
        Assert.Equal(Phase.Resting, world.Situation.Phase);
    }

    [Theory]
    [InlineData(IfMissed.Once, 1)]
    [InlineData(IfMissed.Pass, 0)]
    public void Ten_moments_slept_through_are_made_up_for_once_or_not_at_all(IfMissed missed, int runs)
    {
        var world = Wrapped(QuarterHourly with { Missed = missed });
        world.Passes(TimeSpan.FromMinutes(155)); // from 08:00 to 10:35
        world.Happens(new CalendarCame());
        Assert.Equal(runs, world.Launches);
        Assert.Equal(10, Assert.Single(Said<MomentsMissedEntry>(world)).Count);
        Assert.Equal(new TimeOnly(10, 45), TimeOnly.FromDateTime(world.Situation.Rhythm!.Next!.Next!.Value.DateTime));
    }

    [Fact]
    public void Set_times_wait_for_the_clock_after_a_boot_and_lengths_do_not()
    {
        var world = Wrapped(
            QuarterHourly,
            new PlannedRun(Words("every 10 min")) { Zone = "UTC", Spread = TimeSpan.Zero }
        );
        world.Passes(TimeSpan.FromMinutes(15));
        world.Happens(new CalendarCame(ClockSet: false));
        Assert.Equal(1, world.Launches);
        Assert.True(world.Situation.Rhythm!.Places[0].Due <= world.Now);
        world.Launch();
        world.End(Good);
        world.Happens(new CalendarCame());
        Assert.Equal(2, world.Launches);
    }

    [Fact]
    public void A_clock_set_back_brings_no_moment_back_unless_it_was_wrong_by_far()
    {
        var world = Wrapped(QuarterHourly);
        world.PassToNextMoment();
        world.Launch();
        world.End(Good);
        var taken = world.Now;
        world.Passes(-TimeSpan.FromHours(2));
        world.Happens(new CalendarCame());
        Assert.Equal((1, taken.AddMinutes(15)), (world.Launches, world.Situation.Rhythm!.Next!.Next));
        world.Passes(-TimeSpan.FromDays(40));
        world.Happens(new CalendarCame());
        Assert.True(world.Situation.Rhythm!.Next!.Next <= world.Now.AddMinutes(15));
    }

    [Fact]
    public void A_moment_is_skipped_or_taken_now_once()
    {
        var world = Wrapped(QuarterHourly);
        var first = world.Situation.Rhythm!.Next!.Next!.Value;
        world.Happens(new SkipAsked(new("anna")));
        Assert.Equal(first.AddMinutes(15), world.Situation.Rhythm!.Next!.Next);
        world.Happens(new AdvanceAsked(new("anna")));
        Assert.Equal((1, first.AddMinutes(30)), (world.Launches, world.Situation.Rhythm!.Next!.Next));
    }

    /// <summary>
    /// The server is lost at any moment, between moments and within them, for any length, a thousand times: each moment is
    /// run, or was passed, queued or missed on record, and none twice.
    /// </summary>
    [Fact]
    public void Nothing_is_lost_and_nothing_comes_twice_whenever_the_server_is_lost() =>
        Gen.Select(
                Gen.Select(Gen.Int[0, 2000], Gen.Int[0, 4]).Array[1, 60],
                Gen.Enum<IfMissed>(),
                Gen.Enum<IfRunning>(),
                Gen.Int[0, 120]
            )
            .Sample(
                (moves, missed, running, spread) =>
                {
                    var planned = QuarterHourly with
                    {
                        Missed = missed,
                        IfRunning = running,
                        Spread = TimeSpan.FromSeconds(spread),
                    };
                    var world = Wrapped(planned);
                    var since = world.Now;
                    foreach (var (seconds, what) in moves)
                    {
                        // Whoever is there looks at each moment; a lost server looks only when it is back.
                        var until = world.Now.AddSeconds(seconds);
                        while (what != 0 && world.Situation.Rhythm!.LookAt is { } at && at <= until)
                            world.PassToNextMoment();
                        if (world.Now < until)
                            world.Passes(until - world.Now);
                        switch (what)
                        {
                            case 0:
                                world.FallsBackTo(world.Definition, world.Situation);
                                world.Happens(new CalendarCame());
                                break;
                            case 1 when world.Live is not null && world.Situation.Run is { Launched: null }:
                                world.Launch();
                                break;
                            case 2 when world.Live is not null:
                                world.End(Good);
                                break;
                            case 3 when world.Live is not null:
                                world.End(Failed);
                                break;
                        }
                    }

                    var moments = planned
                        .When.Following(since, TimeZoneInfo.Utc)
                        .TakeWhile(moment => moment <= world.Situation.Rhythm!.Places[0].Taken)
                        .Count();
                    var runs = world.Done.OfType<Launch>().Count(launch => launch.Cause == Cause.Rhythm);
                    var queued =
                        Said<MomentQueuedEntry>(world).Count - (world.Situation.Rhythm!.Queued is null ? 0 : 1);
                    var takeOverWaits =
                        running == IfRunning.TakeOver && world.Situation.Rhythm.Queued is not null ? 1 : 0;
                    var madeUp = Said<MomentsMissedEntry>(world).Count(entry => entry.Next == EntryNext.GoesAhead);
                    var lost = Said<MomentsMissedEntry>(world).Sum(entry => entry.Count);
                    var passed = Said<MomentPassedEntry>(world).Count;
                    var waiting = Said<MomentQueuedEntry>(world).Count - queued;
                    if (running == IfRunning.TakeOver)
                        return; // a moment that takes over may itself be taken over before it is launched
                    Assert.Equal(moments, runs + passed + waiting + lost - madeUp);
                },
                iter: 1000
            );

    // Restarts

    private static readonly PlannedRestart Nightly = new(Words("daily at 01:00"))
    {
        Zone = "UTC",
        Missed = IfMissed.Pass,
    };

    [Fact]
    public void What_stays_is_restarted_at_its_moment()
    {
        var world = Running(Nightly);
        world.PassToNextMoment();
        Assert.Equal(1, world.Now.Hour);
        Assert.Single(world.Done.OfType<RestartInOrder>());
        world.Happens(new RestartAsked(Principal.Rhythm));
        Assert.Equal(Phase.Stopping, world.Situation.Phase);
        world.End(new(OutcomeKind.Signalled, 15));
        Up(world);
        world.PassToNextMoment();
        Assert.Equal(2, world.Done.OfType<RestartInOrder>().Count());
    }

    [Fact]
    public void It_is_put_off_while_it_is_busy_until_its_latest_moment()
    {
        var world = Running(Nightly with { Busy = PlannedRestart.BusySaid, PutOff = TimeSpan.FromHours(2) });
        world.PassToNextMoment();
        var due = world.Situation.Rhythm!.Restart!;
        for (var i = 0; i < 3; i++)
            world.Happens(new RestartWeighed(due.Moment, "it prints", null));
        Assert.Single(Said<RestartPutOffEntry>(world));
        Assert.Empty(world.Done.OfType<RestartInOrder>());
        world.PassToNextMoment();
        Assert.Equal(3, world.Now.Hour);
        Assert.Single(world.Done.OfType<RestartInOrder>());

        world = Running(Nightly with { Busy = PlannedRestart.BusySaid });
        world.PassToNextMoment();
        world.Happens(new RestartWeighed(world.Situation.Rhythm!.Restart!.Moment, null, null));
        Assert.Single(world.Done.OfType<RestartInOrder>());
    }

    [Fact]
    public void It_is_needless_where_it_was_begun_anew_or_its_memory_is_low()
    {
        var world = Running(Nightly with { NeedlessWithin = TimeSpan.FromHours(20) });
        world.PassToNextMoment();
        Assert.Single(Said<RestartNeedlessEntry>(world));
        Assert.Empty(world.Done.OfType<RestartInOrder>());
        world.PassToNextMoment(); // a day later it has been up for long
        Assert.Single(world.Done.OfType<RestartInOrder>());

        world = Running(Nightly with { MemoryAbove = 1000 });
        for (var night = 1; night <= 3; night++)
        {
            world.PassToNextMoment();
            world.Happens(new RestartWeighed(world.Situation.Rhythm!.Restart!.Moment, null, 1000));
            Assert.Equal(night, Said<RestartSparedEntry>(world)[^1].Spared);
        }

        world.PassToNextMoment();
        world.Happens(new RestartWeighed(world.Situation.Rhythm!.Restart!.Moment, null, 1001));
        Assert.Single(world.Done.OfType<RestartInOrder>());
        Assert.Equal(0, world.Situation.Rhythm!.Spared);
    }

    [Fact]
    public void A_trend_can_be_the_cause_and_one_of_two_causes_suffices()
    {
        var world = Running(Nightly with { CeilingWithin = TimeSpan.FromHours(26) });
        foreach (var ceiling in (TimeSpan?[])[null, TimeSpan.FromHours(27)])
        {
            world.PassToNextMoment();
            world.Happens(new RestartWeighed(world.Situation.Rhythm!.Restart!.Moment, null, null, ceiling));
        }

        Assert.Equal(
            ["its memory does not grow steadily", "as its memory grows it reaches its limit in 27 h, not within 26 h"],
            Said<RestartSparedEntry>(world).Select(entry => entry.Why)
        );
        world.PassToNextMoment();
        world.Happens(new RestartWeighed(world.Situation.Rhythm!.Restart!.Moment, null, null, TimeSpan.FromHours(26)));
        Assert.Single(world.Done.OfType<RestartInOrder>());

        world = Running(Nightly with { CeilingWithin = TimeSpan.FromHours(26), MemoryAbove = 1000 });
        world.PassToNextMoment();
        world.Happens(new RestartWeighed(world.Situation.Rhythm!.Restart!.Moment, null, 1000));
        Assert.Single(Said<RestartSparedEntry>(world));
        world.PassToNextMoment();
        world.Happens(new RestartWeighed(world.Situation.Rhythm!.Restart!.Moment, null, 1001));
        Assert.Single(world.Done.OfType<RestartInOrder>());
    }

    [Fact]
    public void A_returning_server_goes_on_with_a_restart_that_was_due()
    {
        var world = Running(Nightly with { Busy = PlannedRestart.BusySaid });
        world.PassToNextMoment();
        world.Happens(new Resumed());
        Assert.Equal(2, world.Done.OfType<WeighRestart>().Count());
        world.Happens(new RestartWeighed(world.Situation.Rhythm!.Restart!.Moment, null, null));
        world.Happens(new Resumed());
        Assert.Equal(2, world.Done.OfType<RestartInOrder>().Count());
    }

    [Fact]
    public void A_restart_that_was_missed_or_is_due_while_it_is_down_is_none()
    {
        var world = Running(Nightly);
        world.Passes(TimeSpan.FromDays(3));
        world.Happens(new CalendarCame());
        Assert.Equal(3, Assert.Single(Said<MomentsMissedEntry>(world)).Count);
        world.Happens(new StopAsked(new("anna")));
        world.End(new(OutcomeKind.Signalled, 15));
        world.PassToNextMoment();
        Assert.Empty(world.Done.OfType<RestartInOrder>());
    }

    [Fact]
    public void A_restart_that_fails_is_told_once_and_recovery_goes_on()
    {
        var world = Running(Nightly);
        world.PassToNextMoment();
        var moment = world.Situation.Rhythm!.Restart!.Moment;
        world.Happens(new RestartAsked(Principal.Rhythm));
        world.End(new(OutcomeKind.Signalled, 15));
        world.Launch();
        world.End(Failed);
        var told = Assert.Single(Said<RestartFailedEntry>(world));
        Assert.Equal((moment, Failed), (told.Moment, told.Outcome));
        Assert.Equal(Phase.Waiting, world.Situation.Phase);
        world.PassToNextDecision();
        world.Launch();
        world.End(Failed);
        world.PassToNextDecision();
        Up(world);
        Assert.Single(Said<RestartFailedEntry>(world));
        Assert.Equal(2, Said<ProvenEntry>(world)[^1].Restarts);
        // What falls later has nothing to do with it; nor what a person restarts.
        world.End(Failed);
        world.PassToNextDecision();
        Up(world);
        world.Happens(new RestartAsked(new("anna")));
        world.End(new(OutcomeKind.Signalled, 15));
        world.Launch();
        world.End(Failed);
        Assert.Single(Said<RestartFailedEntry>(world));
    }

    /// <summary>Nobody sits there at night to read why: it is tried again, and on hold in the end.</summary>
    [Fact]
    public void A_planned_restart_that_cannot_be_launched_does_not_leave_it_stopped_in_silence()
    {
        var world = Running(Nightly);
        world.PassToNextMoment();
        world.Happens(new RestartAsked(Principal.Rhythm));
        world.End(new(OutcomeKind.Signalled, 15));
        for (var i = 0; i < 20 && world.Situation.Phase != Phase.Held; i++)
        {
            world.End(new(OutcomeKind.NeverLaunched, Detail: "there is no such program"));
            Assert.NotEqual(Phase.Stopped, world.Situation.Phase);
            if (world.Situation.Phase == Phase.Waiting)
                world.PassToNextDecision();
        }

        Assert.Equal(Phase.Held, world.Situation.Phase);
        Assert.Equal(
            [typeof(RestartFailedEntry), typeof(HeldEntry)],
            world.Done.OfType<Note>().Where(note => note.Tells).Select(note => note.Entry.GetType())
        );
    }

    [Fact]
    public void A_run_that_is_not_done_in_time_is_told_once_and_so_is_the_one_queued_behind_it()
    {
        var world = Wrapped(QuarterHourly with { LateAfter = TimeSpan.FromMinutes(20), IfRunning = IfRunning.Queue });
        world.PassToNextMoment();
        var first = world.Now;
        Up(world);
        world.PassToNextMoment(); // another is queued
        world.PassToNextMoment();
        Assert.Equal(first.AddMinutes(20), world.Now);
        var late = Assert.Single(Said<JobLateEntry>(world));
        Assert.Equal((first, (RunNumber?)new RunNumber(1)), (late.Moment, late.Run));
        while (world.Now < first.AddMinutes(60))
            world.PassToNextMoment();
        Assert.Equal([first, first.AddMinutes(15)], Said<JobLateEntry>(world).Select(entry => entry.Moment));
        world.End(Good);
        world.Launch();
        world.End(Good);
        for (var i = 0; i < 8; i++)
        {
            world.PassToNextMoment();
            world.Launch();
            world.End(Good);
        }

        Assert.Equal(2, Said<JobLateEntry>(world).Count);
    }

    [Fact]
    public void That_no_run_succeeds_is_told_once_whatever_the_reason_until_one_does()
    {
        var world = Wrapped(QuarterHourly with { SuccessWithin = TimeSpan.FromHours(2) });
        var begun = world.Now;
        Runs(Failed, TimeSpan.FromHours(5));
        var overdue = Assert.Single(Said<JobOverdueEntry>(world));
        Assert.Equal(begun, overdue.Good);
        Assert.NotNull(CalmSentry.Core.Wording.Attention.Of(world.Definition, world.Situation));
        Runs(Good, TimeSpan.FromHours(3));
        Assert.Null(CalmSentry.Core.Wording.Attention.Of(world.Definition, world.Situation));
        Assert.Single(Said<JobOverdueEntry>(world));
        // Runs that never come to an end are no success, either.
        world.PassToNextMoment();
        if (world.Situation.Phase == Phase.Starting)
            Up(world);
        for (var until = world.Now.AddHours(3); world.Now < until; )
            world.PassToNextMoment();
        Assert.Equal(2, Said<JobOverdueEntry>(world).Count);

        void Runs(Outcome outcome, TimeSpan time)
        {
            for (var until = world.Now + time; world.Now < until; )
            {
                world.PassToNextMoment();
                if (world.Situation.Phase != Phase.Starting)
                    continue;
                world.Launch();
                world.End(outcome);
            }
        }
    }
}
