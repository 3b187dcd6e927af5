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

    /// <summary>How long a server that has just begun waits for the answer of a keeper it finds.</summary>
    private static readonly TimeSpan KeeperPatience = TimeSpan.FromSeconds(3);

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
                _ => Remains.Discard(runDirectory, run, over),
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

    // What became of it while nobody watched

    /// <summary>Marks are believed up to so many runs beyond those on record: a number is text in a program's hands.</summary>
    private const long MostUnseen = 1000;

    /// <summary>Numbers of runs that processes of its account are marked with, as the server found them.</summary>
    private IReadOnlyList<long> marked = [];

    private async Task FindKeeper(bool newBoot)
    {
        if (KeeperLink.Find(runDirectory) is not { } link)
        {
            await FindUnwatched(newBoot).ConfigureAwait(false);
            return;
        }

        var word = link.Next();
        if (await Task.WhenAny(word, Task.Delay(KeeperPatience)).ConfigureAwait(false) == word)
        {
            await Greet(link, await word.ConfigureAwait(false), newBoot).ConfigureAwait(false);
            return;
        }

        // One keeper that hangs must not keep the sentry from serving all others.
        keeper = link;
        Trouble(
            "Its keeper does not answer, as when the disk that its output goes to does not. It is taken up as "
                + "soon as it does."
        );
        _ = word.ContinueWith(late => Post(() => Greet(link, late.Result, newBoot), null), TaskScheduler.Default);
    }

    private async Task Greet(KeeperLink link, (KeeperWord Word, byte[] Body)? word, bool newBoot)
    {
        keeper = null;
        if (word is { Word: KeeperWord.Hello } hello)
        {
            Attach(link);
            keeperPid = (int)Message.Number(hello.Body, "keeper");
            if (Message.Text(hello.Body, "phase") != "idle")
            {
                await TakeUpRun(hello.Body).ConfigureAwait(false);
                return;
            }
        }

        await FindUnwatched(newBoot).ConfigureAwait(false);
    }

    /// <summary>No keeper has a run of it: what became of those that anything is left of?</summary>
    private async Task FindUnwatched(bool newBoot)
    {
        var left = Left();
        if (Situation.Run is { Switch: Switch.On } on && left.All(run => run <= on.Number))
        {
            if (newBoot)
                await Over(on.Number, new(OutcomeKind.MachineLost), LostAt(on), null, null).ConfigureAwait(false);
        }
        else
        {
            if (left.LastOrDefault() is var latest && latest > Situation.LastRun)
                await TakeInUnseen(left, latest, sameBoot: !newBoot).ConfigureAwait(false);
            if (Situation.Run is { } run)
                await FindOutcome(run.Number, sameBoot: !newBoot).ConfigureAwait(false);
        }

        await EndOlder(left).ConfigureAwait(false);
        alarm.Set(Situation.WakeAt);
    }

    private async Task TakeUpRun(byte[] hello)
    {
        var number = new RunNumber(Message.Number(hello, "run"));
        var pid = (int)Message.Number(hello, "pid");
        var left = Left().Where(run => run != number).ToList();
        if (number > Situation.LastRun)
            await TakeInUnseen(left.Where(run => run < number), number, sameBoot: true).ConfigureAwait(false);
        OutputBegan = RunNotes.OutputFrom(runDirectory, number) ?? house.Store.OutputFrom(Id, number);
        OpenSay(null);
        await Apply(new TakenUp(number, pid)).ConfigureAwait(false);
        house.Store.RunBegan(Id, Situation.Run!, Revision, OutputBegan, RunWords.BegunBy(Situation), null);
        house.Store.RunLaunched(Id, number, pid, house.Now);
        if (Message.Text(hello, "phase") == "ending")
            await Apply(new MainEnded(number, Remains.Read(hello))).ConfigureAwait(false);
        await EndOlder(left).ConfigureAwait(false);
    }

    /// <summary>
    /// The runs that anything is left of, in their order. A mark alone, which a program of its account can write, brings
    /// nothing back that was stopped.
    /// </summary>
    private List<RunNumber> Left() =>
        [
            .. RunNotes.Left(
                Id.ToString(),
                runDirectory,
                house.Groups,
                Situation.Phase is Phase.Stopped or Phase.Held ? [] : Near()
            ),
        ];

    private IEnumerable<long> Near() => marked.Where(run => run <= Situation.LastRun + MostUnseen);

    /// <summary>Runs were ordered that the store had not heard of: the latest is the one to ask about from here on.</summary>
    private async Task TakeInUnseen(IEnumerable<RunNumber> left, RunNumber latest, bool sameBoot)
    {
        var ended = new List<UnseenEnd>();
        if (Situation.Run is { } known)
            ended.Add(await EndUnseen(known.Number, sameBoot).ConfigureAwait(false));
        foreach (var run in left.Where(run => run > Situation.LastRun && run < latest))
            ended.Add(await EndUnseen(run, sameBoot).ConfigureAwait(false));
        var began = RunNotes.Began(runDirectory, latest) ?? house.Now;
        await Apply(new RunsUnseen([.. ended], latest, began)).ConfigureAwait(false);
        OutputBegan = RunNotes.OutputFrom(runDirectory, latest) ?? 0;
        house.Store.RunBegan(Id, Situation.Run!, Revision, OutputBegan, RunWords.BegunBy(Situation), null);
    }

    /// <summary>A run that a later one has followed already: its end goes on record, and nothing of it lives on.</summary>
    private async Task<UnseenEnd> EndUnseen(RunNumber run, bool sameBoot)
    {
        var end = Remains.Outcome(runDirectory, run) is { } known
            ? EndOf(known.Word, known.Body)
            : (new(sameBoot ? OutcomeKind.KeeperLost : OutcomeKind.MachineLost), house.Now, null, null);
        if (sameBoot)
            await EndRemains(run).ConfigureAwait(false);
        var began = RunNotes.Began(runDirectory, run) ?? end.At;
        house.Store.RunBegan(
            Id,
            new LiveRun(run, Cause.Recovery, began),
            Revision,
            RunNotes.OutputFrom(runDirectory, run) ?? 0,
            RunWords.Sentry,
            null
        );
        var last = new LastEnd(run, end.Outcome, end.At, AsAsked: false, Forced: false) { Bad = !end.Outcome.IsGood };
        house.Store.RunEnded(Id, run, new(end.Outcome, end.At, null, end.PeakKib, end.CpuMicroseconds, End: last));
        DiscardOnceKept(run);
        return new(run, end.Outcome, end.At);
    }

    /// <summary>
    /// Of runs before the live one nothing may live on, and what was written down of their ends goes on record if it
    /// is not there yet.
    /// </summary>
    private async Task EndOlder(IEnumerable<RunNumber> left)
    {
        var live = Situation.Run?.Number;
        foreach (var run in left.Where(run => run <= Situation.LastRun).Union(Near().Select(run => new RunNumber(run))))
        {
            if (run == live)
                continue;
            await EndRemains(run).ConfigureAwait(false);
            if (Remains.Outcome(runDirectory, run) is { } known)
            {
                var end = EndOf(known.Word, known.Body);
                house.Store.RunEnded(Id, run, new(end.Outcome, end.At, null, end.PeakKib, end.CpuMicroseconds));
            }

            DiscardOnceKept(run);
        }
    }

    private async Task<int> EndRemains(RunNumber run)
    {
        var (ended, stuck) = await Remains.End(Site(run), house.Places, house.Groups).ConfigureAwait(false);
        if (ended > 0)
            house.Logbook.Note(this, new(EntryCode.RemainsEnded) { Run = run, Count = ended });
        if (stuck)
            Trouble(
                $"Some processes of run {run} do not end: the kernel holds them, as on a disk that does not "
                    + $"answer. They are no longer waited for."
            );
        return ended;
    }

    private async Task FindOutcome(RunNumber run, bool sameBoot)
    {
        if (Remains.Outcome(runDirectory, run) is { Word: KeeperWord.TreeEnded or KeeperWord.NeverLaunched } known)
        {
            await Over(known.Word, known.Body).ConfigureAwait(false);
            return;
        }

        if (!sameBoot)
        {
            await Over(run, new(OutcomeKind.MachineLost), LostAt(Situation.Run), null, null).ConfigureAwait(false);
            return;
        }

        var wasThere = await EndRemains(run).ConfigureAwait(false) > 0;
        if (
            !wasThere
            && Situation is { Phase: Phase.Starting, Run: { Launched: null } undone }
            && undone.Number == run
            && RunNotes.Began(runDirectory, run) is null
        )
            await Launch(run).ConfigureAwait(false); // decided, and lost before anybody was told to
        else
            await Over(run, new(OutcomeKind.KeeperLost), house.Now, null, null).ConfigureAwait(false);
    }

    /// <summary>The last moment the run is known to have been there, when the machine went down under it.</summary>
    private DateTimeOffset LostAt(LiveRun? run)
    {
        var known = run?.Proven ?? run?.Launched ?? run?.Began ?? house.Now;
        return house.LastSeen is { } seen && seen > known ? seen : known;
    }
}
