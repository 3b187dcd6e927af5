using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Keepers;

namespace CalmSentry.Engine.Services;

/// <summary>Finding out what became of a service's runs while nobody watched them, or their keeper was lost.</summary>
internal sealed partial class ServiceActor
{
    /// <summary>How long a server that has just begun waits for the answer of a keeper it finds.</summary>
    private static readonly TimeSpan KeeperPatience = TimeSpan.FromSeconds(1);

    /// <summary>How long anything else of a service waits for what is left of a run to end.</summary>
    private static readonly TimeSpan RemainsPatience = TimeSpan.FromSeconds(1);

    /// <summary>Marks are believed up to so many runs beyond those on record: a number is text in a program's hands.</summary>
    private const long MostUnseen = 1000;

    /// <summary>Numbers of runs that processes of its account are marked with, as the server found them.</summary>
    private IReadOnlyList<long> marked = [];

    /// <summary>Completes when what earlier runs left has ended; until then nothing is launched beside it.</summary>
    private Task remains = Task.CompletedTask;

    /// <summary>What may begin a run and was asked for while it is not known what its keeper has; null: that is known.</summary>
    private List<Happening>? untilGreeted;

    /// <summary>
    /// Nothing is begun beside what a keeper may have that has not answered yet, and of which nothing is on record: it waits,
    /// unless somebody stops the service meanwhile.
    /// </summary>
    private Task Hear(Happening happening)
    {
        if (untilGreeted is { } wait)
        {
            if (happening is StopAsked or UnwrapAsked)
                wait.RemoveAll(one => one is StartAsked or RestartAsked or ReleaseAsked or AdvanceAsked);
            else if (
                Situation.Run is null
                && happening
                    is MachineBegan
                        or Resumed
                        or StartAsked
                        or RestartAsked
                        or ReleaseAsked
                        or AdvanceAsked
                        or CalendarCame
                        or NeededBack
            )
            {
                wait.RemoveAll(one => one.GetType() == happening.GetType());
                wait.Add(happening);
                return Task.CompletedTask;
            }
        }

        return Apply(happening);
    }

    private async Task FindKeeper(bool newBoot)
    {
        var link = await house.Host.Find(RunDirectory, ProcessesLeft);
        if (link is null)
        {
            await FindUnwatched(newBoot);
            return;
        }

        var word = link.Next();
        if (await Task.WhenAny(word, house.Clocks.Delay(KeeperPatience)) == word)
        {
            await Greet(link, await word, newBoot);
            return;
        }

        // One keeper that hangs must not keep the sentry from serving all others.
        keeper = link;
        untilGreeted = [];
        Trouble(
            "Its keeper does not answer, as when somebody has stopped it, or the disk that its output goes to does not. "
                + "It is taken up as soon as it does; 'calm stop' ends it, and its run with it."
        );
        _ = word.ContinueWith(late => Post(() => Greet(link, late.Result, newBoot), null), house.Clocks.Tasks);
    }

    private async Task Greet(IKeeper link, (KeeperWord Word, byte[] Body)? word, bool newBoot)
    {
        keeper = null;
        var waited = untilGreeted ?? [];
        untilGreeted = null;
        if (word is { Word: KeeperWord.Hello } hello)
        {
            Attach(link);
            keeperPid = (int)Message.Number(hello.Body, "keeper");
            if (Message.Text(hello.Body, "phase") != "idle")
                await TakeUpRun(hello.Body);
            else
                await FindUnwatched(newBoot);
        }
        else
        {
            await FindUnwatched(newBoot);
        }

        foreach (var happening in waited)
            await Apply(happening);
    }

