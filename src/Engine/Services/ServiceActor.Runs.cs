using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Falls;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Watching;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Engine.Services;

/// <summary>The actor's runs: launching them, hearing of them, and finding out about them after an absence.</summary>
internal sealed partial class ServiceActor
{
    private const int NoSpace = 28;

    /// <summary>How long an end waits for the answer that came with it.</summary>
    private static readonly TimeSpan StepLinger = TimeSpan.FromMilliseconds(20);

    private static readonly TimeSpan OwnTroublePause = TimeSpan.FromSeconds(2);

    // Launching

    /// <summary>The latest run that a keeper was told to launch.</summary>
    private RunNumber ordered;

    /// <summary>Which run could not be launched yet, and why, as it was last said.</summary>
    private (RunNumber Run, string Why) launchWaits;

    /// <summary>How much output there is, while a run's end is taken in: one that follows at once begins there.</summary>
    private long? outputEnded;

    private async Task Launch(RunNumber run, bool switchOff = false)
    {
        outputStuck = 0;
        inputs.Clear();
        if (!switchOff)
        {
            (Said, AliveStamp, PausedSince) = (null, 0, null);
            launched = new(run, Definition);
            Vitals = new(() => house.Host.Tree(this), house.Clocks);
        }

        try
        {
            if (!remains.IsCompleted)
                throw new OwnTroubleException("the kernel holds processes of a run before it");
            house.Host.BringOutput(this);
            if (!switchOff)
                OutputBegan =
                    outputEnded
                    ?? house.Host.OutputLength(Definition.Name)
                    ?? throw new OwnTroubleException("how much output there is so far cannot be read");
            var account =
                house.Host.AccountOf(Definition.Account)
                ?? throw new IOException(
                    $"this host has no account named {Definition.Account}; make it, or set another with --account"
                );
            if (Definition.Program.Window is not null && !switchOff)
                await house.Host.BeginDisplay(this, account, run, why => DisplayGone(run, why));
            var order = house.Host.Order(this, account, run, switchOff);
            OpenSay(account);
            if (keeper is { Outdated: true } outdated)
            {
                // Between two runs a keeper of an earlier version makes room for one of today.
                outdated.Send(new Message(KeeperWord.Leave));
                keeper = null;
            }

            var fresh = keeper is null;
            if (fresh)
            {
                // The service's lock is free once the keeper before has gone for good.
                await keeperGone;
                house.Host.MakePlaces(this, account);
                Attach(house.Host.Start(RunDirectory));
            }

            if (!switchOff)
            {
                house.Tools.Copies.Reached(Definition.Name, run);
                house.Host.Note(
                    RunDirectory,
                    run,
                    new(Situation.Run!.Began, OutputBegan, Definition.IsJob ? Situation.Rhythm?.Slot : null)
                );
            }

            ordered = run;
            keeper!.Send(order);
            if (!switchOff)
                house.Store.RunBegan(
                    Id,
                    Situation.Run!,
                    Revision,
                    OutputBegan,
                    RunWords.BegunBy(Situation),
                    Origins.Of(Definition, Revision)
                );
            if (fresh)
                house.Host.ReserveSoon();
        }
        catch (OwnTroubleException own)
        {
            // Whatever becomes of it until then, its number was given.
            house.Store.RunBegan(Id, Situation.Run!, Revision, OutputBegan, RunWords.BegunBy(Situation), null);
            LaunchLater(run, switchOff, own);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            Refuse(run, error.Message.TrimEnd('.'));
        }
    }

    /// <summary>
    /// What fails on the sentry's own side is no failure of the program: it is tried again, and does not count.
    /// </summary>
    private void LaunchLater(RunNumber run, bool switchOff, OwnTroubleException own)
    {
        // Said once of each run and cause: it may be tried for hours.
        var why = (run, own.Message);
        if (launchWaits != why)
            Trouble(
                $"Run {run} cannot be launched yet: {own.Message}. It is tried again every {OwnTroublePause.TotalSeconds:0} s."
            );
        launchWaits = why;
        _ = house
            .Clocks.Delay(OwnTroublePause)
            .ContinueWith(
                _ =>
                    Post(
                        () =>
                            Situation.Run is { Launched: null } waiting
                            && waiting.Number == run
                            && Situation.Phase is Phase.Starting or Phase.Stopping
                                ? Launch(run, switchOff)
                                : Task.CompletedTask,
                        null
                    ),
                house.Clocks.Tasks
            );
    }

    private void DisplayGone(RunNumber run, string? why = null) => Post(() => Apply(new DisplayFell(run, why)), null);

    /// <summary>
    /// Opens the socket on which its programs speak. That it cannot be made is no reason not to run, nor not to be
    /// taken up.
    /// </summary>
    private void OpenSay(Account account)
    {
        try
        {
            house.Host.OpenSay(this, account);
        }
        catch (IOException error)
        {
            Trouble($"It cannot speak of itself in this run: {error.Message}.");
        }
    }

