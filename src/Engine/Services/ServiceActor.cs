using System.Collections.Concurrent;
using System.Text.Json;
using System.Threading.Channels;
using CalmSentry.Contract.Api;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Settling;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Begin;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Rhythms;
using CalmSentry.Engine.Watching;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Engine.Services;

/// <summary>
/// One service at work. Everything that happens to it goes through one channel with one reader, so it needs no lock;
/// the
/// core decides, this carries the deeds out.
/// </summary>
internal sealed partial class ServiceActor : IWatched, ITakesTurns, IDisposable
{
    private readonly House house;
    private readonly Registry registry;

    // As many as those who write them: a caller waits for its answer, a program is held to a pace at its door, a keeper
    // tells a few words a run.
    private readonly Channel<Func<Task>> letters = Channel.CreateUnbounded<Func<Task>>(
        new UnboundedChannelOptions { SingleReader = true }
    );
    private readonly List<Waiter> waiters = [];
    private readonly Alarm alarm;
    private IKeeper? keeper;
    private Task keeperGone = Task.CompletedTask;
    private int keeperPid;
    private bool forgotten;
    private int outputStuck;
    private CancellationTokenSource? needLook,
        proofLook,
        watchLook,
        questionLook,
        windowLook,
        stepLook,
        restartLook,
        daysLook;
    private Task<StepEffect?>? step;
    private int stepIndex;

    /// <summary>Who waits for the keeper's word that input was taken, in the order in which it was given.</summary>
    private readonly Queue<TaskCompletionSource<int>> inputs = [];
    private bool inGate;
    private TaskCompletionSource nextSaid,
        nextPause;

    private sealed record Waiter(
        Func<Situation, bool> Met,
        TaskCompletionSource<Situation> Done,
        CancellationToken Gone
    );

    public ServiceActor(
        House house,
        ServiceId id,
        Definition definition,
        int revision,
        Situation situation,
        ClockStamp frame,
        Registry registry
    )
    {
        Id = id;
        (this.house, Definition, Revision, Situation, this.frame, this.registry) = (
            house,
            definition,
            revision,
            situation,
            frame,
            registry
        );
        nextSaid = new(house.Clocks.Promises);
        nextPause = new(house.Clocks.Promises);
        RunDirectory = house.Places.RunOf(id.ToString());
        alarm = new(house.Clocks.Time, wait => Post(() => Wake(wait), null));
        Vitals = new(() => house.Host.Tree(this), house.Clocks);
        turned = Turned(situation);
        View = ServiceViews.Of(this);
        _ = house.Clocks.Run(Work);
    }

    public ServiceId Id { get; }

    string ISubject.Name => Definition.Name;

    /// <summary>The directory of its keeper.</summary>
    public string RunDirectory { get; }

    /// <summary>What the groups, marks and secret files of its live run are named after.</summary>
    public string Label => Situation.Run?.Label ?? Id.ToString();

    /// <summary>Where a run takes place.</summary>
    public RunSite Site(RunNumber run) =>
        new(
            Situation.Run is { Label: { } label } live && live.Number == run ? label : Id.ToString(),
            run,
            RunDirectory,
            house.Places.OutputOf(Definition.Name)
        );

    /// <summary>The definition in effect: what a launch from now on goes by.</summary>
    public Definition Definition { get; private set; }

    public int Revision { get; private set; }

    /// <summary>Replaced whole: requests read it beside the actor.</summary>
    private sealed record LaunchedWith(RunNumber Run, Definition By);

    private sealed record Waiting(Definition By, Definition Now, IReadOnlyList<string> Keys);

    private LaunchedWith? launched;
    private Waiting? pending;

    /// <summary>The definition that the live run was launched by; null: there is no live run, or that is not known any more.</summary>
    public Definition? LaunchedBy
    {
        get
        {
            if (Situation.Run is not { } run)
                return null;
            if (launched is { } with && with.Run == run.Number)
                return with.By;
            // What is not on record yet may be so the next time.
            var by = ReadLaunchedBy(run.Number);
            if (by is not null)
                launched = new(run.Number, by);
            return by;
        }
    }