    /// <summary>
    /// One that answers is doing what it can: what it was told is told again. One that does not is ended; that its
    /// connection breaks leads to the rest, as after any loss of a keeper.
    /// </summary>
    private async Task EndKeeper()
    {
        if (keeper is not { } link)
            return; // what is left is being ended already, or nothing was ordered yet
        if (await link.Answers(KeeperPatience))
        {
            if (Situation.Phase == Phase.Stopping)
                link.Send(new Message(KeeperWord.EndTree));
            return;
        }

        Trouble("Its keeper does not answer: it is ended, and with it what is left of the run.");
        link.End();
    }

    /// <summary>What runs in the groups of its runs, and the process of the live one.</summary>
    private IEnumerable<int> ProcessesLeft() =>
        Left()
            .SelectMany(run => house.Host.Processes(Site(run)))
            .Concat(Situation.Run?.Pid is { } pid ? new[] { pid } : []);

    /// <summary>No keeper has a run of it: what became of those that anything is left of?</summary>
    private async Task FindUnwatched(bool newBoot)
    {
        var found = true;
        var left = Left();
        var on = Situation.Run is { Switch: Switch.On } and var switched && left.All(run => run <= switched.Number);
        if (!on && left.LastOrDefault() is var latest && latest > Situation.LastRun)
            await TakeInUnseen(latest, left, sameBoot: !newBoot);
        PassOver();
        // Before anything that leads to a launch: what the kernel holds of them is to be known then.
        await EndOlder(left);
        if (Situation.Run is not { } run)
        {
            // Nothing was under way.
        }
        else if (on)
        {
            if (newBoot)
                await Over(run.Number, new(OutcomeKind.MachineLost), LostAt(run), null, null);
        }
        else
        {
            // It may have been ordered by a server that could not put it on record any more.
            OutputBegan =
                house.Host.Noted(RunDirectory, run.Number)?.OutputFrom ?? house.Store.OutputFrom(Id, run.Number);
            house.Store.RunBegan(Id, run, Revision, OutputBegan, RunWords.BegunBy(Situation), null);
            found = await FindOutcome(run.Number, sameBoot: !newBoot);
        }

        var now = Reframe();
        alarm.Set(Situation.WakeAt, now);
        if (found)
            FoundOut();
    }

    private void FoundOut()
    {
        if (Known)
            return;
        Known = true;
        Publish();
    }

    private async Task TakeUpRun(byte[] hello)
    {
        var number = new RunNumber(Message.Number(hello, "run"));
        var pid = (int)Message.Number(hello, "pid");
        var left = Left().Where(run => run != number).ToList();
        if (number > Situation.LastRun)
            await TakeInUnseen(number, left, sameBoot: true);
        else if (Situation.Run is { } before && before.Number != number)
            await EndUnseen(before.Number, sameBoot: true); // numbers were left out since, and this one comes from before that
        if (house.Host.Noted(RunDirectory, number)?.Moment is { } taken)
            await Apply(new MomentUnseen(taken));
        OutputBegan = house.Host.Noted(RunDirectory, number)?.OutputFrom ?? house.Store.OutputFrom(Id, number);
        if (house.Host.AccountOf(Definition.Account) is { } account)
            OpenSay(account);
        await Apply(new TakenUp(number, pid));
        if (
            LaunchedBy?.Program is { Window: not null } program
            && house.Host.AccountOf(Definition.Account) is { } shows
            && !await house.Host.FindDisplay(this, program, shows, number, why => DisplayGone(number, why))
        )
            DisplayGone(number);
        house.Store.RunBegan(Id, Situation.Run!, Revision, OutputBegan, RunWords.BegunBy(Situation), null);
        house.Store.RunLaunched(Id, number, pid, house.Clocks.Now);
        if (Message.Text(hello, "phase") == "ending")
            await MainGone(number, hello);
        PassOver();
        await EndOlder(left);
        FoundOut();
    }

    /// <summary>
    /// What was left of a run when this server came, and was to be taken in, may be gone by now: the numbers that may have been given are
    /// left out all the same.
    /// </summary>
    private void PassOver()
    {
        var given = registry.Given(Id);
        if (given <= Situation.LastRun)
            return;
        Situation = Situation with { LastRun = given };
        house.Store.Save(Id, Situation, frame);
        house.Logbook.Note(this, new NumbersPassedOverEntry(given));
    }