    /// <summary>Runs a command for a service that fails again and again; what came of it goes to the logbook.</summary>
    private void FollowUp(RunFollowUp follow, Definition definition, FollowUp then) =>
        _ = house.Clocks.Run(async () =>
        {
            var began = house.Clocks.Forward;
            string came;
            try
            {
                came = await FailureCommand.Run(
                    definition,
                    Id.ToString(),
                    follow.Run,
                    follow.Failures,
                    then,
                    house.Tools
                );
            }
            catch (Exception unexpected)
            {
                house.Logbook.Failed($"running {then.Command[0]} after failures", unexpected, this);
                return;
            }

            house.Logbook.Note(
                this,
                new FollowedUpEntry(follow.Run, follow.Failures, then.Command[0], house.Clocks.Forward - began, came)
            );
        });

    /// <summary>
    /// Looks for the process that a program left in the background until it is found or nobody waits for it any more.
    /// </summary>
    private async Task FindMain(RunNumber run)
    {
        while (
            Situation.Run is { Number: var live, Detached: false } && live == run && Situation.Phase == Phase.Starting
        )
        {
            var sight = house.Host.Detached(Definition, keeperPid);
            if (sight.Missing is { } missing && missing != Situation.Run?.Missing)
                _ = Post(() => Apply(new ProofMissing(run, missing)), null);
            if (sight.Pid is { } found)
            {
                Post(
                    () =>
                    {
                        keeper?.Send(new Message(KeeperWord.Follow).With("pid", found));
                        return Task.CompletedTask;
                    },
                    null
                );
                await house.Clocks.Delay(TimeSpan.FromMilliseconds(200)); // the keeper says so, or it is looked for again
            }

            await house.Clocks.Delay(TimeSpan.FromMilliseconds(20));
        }
    }

    /// <summary>
    /// The main process ended. One that left itself in the background may have handed over to another process of its tree, which its
    /// pid file then names: that one is the program, and the run goes on.
    /// </summary>
    private async Task MainGone(RunNumber run, byte[] body)
    {
        if (MayHandOver(run))
            _ = house.Clocks.Run(() => HandOver(run, body));
        else
            await Apply(new MainEnded(run, Remains.Read(body)));
    }

    private bool MayHandOver(RunNumber run) =>
        Definition.Program is { Kind: ProgramKind.Detaches, PidFile: not null }
        && Situation is { Phase: Phase.Starting or Phase.Running, Run: { Detached: true } live }
        && live.Number == run;

    private async Task HandOver(RunNumber run, byte[] body)
    {
        // Whoever falls has handed over before, or not at all.
        var (began, patience) = (house.Clocks.Forward, Remains.Read(body).IsGood ? HandOverPatience : TimeSpan.Zero);
        while (MayHandOver(run) && house.Clocks.Forward - began <= patience)
        {
            if (house.Host.Detached(Definition, keeperPid).Pid is { } next && next != Situation.Run?.Pid)
            {
                Post(
                    () =>
                    {
                        keeper?.Send(new Message(KeeperWord.Follow).With("pid", next));
                        return Task.CompletedTask;
                    },
                    null
                );
                await house.Clocks.Delay(HandOverBeat); // the keeper says so, or it is looked for again
                if (Situation.Run?.Pid == next)
                    return;
            }

            await house.Clocks.Delay(HandOverBeat);
        }

        Post(() => Apply(new MainEnded(run, Remains.Read(body))), null);
    }

    /// <summary>How long after its end the pid file may still be about the process that ended.</summary>
    private static readonly TimeSpan HandOverPatience = TimeSpan.FromSeconds(2),
        HandOverBeat = TimeSpan.FromMilliseconds(50);

    private void Refuse(RunNumber run, string why)
    {
        house.Store.RunBegan(Id, Situation.Run!, Revision, OutputBegan, RunWords.BegunBy(Situation), null);
        Post(() => Over(run, new(OutcomeKind.NeverLaunched, Detail: why), house.Clocks.Now, null, null), null);
    }

    /// <summary>A new file of output begins, if it runs; else with its next run that prints.</summary>
    public void TurnOver() =>
        Post(
            () =>
            {
                KeepOutput(now: true);
                return Task.CompletedTask;
            },
            null
        );

    /// <summary>Tells the keeper of the live run how output is kept from now on.</summary>
    private void KeepOutput(bool now = false)
    {
        if (Situation.Run is null || keeper is null)
            return;
        var order = LaunchOrder.Output(Definition.Output, new Message(KeeperWord.Output), goesOn: true);
        keeper.Send(now ? order.With("now", 1) : order);
    }