    private Definition? ReadLaunchedBy(RunNumber run)
    {
        if (house.Store.RevisionOf(Id, run) is not { } revision)
            return null;
        if (revision == Revision)
            return Definition;
        return Given(revision);
    }

    private Definition? Given(int revision)
    {
        try
        {
            return house.Store.Document(Id, revision) is { } document ? Registry.Read(document).Definition : null;
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException)
        {
            return null; // a damaged row of the past keeps nobody from serving
        }
    }

    /// <summary>Dotted keys that were set since the live run was launched, and take effect with the next start only.</summary>
    public IReadOnlyList<string> Pending
    {
        get
        {
            var (by, now) = (LaunchedBy, Definition);
            if (by is null || ReferenceEquals(by, now))
                return [];
            var kept = pending;
            if (kept is null || !ReferenceEquals(kept.By, by) || !ReferenceEquals(kept.Now, now))
                pending = kept = new(
                    by,
                    now,
                    [
                        .. DefinitionChanges
                            .Between(by, now)
                            .Where(change => !change.HoldsAtOnce)
                            .Select(change => change.Key.Split('[')[0])
                            .Distinct(),
                    ]
                );
            return kept.Keys;
        }
    }

    /// <summary>Puts another definition into effect. The live run goes on as it is.</summary>
    /// <param name="source">The files it came from; null: it came from none.</param>
    /// <param name="settled">It is what these files say.</param>
    public Task Adjust(
        Definition definition,
        string document,
        Principal by,
        string? source = null,
        SettledAs? settled = null
    ) =>
        Call(async () =>
        {
            if (forgotten || definition.Name != Definition.Name)
                return;
            var was = Definition;
            var changed = DefinitionChanges.Between(was, definition);
            Definition = definition;
            Revision++;
            house.Store.Revise(Id, Revision, document, by, house.Clocks.Now, source);
            house.Tools.Copies.Keep(Id, definition.Name, Revision, Situation.LastRun, document);
            registry.Reshape();
            house.Logbook.Note(this, new AdjustedEntry(Revision, [.. changed]), by);
            if (settled is not null)
                Fits(settled);
            LookApart(by);
            if (definition.Output != was.Output)
            {
                KeepOutput();
                house.Turned(this);
            }

            await Apply(new Adjusted(was));
            Publish();
        });

    /// <summary>Which files it was brought to; null: none, or nobody knows any more.</summary>
    public SettledAs? Files { get; private set; }

    /// <summary>Since when it differs from those; null: it does not.</summary>
    public DateTimeOffset? Apart { get; private set; }

    private Definition? filed;

    /// <summary>It is as files say, or it is of no files any more.</summary>
    public Task Settled(SettledAs? settled) =>
        Call(() =>
        {
            if (forgotten)
                return Task.CompletedTask;
            if (settled is null)
            {
                (Files, filed) = (null, null);
                house.Store.RemoveSettled(Id);
            }
            else
                Fits(settled with { Revision = Revision });
            LookApart(null);
            Publish();
            return Task.CompletedTask;
        });

    private void Fits(SettledAs settled)
    {
        (Files, filed) = (settled with { Revision = Revision }, Definition);
        house.Store.SetSettled(Id, Files);
    }

    /// <summary>What a server before knew.</summary>
    public void TakeFiles(SettledAs settled)
    {
        (Files, filed) = (settled, settled.Revision == Revision ? Definition : Given(settled.Revision));
        if (filed is not null && DefinitionChanges.Between(filed, Definition).Count > 0)
            Apart = house.Store.NextGiven(Id, settled.Revision) ?? house.Clocks.Now;
    }

    private void LookApart(Principal? by)
    {
        var differs = filed is null ? [] : DefinitionChanges.Between(filed, Definition);
        if (differs.Count > 0 == Apart is not null)
            return;
        Apart = differs.Count > 0 ? house.Clocks.Now : null;
        if (Apart is not null)
            house.Logbook.Note(this, new ApartEntry(Files!.Directory, [.. differs.Select(one => one.Key)]), by);
        else if (filed is not null)
            house.Logbook.Note(this, new AsFilesEntry(), by);
    }

    /// <summary>Nothing of it runs, and nothing will without a word from somebody or a retry.</summary>
    public bool IsAtRest => Situation is { Run: null, Phase: Phase.Stopped or Phase.Held };