    /// <summary>
    /// The runs that anything is left of, in their order. A mark alone, which a program of its account can write, brings
    /// nothing back that was stopped.
    /// </summary>
    private List<RunNumber> Left() =>
        [.. house.Host.Left(Id.ToString(), RunDirectory, Situation.Phase is Phase.Stopped or Phase.Held ? [] : Near())];

    private IEnumerable<long> Near() => marked.Where(run => run <= Situation.LastRun + MostUnseen);

    /// <summary>Runs were ordered that the store had not heard of: the latest is the one to ask about from here on.</summary>
    private async Task TakeInUnseen(RunNumber latest, IReadOnlyList<RunNumber> left, bool sameBoot)
    {
        var ended = new List<UnseenEnd>();
        if (Situation.Run is { } known)
            ended.Add(await EndUnseen(known.Number, sameBoot));
        var unseen = left.Where(run => run > Situation.LastRun && run < latest).ToList();
        foreach (var run in unseen)
            ended.Add(await EndUnseen(run, sameBoot));
        // Of one that nothing is left of, nobody can say how it ended, or that it was.
        var leftOut = registry.Given(Id);
        if (leftOut <= latest)
        {
            leftOut = new(latest.Value - 1);
            while (unseen.Contains(leftOut))
                leftOut = new(leftOut.Value - 1);
        }

        var note = house.Host.Noted(RunDirectory, latest);
        await Apply(
            new RunsUnseen(
                [.. ended],
                latest,
                note?.Began ?? house.Clocks.Now,
                note?.Moment,
                leftOut > Situation.LastRun ? leftOut : null
            )
        );
        OutputBegan = note?.OutputFrom ?? 0;
        house.Store.RunBegan(Id, Situation.Run!, Revision, OutputBegan, RunWords.BegunBy(Situation), null);
    }

