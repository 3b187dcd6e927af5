using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Wording;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Falls;
using CalmSentry.Server.Keepers;
using CalmSentry.Server.Watching;

namespace CalmSentry.Server.Services;

/// <summary>The actor's runs: launching them, hearing of them, and finding out about them after an absence.</summary>
internal sealed partial class ServiceActor
{
    private const int NoSpace = 28;

    /// <summary>How long an end waits for the answer that came with it.</summary>
    private static readonly TimeSpan StepLinger = TimeSpan.FromMilliseconds(20);

    private static readonly TimeSpan OwnTroublePause = TimeSpan.FromSeconds(2);

    // Launching

    private async Task Launch(RunNumber run, bool switchOff = false)
    {
        outputStuck = 0;
        if (!switchOff)
        {
            (Said, AliveStamp) = (default, 0);
            Vitals = new(() => Vitals.TreeOf(this, house.Groups), house);
        }

        Account? named;
        try
        {
            named = Account.Named(Definition.Account);
        }
        catch (OwnTroubleException own)
        {
            LaunchLater(run, switchOff, own);
            return;
        }

        if (named is not { } account)
        {
            Refuse(run, $"this host has no account named {Definition.Account}; make it, or set another with --account");
            return;
        }

        if (!house.Permits.Permitted(Definition.Account))
        {
            Refuse(
                run,
                $"the account {Definition.Account} is not permitted to run services; 'calm account permit "
                    + $"{Definition.Account}' permits it"
            );
            return;
        }

        try
        {
            var output = house.Places.OutputOf(Definition.Name);
            if (!switchOff)
                OutputBegan = File.Exists(output) ? new FileInfo(output).Length : 0;
            var order = LaunchOrder.Of(Definition, Site(run), account, house, switchOff);
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
                await keeperGone.ConfigureAwait(false);
                Prepare(account);
                Attach(KeeperLink.Start(house.Keepers, runDirectory));
            }

            if (!switchOff)
                RunNotes.Write(runDirectory, Situation.Run!, OutputBegan);
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
                house.Keepers.ReserveSoon();
        }
        catch (OwnTroubleException own)
        {
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
        Trouble(
            $"Run {run} cannot be launched yet: {own.Message}. It is tried again in {OwnTroublePause.TotalSeconds:0} s."
        );
        _ = Task.Delay(OwnTroublePause)
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
                TaskScheduler.Default
            );
    }

    private void Prepare(Account account)
    {
        EarlierPlaces.Forget(house.Places, house.Ceilings, Definition.Name);
        Directory.CreateDirectory(
            runDirectory,
            UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute
        );
        Directory.CreateDirectory(house.Places.OutputDirectoryOf(Definition.Name));
        Ownership.MakeDirectory(house.Places.StateOf(Definition.Name), account);
    }

    /// <summary>
    /// Opens the socket on which its programs speak. That it cannot be made is no reason not to run, nor not to be
    /// taken up.
    /// </summary>
    private void OpenSay(Account? account)
    {
        try
        {
            if ((account ?? Account.Named(Definition.Account)) is { } owner)
                house.Says.Open(this, owner);
        }
        catch (IOException error)
        {
            Trouble($"It cannot speak of itself in this run: {error.Message}.");
        }
    }

    /// <summary>
    /// Looks for the process that a program left in the background until it is found or nobody waits for it any more.
    /// </summary>
    private async Task FindMain(RunNumber run)
    {
        while (
            Situation.Run is { Number: var live, Detached: false } && live == run && Situation.Phase == Phase.Starting
        )
        {
            if (DetachedMain.Of(Definition.Program.PidFile, ProcessFacts.Parent, keeperPid) is { } found)
            {
                Post(
                    () =>
                    {
                        keeper?.Send(new Message(KeeperWord.Follow).With("pid", found));
                        return Task.CompletedTask;
                    },
                    null
                );
                await Task.Delay(200).ConfigureAwait(false); // the keeper says so, or it is looked for again
            }

            await Task.Delay(20).ConfigureAwait(false);
        }
    }

    private void Refuse(RunNumber run, string why)
    {
        house.Store.RunBegan(Id, Situation.Run!, Revision, OutputBegan, RunWords.BegunBy(Situation), null);
        Post(() => Over(run, new(OutcomeKind.NeverLaunched, Detail: why), house.Now, null, null), null);
    }

    private void Attach(KeeperLink link)
    {
        keeper = link;
        keeperPid = link.Pid;
        keeperGone = Task.Run(async () =>
        {
            while (await link.Next().ConfigureAwait(false) is var (word, body))
                Post(() => Hear(word, body), null);
            await link.Buried().ConfigureAwait(false);
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
                await Apply(new Launched(run, pid)).ConfigureAwait(false);
                if (Situation.Run is { Launched: { } launched, Switch: not Switch.GoingOff } live && live.Number == run)
                    house.Store.RunLaunched(Id, run, pid, launched);
                break;
            case KeeperWord.Followed:
                await Apply(new MainFound(run, (int)Message.Number(body, "pid"))).ConfigureAwait(false);
                house.Store.RunLaunched(Id, run, (int)Message.Number(body, "pid"), house.Now);
                break;
            case KeeperWord.InputTaken:
                inputTaken?.TrySetResult((int)Message.Number(body, "errno"));
                break;
            case KeeperWord.MainEnded:
                await Apply(new MainEnded(run, Remains.Read(body))).ConfigureAwait(false);
                break;
            case KeeperWord.NeverLaunched or KeeperWord.TreeEnded:
                await Over(word, body).ConfigureAwait(false);
                break;
            case KeeperWord.OutputStuck or KeeperWord.OutputFlows:
                outputStuck = word == KeeperWord.OutputStuck ? (int)Message.Number(body, "errno") : 0;
                house.Logbook.Note(
                    this,
                    outputStuck == 0
                        ? new(EntryCode.OutputFlows)
                        : new(EntryCode.OutputStuck)
                        {
                            Seen =
                                outputStuck == NoSpace
                                    ? "its disk is full, but for a reserve that the sentry keeps for its own records"
                                    : Names.Errno(outputStuck),
                        }
                );
                Publish();
                break;
        }
    }

    private async Task Over(KeeperWord word, byte[] body)
    {
        var run = new RunNumber(Message.Number(body, "run"));
        var end = EndOf(word, body);
        await Over(run, end.Outcome, end.At, end.PeakKib, end.CpuMicroseconds).ConfigureAwait(false);
        if (Message.Number(body, "unwritten") is > 0 and var lost)
            house.Logbook.Note(this, new(EntryCode.OutputLost) { Run = run, Count = lost });
    }

    /// <summary>What a keeper tells, or wrote down, of the end of a run.</summary>
    private (Outcome Outcome, DateTimeOffset At, long? PeakKib, long? CpuMicroseconds) EndOf(
        KeeperWord word,
        byte[] body
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
            return (new(OutcomeKind.NeverLaunched, Detail: words), house.Now, null, null);
        }

        var at = DateTimeOffset.FromUnixTimeMilliseconds(
            Message.Number(body, "ended-ms", house.Now.ToUnixTimeMilliseconds())
        );
        return (Remains.Read(body), at, Message.Number(body, "peak-kib"), Message.Number(body, "cpu-us"));
    }

    private async Task Over(RunNumber run, Outcome outcome, DateTimeOffset at, long? peakKib, long? cpuMicroseconds)
    {
        // What a step was answered often comes with the end itself: it belongs before it.
        if (step is { } under && await Task.WhenAny(under, Task.Delay(StepLinger)).ConfigureAwait(false) == under)
            await HearStep(run).ConfigureAwait(false);
        var since = Situation.Since;
        var output = house.Places.OutputOf(Definition.Name);
        var (live, from, to, sample) = (
            Situation.Run,
            OutputBegan,
            File.Exists(output) ? new FileInfo(output).Length : 0,
            Vitals.Latest
        );
        await Apply(new RunEnded(run, outcome), at).ConfigureAwait(false);
        if (Situation.Run?.Number == run)
        {
            DiscardOnceKept(run, over: false); // of something switched on, only the start command has ended
            return;
        }

        var end = Situation.LastEnd is { } last && last.Run == run ? last : null;
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
        DiscardOnceKept(run);
        if (end is { Bad: true })
        {
            var (definition, pid, directory) = (
                Definition,
                live?.Pid,
                LaunchOrder.DirectoryOf(Definition, house.Places)
            );
            _ = Task.Run(async () =>
            {
                // The run's own row must be on record, for what it was launched from stands there.
                await house.Store.Flush(soon: false).ConfigureAwait(false);
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
                        to,
                        sample,
                        directory,
                        house.Store,
                        house.Places
                    )
                );
            });
        }
    }

    /// <summary>The keeper's note of an outcome may go only when the store has it for good.</summary>
    private void DiscardOnceKept(RunNumber run, bool over = true) =>
        _ = house
            .Store.Flush(soon: false)
            .ContinueWith(
                _ => Remains.Discard(Site(run), house.Groups, over),
                CancellationToken.None,
                TaskContinuationOptions.OnlyOnRanToCompletion,
                TaskScheduler.Default
            );

    private async Task Gone(KeeperLink link)
    {
        if (!ReferenceEquals(keeper, link))
            return;
        keeper = null;
        if (Situation.Run is { Switch: not Switch.On } run)
            await FindOutcome(run.Number, sameBoot: true).ConfigureAwait(false);
    }
}