    /// <summary>Gives it another short name, if it is at rest.</summary>
    /// <param name="move">Moves what goes by the name; says why it cannot.</param>
    /// <returns>Why it keeps its name, as a clause; null: it has the other one.</returns>
    public Task<string?> Rename(Definition definition, string document, Principal by, Func<string?> move)
    {
        string? why = "it is no more";
        return Call<string?>(
            () =>
            {
                if (forgotten)
                    return Task.CompletedTask;
                var (was, now) = (Definition.Name, definition.Name);
                why =
                    !IsAtRest ? "it was started meanwhile"
                    : !registry.TryRename(this, was, now) ? $"there is a service called '{now}' meanwhile"
                    : move();
                if (why is not null)
                {
                    if (registry.Named(now) == this)
                        registry.TryRename(this, now, was);
                    return Task.CompletedTask;
                }

                Definition = definition;
                Revision++;
                house.Store.Rename(Id, was, now, Revision, document, by, house.Clocks.Now);
                house.Tools.Secrets.Rename(was, now);
                house.Tools.Copies.Keep(Id, now, Revision, Situation.LastRun, document);
                house.Tools.Copies.Remove(was);
                registry.Reshape();
                house.Logbook.Note(this, new RenamedEntry(was, Revision), by);
                LookApart(by);
                house.Events.Removed(was);
                Publish();
                return Task.CompletedTask;
            },
            () => why
        );
    }

    /// <summary>Does something to its files, if nothing of it is there: nothing is begun meanwhile.</summary>
    public Task Exchange(Action work) =>
        Call(() =>
        {
            if (!forgotten && !Situation.Lives)
                work();
            return Task.CompletedTask;
        });

    /// <summary>Takes what is stored as its definition.</summary>
    public Task Take(Definition definition, int revision) =>
        Call(() =>
        {
            (Definition, Revision) = (definition, revision);
            return Task.CompletedTask;
        });

    public Situation Situation { get; private set; }

    /// <summary>
    /// Whether it has been found out what became of it while no server watched; until then its situation is what was
    /// last on record.
    /// </summary>
    public bool Known { get; private set; } = true;

    /// <summary>errno while output cannot be written, else 0.</summary>
    public int OutputStuck => outputStuck;

    /// <summary>The run that has said on its socket that it is ready; 0 before any.</summary>
    public long SaidServes { get; private set; }

    /// <summary>Completes when the program tells something.</summary>
    public Task NextSaid => nextSaid.Task;

    /// <summary>What the program last said of itself.</summary>
    public string? Said { get; private set; }

    /// <summary>
    /// When the program last said that it is well, by the clock that only goes forward; 0: not in this run.
    /// </summary>
    public long AliveStamp { get; private set; }

    public TimeSpan? PausedSince { get; private set; }

    public Task NextPause => nextPause.Task;

    /// <summary>What the program said it is busy with, as a clause; null: it did not, or is no more.</summary>
    public string? BusyWith => busy is { } said && Situation.Run?.Number == said.Run ? said.With : null;

    private sealed record Busy(RunNumber Run, string With);

    private volatile Busy? busy;

    /// <summary>The program says that it is in the middle of something, or no more.</summary>
    public void SaysBusy(bool isBusy, string? with) =>
        Post(
            () =>
            {
                busy =
                    isBusy && Situation.Run is { } run
                        ? new(run.Number, with is null ? "it says that it is busy" : $"it says that it is busy: {with}")
                        : null;
                Pass(ref nextSaid);
                Publish();
                return Task.CompletedTask;
            },
            null
        );

    /// <summary>Whoever waits for something goes on, and the next waits anew.</summary>
    private void Pass(ref TaskCompletionSource next)
    {
        var before = next;
        next = new(house.Clocks.Promises);
        before.TrySetResult();
    }

    /// <summary>When somebody last typed at its terminal; null: nobody has since this server serves.</summary>
    public DateTimeOffset? TypedAt
    {
        get => Interlocked.Read(ref typedAt) is var ticks and not 0 ? new(ticks, TimeSpan.Zero) : null;
        set => Interlocked.Exchange(ref typedAt, value?.UtcTicks ?? 0);
    }