    private void Attach(IKeeper link)
    {
        keeper = link;
        keeperPid = link.Pid;
        inputs.Clear();
        keeperGone = house.Clocks.Run(async () =>
        {
            while (await link.Next() is var (word, body))
                Post(() => Hear(word, body), null);
            await link.Buried();
            Post(() => Gone(link), null);
        });
    }

    // What keepers tell

    private async Task Hear(KeeperWord word, byte[] body)
    {
        var run = new RunNumber(Message.Number(body, "run"));
        switch (word)
        {
            case KeeperWord.Launched:
                var pid = (int)Message.Number(body, "pid");
                await Apply(new Launched(run, pid));
                if (Situation.Run is { Launched: { } launched, Switch: not Switch.GoingOff } live && live.Number == run)
                    house.Store.RunLaunched(Id, run, pid, launched);
                break;
            case KeeperWord.Followed:
                await Apply(new MainFound(run, (int)Message.Number(body, "pid")));
                house.Store.RunLaunched(Id, run, (int)Message.Number(body, "pid"), house.Clocks.Now);
                break;
            case KeeperWord.InputTaken:
                if (inputs.TryDequeue(out var taken))
                    taken.TrySetResult((int)Message.Number(body, "errno"));
                break;
            case KeeperWord.MainEnded:
                await MainGone(run, body);
                break;
            case KeeperWord.NeverLaunched or KeeperWord.TreeEnded:
                await Over(word, body);
                break;
            case KeeperWord.TurnedOver:
                house.Turned(this);
                break;
            case KeeperWord.Paused or KeeperWord.GoesOn when Situation.Run?.Number == run:
                var told = TimeSpan.FromMilliseconds(Message.Number(body, "forward-ms"));
                PausedSince = word == KeeperWord.Paused ? told : null;
                Pass(ref nextPause);
                break;
            case KeeperWord.Reopen:
                _ = house.Clocks.Run(() => Reopen(run));
                break;
            case KeeperWord.OutputStuck or KeeperWord.OutputFlows:
                outputStuck = word == KeeperWord.OutputStuck ? (int)Message.Number(body, "errno") : 0;
                var why =
                    outputStuck == NoSpace
                        ? "its disk is full, but for a reserve that the sentry keeps for its own records"
                        : Names.Errno(outputStuck);
                house.Logbook.Note(
                    this,
                    outputStuck == 0 ? new OutputFlowsEntry()
                        : Definition.Output.WhenFull == WhenFull.GoOn && outputStuck == NoSpace
                            ? new OutputDroppedEntry(why)
                        : new OutputStuckEntry(why)
                );
                Publish();
                break;
        }
    }

    /// <summary>Has the program open its log files anew, one step after the other.</summary>
    private async Task Reopen(RunNumber run)
    {
        foreach (var step in Definition.Output.Reopen)
        {
            var effect = await Perform(step, run);
            if (!effect.Failed)
                continue;
            house.Logbook.Note(this, new ReopenFailedEntry(run, $"{step.What} failed: {effect.Answer.TrimEnd('.')}"));
            return;
        }
    }

    private async Task Over(KeeperWord word, byte[] body)
    {
        var run = new RunNumber(Message.Number(body, "run"));
        if (word == KeeperWord.NeverLaunched && await OrderedAgain(run, body))
            return;
        var end = EndOf(word, body, sameBoot: true);
        await Over(run, end.Outcome, end.At, end.PeakKib, end.CpuMicroseconds);
        if (Message.Number(body, "unwritten") is > 0 and var lost)
            house.Logbook.Note(this, new OutputLostEntry(run, lost));
    }

    /// <summary>An order that was not carried out for a reason of the sentry's own is given again, to another keeper.</summary>
    private async Task<bool> OrderedAgain(RunNumber run, byte[] body)
    {
        var off = Situation is { Phase: Phase.Stopping, Run.Switch: Switch.GoingOff };
        if (Situation.Run is not { } live || live.Number != run)
            return false;
        if (!off && (Situation.Phase != Phase.Starting || live.Launched is not null))
            return false;
        switch ((LaunchStep)Message.Number(body, "step"))
        {
            case LaunchStep.Alone:
                await EndRemainsOfEarlier(run); // the note may be older than what was done since
                house.Host.Discard(Site(run), over: !off);
                await Launch(run, off);
                return true;
            case LaunchStep.Lock when Message.Number(body, "errno") == LaunchWords.WouldBlock:
                ordered = default; // that this keeper goes is not the end of the run
                LaunchLater(run, off, new("the keeper before has not gone yet"));
                return true;
            default:
                return false;
        }
    }

