using System.Collections.Immutable;
using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Begin;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Processes;
using CalmSentry.Store;

namespace CalmSentry.Inspection.Drills;

/// <summary>What a service was before: to tell what is different now.</summary>
internal sealed record Before(int? Pid, string? Account, IReadOnlyList<string> Ports, bool Live)
{
    public static Before Of(ServiceActor actor, OpenPorts ports)
    {
        var run = actor.Situation.Run;
        var account =
            run?.Pid is { } pid && ProcessFacts.EffectiveUser(pid) is { } uid
                ? Linux.Accounts.Account.NameOf(uid)
                : null;
        return new(run?.Pid, account, ports.Of(actor), run is not null);
    }
}

/// <summary>Follows services from the word to begin until each has come to rest, and reports.</summary>
internal sealed class Beginning(
    ReportKind kind,
    IReadOnlyList<PlanBegin> begun,
    DateTimeOffset began,
    IReadOnlyDictionary<string, Before> before,
    Principal? by,
    SentryStore store,
    Clocks clocks,
    Registry registry
)
{
    /// <summary>
    /// Changes that come together are looked at together: a thousand services change some thousand times.
    /// </summary>
    private static readonly TimeSpan Breath = TimeSpan.FromMilliseconds(5);

    private readonly IReadOnlyList<string> names = [.. begun.Select(one => one.Name)];
    private readonly Dictionary<string, RunNumber> runsBefore = begun.ToDictionary(
        one => one.Name,
        one => one.From,
        StringComparer.Ordinal
    );
    private readonly HashSet<string> said = [];

    public DateTimeOffset Began => began;

    public IReadOnlyList<ReportedStop> Stops { get; init; } = [];

    /// <summary>Completes when nothing of them is on its way any more, or the time is over.</summary>
    /// <param name="say">Hears a sentence for each that comes to rest.</param>
    public async Task Settle(TimeSpan limit, Action<string>? say = null)
    {
        var over = Task.Delay(limit);
        var lateTold = false;
        while (true)
        {
            var change = registry.Readiness.NextChange();
            var actors = names.Select(registry.Named).OfType<ServiceActor>().ToList();
            var boot = actors.Where(actor => actor.Definition.Begin.At == BeginAt.Boot).ToList();
            if (!lateTold && boot.TrueForAll(IsSettled))
            {
                lateTold = true;
                foreach (var late in actors.Where(actor => actor.Situation.Awaited?.Step == AwaitStep.Boot))
                    await late.Ask(new BootSettled()).ConfigureAwait(false);
            }

            foreach (var actor in actors.Where(IsSettled))
                Say(actor, say);
            if (actors.TrueForAll(IsSettled) || over.IsCompleted)
                return;
            await Task.WhenAny(change, over).ConfigureAwait(false);
            await Task.Delay(Breath).ConfigureAwait(false);
        }
    }

    public StartReport Report(bool done)
    {
        var ports = done ? new OpenPorts() : null; // while it goes on they come and go
        var services = names
            .Select(registry.Named)
            .OfType<ServiceActor>()
            .Select(actor => View(actor, ports))
            .OrderBy(view => view.Proven ?? TimeSpan.MaxValue)
            .ThenBy(view => view.Came == Came.NotBegun)
            .ThenBy(view => view.Wanted ?? TimeSpan.MaxValue)
            .ThenBy(view => view.Name, StringComparer.Ordinal)
            .ToImmutableArray();
        return new StartReport
        {
            Kind = kind,
            Began = Began,
            Booted = kind == ReportKind.Boot ? Machine.BootedAt : null,
            Done = done,
            By = by,
            Took = done ? services.Max(one => one.Proven) ?? TimeSpan.Zero : clocks.Now - Began,
            LoggedIn = [.. LoggedIn.Now()],
            Stops = [.. Stops],
            Services = services,
        };
    }

    /// <summary>Nothing more comes by itself within a foreseeable time.</summary>
    private bool IsSettled(ServiceActor actor) =>
        actor.Situation switch
        {
            _ when actor.Definition.IsJob => true,
            { Phase: Phase.Running or Phase.Held or Phase.Stopped or Phase.Resting } => true,
            { Phase: Phase.Starting, Run.Overdue: true } => true,
            { Awaited: { Overdue: true } } => true,
            { Awaited: { Step: AwaitStep.Needs } awaited } => Stuck(actor, awaited),
            _ => false,
        };

    /// <summary>All it still waits for are services that have come to rest without being ready.</summary>
    private bool Stuck(ServiceActor actor, Awaited awaited) =>
        awaited.Needs.Any(need => need.Open)
        && awaited
            .Needs.Select((state, i) => (state, need: actor.Definition.Begin.Needs[i]))
            .Where(one => one.state.Open)
            .All(one =>
                one.need is ServiceNeed { Follows: NeedFollow.Tell } need
                && registry.Named(need.Service) is var needed
                && (needed is null || (needed.Situation.Phase != Phase.Running && IsSettled(needed)))
                && one.state.Missing == NeedLook.MissingService(needed, registry)
            );

    private void Say(ServiceActor actor, Action<string>? say)
    {
        if (!said.Add($"{actor.Definition.Name} {actor.Situation.Phase}") || say is null)
            return;
        var name = actor.Definition.Name;
        if (actor.Situation is { Phase: Phase.Running, Run: { Proven: { } proven, Proof: var proof } })
            say(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"{name} is ready at {(proven - Began).TotalSeconds:0.00} s: {proof}."
                )
            );
        else if (CameOf(actor) != Came.NotBegun)
            say($"{name}: {actor.View.Why}");
    }

    private Came CameOf(ServiceActor actor) =>
        actor.Situation.Phase switch
        {
            // A job's rhythm is in force again; its runs come when their moments do.
            not Phase.Held when actor.Definition.IsJob => Came.NotBegun,
            Phase.Running => Came.Proven,
            Phase.Held => Came.Held,
            Phase.Waiting => Came.Waiting,
            Phase.Stopped when actor.Situation.LastRun <= runsBefore.GetValueOrDefault(actor.Definition.Name) =>
                Came.NotBegun,
            Phase.Stopped => actor.Situation.LastEnd is { Bad: false, AsAsked: false } ? Came.Over : Came.Failed,
            _ => Came.Starting,
        };

    private ReportedStart View(ServiceActor actor, OpenPorts? ports)
    {
        var (definition, now) = (actor.Definition, actor.Situation);
        var run = now.Run;
        TimeSpan? After(DateTimeOffset? time) =>
            time is not { } at ? null
            : at > Began ? at - Began
            : TimeSpan.Zero;
        return new ReportedStart
        {
            Name = definition.Name,
            Title = definition.Title,
            At = definition.Begin.At,
            Came = CameOf(actor),
            Wanted = After(run?.Wanted ?? now.Awaited?.Since),
            Launched = After(run?.Launched),
            Proven = After(run?.Proven),
            Waited =
            [
                .. (run?.Waited ?? []).Select(waited => new ReportedWait(
                    waited.What,
                    waited.Length,
                    waited.PassedOver
                )),
            ],
            Proof = run?.Proof,
            Usual = store.UsualStart(actor.Id),
            Tries = (int)(now.LastRun - runsBefore.GetValueOrDefault(definition.Name)),
            Why = actor.View.Why,
            Pid = run?.Pid,
            Account =
                run?.Pid is { } pid && ProcessFacts.EffectiveUser(pid) is { } uid
                    ? Account.NameOf(uid)
                    : definition.Account,
            Ports = [.. ports?.Of(actor) ?? []],
            Differences = ports is null ? [] : [.. Differences(actor, ports)],
        };
    }

    private IEnumerable<Difference> Differences(ServiceActor actor, OpenPorts ports)
    {
        if (
            before.GetValueOrDefault(actor.Definition.Name) is not { } was
            || actor.Situation.Phase is not (Phase.Running or Phase.Stopped)
        )
            yield break;
        if (actor.Situation.Run is null)
        {
            if (was.Live && CameOf(actor) == Came.NotBegun)
                yield return new(DifferenceCode.NotBack);
            yield break;
        }

        var now = Before.Of(actor, ports);
        if (!was.Live && kind == ReportKind.Drill)
            yield return new(DifferenceCode.RanNotBefore);
        if (was.Account is not null && now.Account != was.Account)
            yield return new(DifferenceCode.Account, was.Account, now.Account);
        if (was.Ports.Except(now.Ports).ToList() is { Count: > 0 } gone)
            yield return new(DifferenceCode.PortsGone, Was: string.Join(", ", gone));
        if (now.Ports.Except(was.Ports).ToList() is { Count: > 0 } come && was.Live)
            yield return new(DifferenceCode.PortsNew, Is: string.Join(", ", come));
        if (was.Pid is { } old && now.Pid is { } pid && old != pid)
            yield return new(DifferenceCode.Pid, $"{old}", $"{pid}");
    }
}
