using System.Collections.Concurrent;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Store;

namespace CalmSentry.Engine.Plans;

/// <summary>
/// Carries plans out: each is stepped whenever a service changes, is on record before its deeds are done, and is taken up
/// again by the server that follows.
/// </summary>
internal sealed class PlanRoom(Registry registry, SentryStore store, Record logbook, Clocks clocks)
{
    /// <summary>How long winding down all services may take before the machine goes down, unless it is set otherwise.</summary>
    public static readonly TimeSpan UsualShutdown = TimeSpan.FromSeconds(60);

    private long last;
    private readonly ConcurrentDictionary<long, Live> live = [];

    /// <summary>Whether a plan under way stops or begins a service, or will.</summary>
    public bool Concerns(string service) => live.Values.Any(one => one.Plan.Concerns(service));

    /// <summary>A plan at work, and who follows it.</summary>
    /// <param name="frame">The reading of both clocks by which the plan's moments are told.</param>
    private sealed class Live(Plan plan, ClockStamp frame, Action<string>? say, TaskCreationOptions promises)
    {
        public Plan Plan { get; set; } = plan;

        private ClockStamp frame = frame;

        public ClockStamp Frame => frame;

        /// <summary>How long it may take, whatever the clock is set to meanwhile.</summary>
        public TimeSpan? Limit { get; } = plan.ForceAt - plan.Began;

        /// <summary>Now; when the host's clock was set since the last time, what is waited for keeps its length.</summary>
        public DateTimeOffset At(ClockStamp now)
        {
            Plan = Plan.Shifted(ClockStamp.Advance(ref frame, now));
            return now.Wall;
        }

        public Action<string>? Say { get; } = say;

        public HashSet<string> Told { get; } = new(StringComparer.Ordinal);

        public TaskCompletionSource<Plan> Over { get; } = new(promises);

        /// <summary>What it brings back is its alone meanwhile; null: it brings nothing back.</summary>
        public Engagement? Engagement =>
            engagement ??= Plan.Kind switch
            {
                PlanKind.Drill => new("a drill", Plan.By, Plan.Began, Ends),
                PlanKind.Restart => new("a restart", Plan.By, Plan.Began, Ends),
                _ => null,
            };

        private Engagement? engagement;

        private string Ends() =>
            $"{Plan.Stops.Count(stop => stop.DownAt is not null)} of {Plan.Stops.Length} are down, and it ends when what it stopped is started again";
    }

    /// <summary>How plans end whose services are to be seen at rest first.</summary>
    public Func<Plan, Action<string>?, Task>? Settle { get; set; }

    /// <summary>Services wound down in order: each as soon as all that need it are down.</summary>
    /// <returns>Those that were running, in the order they ended.</returns>
    public async Task<IReadOnlyList<ReportedStop>> Stop(IReadOnlySet<string> names, Principal by) =>
        names.Count == 0 ? [] : StopsOf(await Begin(Of(PlanKind.Stop, names, by)));

    public Plan Of(PlanKind kind, IReadOnlySet<string> names, Principal by) =>
        new()
        {
            Kind = kind,
            By = by,
            Began = clocks.Now,
            Stops = PlanLife.Stops(registry.Graph, names),
        };

    /// <summary>A restart: they are stopped, and begun again; each waits for what it needs to be ready by itself.</summary>
    /// <param name="wanted">Whether one is begun also where this has not stopped it.</param>
    public Plan Restart(IReadOnlySet<string> names, Principal by, Func<string, bool> wanted)
    {
        var plan = Of(PlanKind.Restart, names, by);
        return plan with
        {
            Begins = [.. plan.Stops.Reverse().Select(stop => new PlanBegin(stop.Name, Wanted: wanted(stop.Name)))],
        };
    }