    /// <summary>What a keeper tells, or wrote down, of the end of a run.</summary>
    private (Outcome Outcome, DateTimeOffset At, long? PeakKib, long? CpuMicroseconds) EndOf(
        KeeperWord word,
        byte[] body,
        bool sameBoot
    )
    {
        if (word == KeeperWord.NeverLaunched)
        {
            var words = LaunchWords.Of(
                (LaunchStep)Message.Number(body, "step"),
                (int)Message.Number(body, "errno"),
                Definition,
                LaunchOrder.DirectoryOf(Definition, house.Places),
                house.Places.OutputOf(Definition.Name)
            );
            return (new(OutcomeKind.NeverLaunched, Detail: words), house.Clocks.Now, null, null);
        }

        // People's clock may have been set since: in one boot it is known how long ago that was.
        var now = house.Clocks.Stamp;
        var at =
            sameBoot && Message.Number(body, "ended-forward-ms") is > 0 and var forward && forward <= now.Forward
                ? now.Wall - TimeSpan.FromMilliseconds(now.Forward - forward)
                : DateTimeOffset.FromUnixTimeMilliseconds(
                    Message.Number(body, "ended-ms", now.Wall.ToUnixTimeMilliseconds())
                );
        return (Remains.Read(body), at, Message.Number(body, "peak-kib"), Message.Number(body, "cpu-us"));
    }

    private async Task Over(RunNumber run, Outcome outcome, DateTimeOffset at, long? peakKib, long? cpuMicroseconds)
    {
        // What a step was answered often comes with the end itself: it belongs before it.
        if (step is { } under && await Task.WhenAny(under, house.Clocks.Delay(StepLinger)) == under)
            await HearStep(run);
        var since = Situation.Since;
        var (live, from, to, sample) = (
            Situation.Run,
            OutputBegan,
            house.Host.OutputLength(Definition.Name),
            Vitals.Latest
        );
        LastEnd? end = null;
        var over = false;
        var judgesFiles = registry.Together.Judges(Id, run);
        if (LaunchedBy is { Program: { Window: not null } program } launchedBy)
        {
            // A program ends with its display, and is often the first to say so.
            if (
                live is { Launched: not null }
                && outcome is { IsGood: false, Kind: OutcomeKind.Exited or OutcomeKind.Signalled }
                && Situation.Phase is Phase.Starting or Phase.Running
                && house.Host.AccountOf(Definition.Account) is { } account
                && await house.Host.HowDisplayEnded(this, program, account, run) is { } why
            )
                await Apply(new DisplayFell(run, why));
            await house.Host.EndDisplay(this, house.Host.AccountOf(launchedBy.Account));
        }

        outputEnded = to;
        try
        {
            await Apply(new RunEnded(run, outcome, judgesFiles), at, Record);
        }
        finally
        {
            outputEnded = null;
        }

        DiscardOnceKept(run, over); // of something switched on, only the start command has ended
        if (end is { Bad: true } || (end is { AsAsked: false } && judgesFiles))
        {
            var (definition, pid, directory) = (
                Definition,
                live?.Pid,
                LaunchOrder.DirectoryOf(Definition, house.Places)
            );
            _ = house.Clocks.Run(async () =>
            {
                // The run's own row must be on record, for what it was launched from stands there.
                await house.Store.Flush(soon: false);
                house.Store.RunFell(
                    Id,
                    run,
                    FallLook.Of(
                        definition,
                        Id,
                        run,
                        pid,
                        outcome.Core,
                        from,
                        to ?? from,
                        sample,
                        directory,
                        house.Store,
                        house.Places
                    )
                );
            });
        }

        void Record()
        {
            if (Situation.Run?.Number == run)
                return;
            over = true;
            end = Situation.LastEnd is { } last && last.Run == run ? last : null;
            house.Store.RunEnded(
                Id,
                run,
                new(
                    end?.Outcome ?? outcome,
                    at,
                    end is null ? null : RunWords.EndedBy(end, Situation),
                    peakKib,
                    cpuMicroseconds,
                    to,
                    // How long a stop takes is learned from those that somebody asked for: what hangs ends in no usual
                    // time.
                    end is { AsAsked: true }
                        ? at - since
                        : null,
                    end,
                    end is not null
                        && live is { Proven: not null, Launched: { } launched }
                        && (!end.Bad || at - launched >= Definition.Recover.SteadyAfter)
                )
            );
        }
    }

    /// <summary>The keeper's note of an outcome may go only when the store has it for good.</summary>
    private void DiscardOnceKept(RunNumber run, bool over = true) =>
        house.OnceKept(() => house.Host.Discard(Site(run), over));

    private async Task Gone(IKeeper link)
    {
        if (!ReferenceEquals(keeper, link))
            return;
        keeper = null;
        // One that was told nothing yet takes nothing with it: the launch is tried again, with another.
        if (Situation.Run is { Switch: not Switch.On } run && (run.Launched is not null || ordered == run.Number))
            await FindOutcome(run.Number, sameBoot: true);
    }
}