    private long typedAt;

    /// <summary>Figures of the live run.</summary>
    public Vitals Vitals { get; private set; }

    /// <summary>The latest look of each watch, by its place in the definition.</summary>
    public ConcurrentDictionary<int, LatestLook> Looks { get; private set; } = [];

    public WindowSight Window { get; private set; } = new();

    /// <summary>Process id of its keeper, or 0.</summary>
    public int KeeperPid => keeper is null ? 0 : keeperPid;

    /// <summary>The program says something of itself.</summary>
    /// <param name="alive">It says that it is well; a text about itself says nothing of that.</param>
    public void Says(bool serves, bool alive, string? text) =>
        Post(
            () =>
            {
                if (Situation.Run is not { } run)
                    return Task.CompletedTask;
                if (serves)
                    SaidServes = run.Number;
                Said = text ?? Said;
                if (alive)
                    AliveStamp = house.Clocks.Time.GetTimestamp();
                Pass(ref nextSaid);
                if (text is not null)
                    Publish();
                return Task.CompletedTask;
            },
            null
        );

    /// <summary>It speaks of itself more often than it may: said once in a while, however often it does.</summary>
    public void SaysTooOften(long heard)
    {
        var now = house.Clocks.Time.GetTimestamp();
        var last = Interlocked.Read(ref tooOftenSaid);
        if (
            (last != 0 && house.Clocks.Time.GetElapsedTime(last, now) < TooOftenBeat)
            || Interlocked.CompareExchange(ref tooOftenSaid, now, last) != last
        )
            return;
        house.Logbook.Note(this, new SaysTooOftenEntry(heard));
    }

    /// <summary>The sentry itself is at fault with something about this service.</summary>
    public void Trouble(string text) => house.Logbook.Trouble(text, this);

    private static readonly TimeSpan TooOftenBeat = TimeSpan.FromMinutes(1);

    private long tooOftenSaid;

    /// <summary>The latest state as people see it; replaced whole.</summary>
    public ServiceView View { get; private set; }

    /// <summary>Where this run's output begins in the output file.</summary>
    public long OutputBegan { get; private set; }

    /// <summary>Lets something happen and returns the situation it led to at once.</summary>
    public Task<Situation> Ask(Happening happening) => Call(() => Hear(happening), () => Situation);

    /// <summary>Completes as soon as the situation is as wanted, or the service is no more.</summary>
    public Task<Situation> Until(Func<Situation, bool> met, CancellationToken cancellation)
    {
        var waiter = new Waiter(met, new(house.Clocks.Promises), cancellation);
        var posted = Post(
            () =>
            {
                waiters.Add(waiter);
                return Task.CompletedTask;
            },
            null
        );
        if (!posted)
            waiter.Done.TrySetResult(Situation);
        return waiter.Done.Task.WaitAsync(cancellation);
    }

    /// <summary>
    /// Finds out what became of the service while no server watched. Before anything else is asked of it.
    /// </summary>
    public Task TakeUp(bool newBoot, ILookup<string, MarkedProcess> marks)
    {
        Known = false;
        View = ServiceViews.Of(this);
        return Call(async () =>
        {
            uint[] believed = [0, .. Accounts()];
            marked =
            [
                .. marks[Id.ToString()].Where(mark => mark.Users.AreAll(believed)).Select(mark => mark.Run).Distinct(),
            ];
            var stopped = house.Host.StopNoted(RunDirectory);
            await FindKeeper(newBoot);
            if (stopped is not null)
                await Apply(new StopAsked(new(stopped)));
        });
    }

    /// <summary>What somebody asked for last holds, also where it cannot be put on record before this server is lost.</summary>
    private void NoteWhatWasAsked(Happening happening)
    {
        if (happening is StopAsked { ThisRun: false, By: { Kind: PrincipalKind.Account, Name: var by } })
        {
            house.Host.NoteStop(RunDirectory, by);
            house.OnceKept(() => house.Host.ForgetStop(RunDirectory));
        }
        else if (happening is StartAsked or RestartAsked or ReleaseAsked)
            house.Host.ForgetStop(RunDirectory);
    }