    /// <summary>Begins a plan, which goes on whether or not somebody waits for it.</summary>
    /// <param name="say">Hears a clause for each that is down.</param>
    /// <returns>The plan as it ended.</returns>
    /// <exception cref="BusyException">Somebody else has one of them in hand; nothing was begun.</exception>
    public Task<Plan> Begin(Plan plan, Action<string>? say = null)
    {
        var one = new Live(plan, clocks.Stamp, say, clocks.Promises);
        if (one.Engagement is { } engagement)
            registry.InHand.Take(plan.Names, engagement);
        var id = Interlocked.Increment(ref last);
        live[id] = one;
        _ = clocks.Run(() => Follow(id, one, resumed: false));
        return one.Over.Task;
    }

    /// <summary>Goes on with what the server before had under way.</summary>
    /// <param name="newMachine">The machine has come up since: what was under way then is over.</param>
    public void TakeUp(bool newMachine)
    {
        foreach (var (id, plan, saved) in store.Plans())
        {
            last = Math.Max(last, id);
            if (plan is null || newMachine)
            {
                store.RemovePlan(id);
                if (plan is { Kind: PlanKind.Shutdown } cut)
                    logbook.Note(
                        new NotWoundDownEntry([
                            .. cut.Stops.Where(stop => stop.DownAt is null).Select(stop => stop.Name),
                        ])
                    );
                continue;
            }

            logbook.Note(new PlanTakenUpEntry(Words.Of(plan.Kind)), plan.By);
            var one = live[id] = new Live(plan, saved ?? clocks.Stamp, null, clocks.Promises);
            if (one.Engagement is { } engagement)
                registry.InHand.TakeUp(plan.Names, engagement);
            _ = clocks.Run(() => Follow(id, one, resumed: true));
        }
    }

    public static IReadOnlyList<ReportedStop> StopsOf(Plan plan) =>
        [
            .. plan
                .Stops.Where(stop => stop is { AskedAt: not null, DownAt: not null } && stop.Run > default(RunNumber))
                .OrderBy(stop => stop.DownAt)
                .Select(stop => new ReportedStop(
                    stop.Name,
                    stop.AskedAt!.Value - plan.Began,
                    stop.DownAt!.Value - stop.AskedAt.Value,
                    stop.Forced
                )),
        ];

    private async Task Follow(long id, Live one, bool resumed)
    {
        try
        {
            await Journaled.ToItsEnd(
                resumed,
                taken => Go(id, one, taken),
                () => store.RemovePlan(id),
                unexpected => logbook.Failed($"a plan ({Words.Of(one.Plan.Kind)})", unexpected),
                pause => clocks.Delay(pause)
            );
        }
        finally
        {
            live.TryRemove(id, out _);
            if (one.Engagement is { } engagement)
                registry.InHand.Leave(engagement);
            one.Over.TrySetResult(one.Plan);
        }
    }

    private async Task Go(long id, Live one, bool resumed)
    {
        if (!resumed)
        {
            // On record before anything of it is done: whatever is lost from here on, the next server goes on with it.
            store.SetPlan(id, one.Plan, one.Frame);
            await store.Flush();
        }

        while (one.Plan.Step is not (PlanStep.Settling or PlanStep.Done) || resumed)
        {
            var change = registry.Readiness.NextChange();
            var now = one.At(clocks.Stamp);
            await Take(id, one, PlanLife.Step(one.Plan, StandingOf, now, resumed));
            resumed = false;
            if (one.Plan.Step is PlanStep.Settling or PlanStep.Done)
                break;
            if (one.Plan.Step == PlanStep.Beginning)
                continue; // its deeds are done: it is asked for the next step
            // Someone's wait may be over without a change.
            now = one.At(clocks.Stamp);
            var force = one.Plan is { Forced: false, ForceAt: { } at } ? at - now : Timeout.InfiniteTimeSpan;
            await Task.WhenAny(
                change,
                clocks.Delay(
                    force < TimeSpan.Zero && force != Timeout.InfiniteTimeSpan ? TimeSpan.Zero
                    : force > Longest ? Longest
                    : force
                )
            );
            await clocks.Delay(Breath);
        }

        if (one.Plan.Step == PlanStep.Settling)
        {
            if (Settle is { } settle)
                await settle(one.Plan, one.Say);
            await Take(id, one, (one.Plan, PlanLife.Last(one.Plan)));
        }
    }