    /// <summary>A run that a later one has followed already: its end goes on record, and nothing of it lives on.</summary>
    private async Task<UnseenEnd> EndUnseen(RunNumber run, bool sameBoot)
    {
        var end = house.Host.Outcome(RunDirectory, run) is { } known
            ? EndOf(known.Word, known.Body, sameBoot)
            : (new(sameBoot ? OutcomeKind.KeeperLost : OutcomeKind.MachineLost), house.Clocks.Now, null, null);
        if (sameBoot)
            await EndRemainsOfEarlier(run);
        var note = house.Host.Noted(RunDirectory, run);
        house.Store.RunBegan(
            Id,
            new LiveRun(run, Cause.Recovery, note?.Began ?? end.At),
            Revision,
            note?.OutputFrom ?? 0,
            RunWords.Sentry,
            null
        );
        var last = new LastEnd(run, end.Outcome, end.At, AsAsked: false, Forced: false) { Bad = !end.Outcome.IsGood };
        house.Store.RunEnded(Id, run, new(end.Outcome, end.At, null, end.PeakKib, end.CpuMicroseconds, End: last));
        DiscardOnceKept(run);
        return new(run, end.Outcome, end.At, note?.Moment);
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
            // A note is the sentry's own word that there was an order; a mark is not.
            if (house.Host.Noted(RunDirectory, run) is not null)
            {
                if ((await EndUnseen(run, sameBoot: true)).Moment is { } moment)
                    await Apply(new MomentUnseen(moment));
                continue;
            }

            await EndRemainsOfEarlier(run);
            // That it was over was on record, and how it ended not yet.
            var end = house.Host.Outcome(RunDirectory, run) is { } known
                ? EndOf(known.Word, known.Body, sameBoot: true)
                : (new(OutcomeKind.KeeperLost), house.Clocks.Now, null, null);
            house.Store.RunEnded(Id, run, new(end.Outcome, end.At, null, end.PeakKib, end.CpuMicroseconds));
            DiscardOnceKept(run);
        }
    }

    /// <summary>As a rule nothing is left, or ends at once. What the kernel holds keeps nobody but the next launch waiting.</summary>
    private async Task EndRemainsOfEarlier(RunNumber run)
    {
        var ending = EndRemains(run);
        if (await Task.WhenAny(ending, house.Clocks.Delay(RemainsPatience)) != ending)
            remains = Task.WhenAll(remains, ending);
    }

    /// <summary>Whose processes are believed to be a run's by their mark: the account of today, and that of the live run's beginning.</summary>
    private IReadOnlyCollection<uint> Accounts() =>
        [
            .. new[] { Definition.Account, LaunchedBy?.Account }
                .OfType<string>()
                .Distinct()
                .Select(house.Host.AccountOf)
                .OfType<Linux.Accounts.Account>()
                .Select(account => account.Uid),
        ];

    /// <summary>Completes when nothing of the run lives any more, however long the kernel holds some of it.</summary>
    /// <returns>How many processes there were.</returns>
    private async Task<int> EndRemains(RunNumber run)
    {
        var all = 0;
        for (var said = false; ; said = true)
        {
            var (ended, left) = await house.Host.End(Site(run), Accounts());
            all = Math.Max(all, ended);
            if (left is null)
                break;
            if (!said)
                Trouble(
                    $"Some processes of run {run} do not end: {left}. The kernel holds them, as on a disk that does not "
                        + $"answer. Nothing else is started in their place before they have ended."
                );
        }

        if (all > 0)
            house.Logbook.Note(this, new RemainsEndedEntry(run, all));
        return all;
    }

    /// <returns>False: what is left of the run does not end yet, and what became of it is found out later.</returns>
    private async Task<bool> FindOutcome(RunNumber run, bool sameBoot)
    {
        if (house.Host.Outcome(RunDirectory, run) is { Word: KeeperWord.TreeEnded or KeeperWord.NeverLaunched } known)
        {
            await Over(known.Word, known.Body);
            return true;
        }

        if (!sameBoot)
        {
            // Nothing is left of it, unless the boot before it was all that could be put on record.
            await EndRemainsOfEarlier(run);
            await Over(run, new(OutcomeKind.MachineLost), LostAt(Situation.Run), null, null);
            return true;
        }

        // As a rule nothing is left, or ends at once. What the kernel holds keeps nobody waiting.
        var ending = EndRemains(run);
        if (await Task.WhenAny(ending, house.Clocks.Delay(RemainsPatience)) == ending)
        {
            await Lost(run, await ending > 0);
            return true;
        }

        Known = false;
        Publish();
        _ = ending.ContinueWith(left => Post(() => Lost(run, left.Result > 0), null), house.Clocks.Tasks);
        return false;
    }

    /// <summary>Nothing of the run is left, nor is a word of how it ended.</summary>
    private async Task Lost(RunNumber run, bool wasThere)
    {
        if (
            !wasThere
            && Situation is { Phase: Phase.Starting, Run: { Launched: null } undone }
            && undone.Number == run
            && registry.Reached(Id) <= run // else there have been later ones, which the store does not know
            && registry.Remembers // else nothing could be left of it, launched or not: its number is not given twice
            && house.Host.Noted(RunDirectory, run)?.Began is null
        )
            await Launch(run); // decided, and lost before anybody was told to
        else
            await Over(run, new(OutcomeKind.KeeperLost), house.Clocks.Now, null, null);
        FoundOut();
    }

    /// <summary>The last moment the run is known to have been there, when the machine went down under it.</summary>
    private DateTimeOffset LostAt(LiveRun? run)
    {
        var known = run?.Proven ?? run?.Launched ?? run?.Began ?? house.Clocks.Now;
        return house.LastSeen is { } seen && seen > known ? seen : known;
    }
}