    public void Dispose()
    {
        alarm.Dispose();
        needLook?.Cancel();
        proofLook?.Cancel();
        watchLook?.Cancel();
        questionLook?.Cancel();
        windowLook?.Cancel();
        stepLook?.Cancel();
        restartLook?.Cancel();
        daysLook?.Cancel();
        house.Calendar.Set(this, null);
        letters.Writer.TryComplete();
    }

    private Task<bool> Call(Func<Task> work) => Call(work, () => true);

    /// <summary>Has something done in its turn, and waits for it; where the service is no more nothing is done.</summary>
    /// <param name="answer">What is answered then, also when it failed or was not done.</param>
    private Task<T> Call<T>(Func<Task> work, Func<T> answer)
    {
        var done = new TaskCompletionSource<T>(house.Clocks.Promises);
        if (!Post(work, () => done.TrySetResult(answer())))
            done.TrySetResult(answer());
        return done.Task;
    }

    private bool Post(Func<Task> work, Action? then) =>
        letters.Writer.TryWrite(async () =>
        {
            try
            {
                await work();
            }
            finally
            {
                then?.Invoke(); // whoever waits is answered, whatever went wrong
            }
        });

    private async Task Work()
    {
        while (!forgotten && await letters.Reader.WaitToReadAsync())
        {
            while (!forgotten && letters.Reader.TryRead(out var letter))
            {
                try
                {
                    await letter();
                }
                catch (Exception unexpected)
                {
                    // One service's trouble must not take it out of supervision, let alone another.
                    house.Logbook.Failed("what happened to it", unexpected, this);
                }

                // Only now, when all that belongs to what happened is given to the store: who waits reads it there.
                CheckWaiters();
            }
        }

        Dispose();
        while (letters.Reader.TryRead(out var late))
            await late();
        CheckWaiters();
    }

    /// <summary>The reading of both clocks by which the moments of the situation are told.</summary>
    private ClockStamp frame;

    /// <summary>Now; when the host's clock was set since the last time, what is waited for keeps its length.</summary>
    private ClockStamp Reframe()
    {
        var now = house.Clocks.Stamp;
        var skew = ClockStamp.Advance(ref frame, now);
        if (skew == TimeSpan.Zero)
            return now;
        Situation = Situation.Shifted(skew);
        alarm.Shift(skew);
        return now;
    }

    /// <param name="at">When it happened; null: now.</param>
    /// <param name="alongside">Puts on record, together with the situation it led to, what else came of it.</param>
    private async Task Apply(Happening happening, DateTimeOffset? at = null, Action? alongside = null)
    {
        if (forgotten)
            return;
        var stamp = Reframe();
        var before = Situation;
        var now =
            // What was waited for has come, whatever the wall clock says: the two differ by a little.
            happening is TimeCame
            && before.WakeAt > stamp.Wall
                ? before.WakeAt.Value
            // Whoever noted it may go by a clock that was set since: nothing happens later than now.
            : at < stamp.Wall ? at.Value
            : stamp.Wall;
        var turn = ServiceLife.Step(Definition, before, happening, now);
        Situation = turn.After;
        if ((before.LookAt ?? Situation.LookAt) is not null)
            house.Calendar.Set(this, Situation.LookAt);
        if (ReferenceEquals(before, turn.After) && turn.Deeds.IsEmpty)
        {
            alongside?.Invoke();
            return;
        }

        // First on record, then armed and shown, and only then done: whatever a deed comes to, the next decision is due.
        house.Store.Save(Id, Situation, frame);
        NoteWhatWasAsked(happening);
        alongside?.Invoke();
        StopLooking();
        alarm.Set(Situation.WakeAt, stamp);
        KeepTurn(now);
        if (Situation.Run is { Proven: { } proven } ready && before.Run?.Proven is null)
            house.Store.RunProven(Id, ready.Number, proven, ready.Proof);
        foreach (var deed in turn.Deeds)
            await CarryOut(deed);
        Publish();
        if (forgotten)
            return;
        if (before.Phase == Situation.Phase)
            return;
        if (before.Phase == Phase.Running || Situation.Phase == Phase.Running)
            registry.InformDependents(Definition.Name, Situation.Phase == Phase.Running);
    }