    private static readonly TimeSpan Longest = TimeSpan.FromDays(1),
        Breath = TimeSpan.FromMilliseconds(1); // changes that come together are looked at together

    /// <summary>On record first, then done.</summary>
    private async Task Take(
        long id,
        Live one,
        (Plan After, System.Collections.Immutable.ImmutableArray<PlanDeed> Deeds) turn
    )
    {
        var (before, after) = (one.Plan, turn.After);
        one.Plan = after;
        if (!Same(before, after) || !turn.Deeds.IsEmpty)
            store.SetPlan(id, after, one.Frame);
        if (after.Forced && !before.Forced && one.Limit is { } limit)
            logbook.Note(new TimeOverEntry(limit), after.By);
        foreach (var stop in after.Stops)
            if (
                stop is { DownAt: not null, AskedAt: not null }
                && stop.Run > default(RunNumber)
                && one.Told.Add(stop.Name)
            )
                one.Say?.Invoke($"{stop.Name} is stopped{(stop.Forced ? ": killed" : "")}");
        if (after.Kind == PlanKind.Drill && turn.Deeds.OfType<AskBegin>().Any())
        {
            // What is begun is what is stored, not what happens to be in memory.
            await registry.ReadAgain(after.Begins.Select(begin => begin.Name).ToHashSet(StringComparer.Ordinal));
            registry.DrillBegan = after.BegunAt;
            one.Say?.Invoke("All stopped. Starting as a boot would");
        }

        if (after is { Kind: PlanKind.Shutdown, Step: PlanStep.Done } && before.Step != PlanStep.Done)
        {
            registry.AllDown();
            var names = StopsOf(after).Select(stop => stop.Name);
            logbook.Note(new WoundDownEntry(names.Count(), [.. names]), after.By);
        }

        foreach (var deed in turn.Deeds)
            if (registry.Named(deed.Name) is { } actor)
                await actor.Ask(Happening(after, deed));
    }

    /// <summary>Most changes of services change nothing of a plan.</summary>
    private static bool Same(Plan before, Plan after) =>
        before with { Stops = after.Stops, Begins = after.Begins } == after
        && before.Stops.SequenceEqual(after.Stops)
        && before.Begins.SequenceEqual(after.Begins);

    private static Happening Happening(Plan plan, PlanDeed deed) =>
        deed switch
        {
            AskStop => new StopAsked(ByIt(plan)),
            AskForce => new ForceAsked(plan.By),
            AskBegin when plan.Kind == PlanKind.Drill => new MachineBegan(Cause.Drill),
            _ => new StartAsked(
                plan.Kind == PlanKind.Drill ? Principal.Drill : plan.By,
                BringsBack: plan.Kind != PlanKind.Restart || PlanLife.HasStopped(plan, deed.Name)
            ),
        };

    /// <summary>Who stops for a plan; of one that brings back what it stops it is known that it is for a while.</summary>
    private static Principal ByIt(Plan plan) =>
        plan switch
        {
            { Kind: PlanKind.Drill } => Principal.Drill,
            { Kind: PlanKind.Restart, By: { Kind: PrincipalKind.Account } by } => by with
            {
                Kind = PrincipalKind.Restart,
            },
            _ => plan.By,
        };

    private Standing StandingOf(string name) =>
        registry.Named(name) is { } actor
            ? new(
                Exists: true,
                actor.Situation.Run?.Number ?? default,
                actor.Situation.LastRun,
                actor.Situation.Phase == Phase.Waiting,
                actor.Situation.Phase == Phase.Stopping,
                actor.Situation.LastEnd?.Forced == true
            )
            : default;
}