    private (Phase Phase, HealthLevel Health, ServiceTime Time) turned;

    private (Phase, HealthLevel, ServiceTime) Turned(Situation situation) =>
        (situation.Phase, Health.Of(Definition, situation).Level, ServiceTimes.Of(situation));

    /// <summary>Keeps each turn on record, with what was said of it then.</summary>
    public void KeepTurn(DateTimeOffset at, bool always = false)
    {
        var now = Turned(Situation);
        if (forgotten || (now == turned && !always))
            return;
        turned = now;
        house.Store.AddMoment(Id, ServiceViews.Moment(Definition, Revision, Situation, at));
    }

    /// <summary>What nobody waits for any more is no longer looked for.</summary>
    private void StopLooking()
    {
        if (Situation.Awaited?.Step != AwaitStep.Needs)
            Stop(ref needLook);
        if (Situation.Phase != Phase.Starting)
            Stop(ref proofLook);
        if (Situation.Phase != Phase.Running)
            Stop(ref watchLook);
        if (Situation.Run is null)
        {
            Stop(ref questionLook);
            Stop(ref windowLook);
        }

        if (Situation.Phase != Phase.Stopping || Situation.WindDownStep != stepIndex)
        {
            Stop(ref stepLook);
            step = null;
        }

        if (Situation.Rhythm?.Restart is null)
            Stop(ref restartLook);
        var job = Definition.IsJob && Situation.Run is not null;
        if (job && !inGate)
        {
            inGate = true;
            house.Jobs.Count(this);
        }

        if (!inGate || job || Situation.Awaited?.Step == AwaitStep.Turn || Situation.Phase == Phase.Starting)
            return;
        inGate = false;
        house.Gate.Leave(this);
        house.Jobs.Leave(this);
    }

    /// <summary>Nothing that is done at the end of a look holds this up.</summary>
    private void Stop(ref CancellationTokenSource? look)
    {
        if (look is { } live)
            _ = house.Clocks.Run(() =>
            {
                live.Cancel();
                return Task.CompletedTask;
            });
        look = null;
    }

    /// <summary>The machine has room for it: what it needs is looked at once more, and then it is launched.</summary>
    public void TakeTurn() =>
        _ = Post(
            async () =>
            {
                if (Situation.Awaited is not { Step: AwaitStep.Turn, Cause: var cause })
                    return;
                using var limit = new CancellationTokenSource(TurnLookLimit, house.Clocks.Time);
                await Apply(
                    new TurnCame(
                        await NeedLook.Once(Definition, cause, house.Tools, house.Clocks, registry, limit.Token)
                    )
                );
            },
            null
        );

    /// <summary>How long the last look at its needs may take; what is not seen by then is missing.</summary>
    private static readonly TimeSpan TurnLookLimit = TimeSpan.FromSeconds(5);

    private void Look(ref CancellationTokenSource? look, Func<CancellationToken, Task> go)
    {
        look?.Cancel();
        look = new();
        var gone = look.Token;
        _ = house.Clocks.Run(async () =>
        {
            try
            {
                await go(gone);
            }
            catch (OperationCanceledException)
            {
                // Nobody waits for it any more.
            }
            catch (Exception unexpected) when (!gone.IsCancellationRequested)
            {
                house.Logbook.Failed("looking for what it waits for", unexpected, this);
            }
        });
    }

    private Task Wake(Alarm.Wait wait) => alarm.IsOver(wait) ? Apply(new TimeCame()) : Task.CompletedTask;

    private void Publish()
    {
        if (forgotten)
            return;
        View = ServiceViews.Of(this);
        house.Events.Changed(View);
        registry.Readiness.Changed(Definition.Name);
    }

    private void CheckWaiters()
    {
        foreach (
            var waiter in waiters
                .Where(waiter => forgotten || waiter.Gone.IsCancellationRequested || waiter.Met(Situation))
                .ToList()
        )
        {
            waiters.Remove(waiter);
            waiter.Done.TrySetResult(Situation);
        }
    }

    /// <summary>A deed that fails keeps no other from being done, and what was to be launched is launched later.</summary>
    private async Task CarryOut(Deed deed)
    {
        try
        {
            await Carry(deed);
        }
        catch (Exception unexpected)
        {
            var failed = new OwnTroubleException($"the sentry failed at it: {Unexpected.InWords(unexpected)}");
            if (deed is Launch launch)
                LaunchLater(launch.Run, switchOff: false, failed);
            else if (deed is SwitchOff off)
                LaunchLater(off.Run, switchOff: true, failed);
            else
                house.Logbook.Failed($"what is to be done ({deed.GetType().Name})", unexpected, this);
        }
    }

    private async Task Carry(Deed deed)
    {
        switch (deed)
        {
            case Launch launch:
                await Launch(launch.Run);
                break;
            case SwitchOff off:
                await Launch(off.Run, switchOff: true);
                break;
            case LookAtNeeds look:
                Look(ref needLook, gone => NeedLook.Go(this, look.Cause, house.Tools, house.Clocks, registry, gone));
                break;
            case LookForProof look:
                Look(ref proofLook, gone => ProofLook.Go(this, look.Run, house.Store, house.Tools, house.Clocks, gone));
                break;
            case AskTurn:
                inGate = true;
                if (Definition.IsJob)
                    house.Jobs.Ask(this);
                else
                    house.Gate.Ask(this);
                break;
            case RunFollowUp then when then.Index < Definition.Recover.Then.Length:
                FollowUp(then, Definition, Definition.Recover.Then[then.Index]);
                break;
            case ReadDays:
                Look(ref daysLook, gone => DaysLook.Go(this, house.Tools, gone));
                break;
            case WeighRestart weigh:
                Look(ref restartLook, gone => RestartLook.Go(this, weigh.Moment, house.Tools, house.Clocks, gone));
                break;
            case RestartInOrder restart:
                Look(ref restartLook, gone => registry.Together.Restart(this, restart.Moment, gone));
                break;
            case FindMain find:
                _ = FindMain(find.Run);
                break;
            case LookAfter look:
                Looks = [];
                Look(ref watchLook, gone => WatchLook.Go(this, look.Run, house.Tools, house.Clocks, gone));
                break;
            case LookForQuestion look:
                Look(ref questionLook, gone => QuestionLook.Go(this, look.Run, house.Tools, house.Clocks, gone));
                break;
            case LookAtWindow look:
                Window = new();
                Look(ref windowLook, gone => WindowLook.Go(this, look.Run, house.Tools, house.Clocks, gone));
                break;
            case GiveAnswer give:
                Answer(give);
                break;
            case PerformStep perform:
                TakeStep(perform);
                Rouse();
                break;
            case StopDependents:
                _ = registry.Together.Stop(
                    registry
                        .Graph.WithDependents([Definition.Name])
                        .Where(other => other != Definition.Name)
                        .ToHashSet(StringComparer.Ordinal),
                    new(Definition.Name, PrincipalKind.Needed)
                );
                break;
            case SendSignal signal:
                keeper?.Send(
                    new Message(KeeperWord.Signal)
                        .With("number", SignalNames.Numbers[signal.Signal])
                        .With("to", signal.WholeTree ? "tree" : "main")
                );
                Rouse();
                break;
            case EndTree:
                keeper?.Send(new Message(KeeperWord.EndTree));
                break;
            case GiveUpKeeper:
                await EndKeeper();
                break;
            case Dismiss:
                keeper?.Send(new Message(KeeperWord.Leave));
                keeper = null;
                house.Host.RunOver(this);
                break;
            case Note note:
                house.Logbook.Note(this, note.Entry, note.By, note.Tells);
                break;
            case Forget:
                await Leave();
                break;
        }
    }

    private async Task Leave()
    {
        forgotten = true;
        await keeperGone;
        house.Store.Remove(Id, Definition.Name);
        // What is noted of its runs goes when, and only when, it is on record that it is no more.
        await house.Store.Flush();
        if (house.Store.Failure is null)
            house.Host.Forget(this);
        else
            house.OnceKept(() => house.Host.Forget(this));
        registry.Forget(this);
        house.Logbook.Note(this, new UnwrappedEntry(), Situation.Asked?.By);
        house.Events.Removed(Definition.Name);
    }
}
