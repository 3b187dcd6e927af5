using System.Globalization;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Begin;
using CalmSentry.Server.Services;

namespace CalmSentry.Server.Drills;

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
/// <param name="kind">boot | drill | start</param>
internal sealed class Beginning(
    string kind,
    IReadOnlySet<string> names,
    IReadOnlyDictionary<string, Before> before,
    string? by,
    House house,
    Registry registry
)
{
    /// <summary>
    /// Changes that come together are looked at together: a thousand services change some thousand times.
    /// </summary>
    private static readonly TimeSpan Breath = TimeSpan.FromMilliseconds(5);

    private readonly Dictionary<string, long> runsBefore = names.ToDictionary(
        name => name,
        name => registry.Named(name)?.Situation.LastRun ?? 0,
        StringComparer.Ordinal
    );
    private readonly HashSet<string> said = [];

    public DateTimeOffset Began { get; } = house.Now;

    public IReadOnlyList<StopView> Stops { get; init; } = [];

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

    public BeginReport Report(bool done)
    {
        var ports = done ? new OpenPorts() : null; // while it goes on they come and go
        var views = names
            .Select(registry.Named)
            .OfType<ServiceActor>()
            .Select(actor => View(actor, ports))
            .OrderBy(view => view.ProvenMs ?? double.MaxValue)
            .ThenBy(view => view.Came == "not-begun")
            .ThenBy(view => view.WantedMs ?? double.MaxValue)
            .ThenBy(view => view.Name, StringComparer.Ordinal)
            .ToList();
        var wanted = views.Where(view => view.Came != "not-begun").ToList();
        var failed = wanted.Where(view => view.Came != "proven").ToList();
        var took = done ? wanted.Max(view => view.ProvenMs) ?? 0 : (house.Now - Began).TotalMilliseconds;
        var notBack = views
            .Where(view => view.Came == "not-begun" && before.GetValueOrDefault(view.Name)?.Live == true)
            .ToList();
        return new BeginReport
        {
            Kind = kind,
            Began = Began,
            Booted = kind == "boot" ? Machine.BootedAt : null,
            Done = done,
            CameTrue = done && failed.Count == 0,
            Said =
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"{wanted.Count - failed.Count} of {wanted.Count} "
                        + $"{(wanted.Count == 1 ? "service" : "services")} "
                        + $"ready{(took > 0 ? $" within {took / 1000:0.0} s" : "")}."
                )
                + (failed.Count == 0 ? "" : $" Not: {string.Join(", ", failed.Select(view => view.Name))}.")
                + (
                    notBack.Count == 0
                        ? ""
                        : $" A reboot would not bring back: "
                            + $"{string.Join(", ", notBack.Select(view => view.Name))} (begin.at is not boot)."
                ),
            By = by,
            TookMs = took,
            LoggedIn = LoggedIn.Now(),
            Stops = Stops,
            Services = views,
        };
    }

    /// <summary>Nothing more comes by itself within a foreseeable time.</summary>
    private bool IsSettled(ServiceActor actor) =>
        actor.Situation switch
        {
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
                && one.state.Missing == NeedLook.MissingService(needed)
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
        else if (CameOf(actor) != "not-begun")
            say($"{name}: {actor.View.Why}");
    }

    private string CameOf(ServiceActor actor) =>
        actor.Situation.Phase switch
        {
            Phase.Running => "proven",
            Phase.Held => "held",
            Phase.Waiting => "waiting",
            Phase.Stopped when actor.Situation.LastRun <= runsBefore.GetValueOrDefault(actor.Definition.Name) =>
                "not-begun",
            Phase.Stopped => "failed",
            _ => "starting",
        };

    private BeginView View(ServiceActor actor, OpenPorts? ports)
    {
        var (definition, now) = (actor.Definition, actor.Situation);
        var run = now.Run;
        double? Ms(DateTimeOffset? time) => time is { } at ? Math.Max(0, (at - Began).TotalMilliseconds) : null;
        return new BeginView
        {
            Name = definition.Name,
            Title = definition.Title,
            At = BeginKeys.At.Write(definition.Begin.At),
            Came = CameOf(actor),
            WantedMs = Ms(run?.Wanted ?? now.Awaited?.Since),
            LaunchedMs = Ms(run?.Launched),
            ProvenMs = Ms(run?.Proven),
            Waited =
            [
                .. (run?.Waited ?? []).Select(waited => new WaitedView(
                    waited.What,
                    waited.Length.TotalMilliseconds,
                    waited.PassedOver
                )),
            ],
            Proof = run?.Proof,
            UsualMs = house.Store.UsualStart(actor.Id)?.TotalMilliseconds,
            Tries = (int)(now.LastRun - runsBefore.GetValueOrDefault(definition.Name)),
            Why = actor.View.Why,
            Pid = run?.Pid,
            Account =
                run?.Pid is { } pid && ProcessFacts.EffectiveUser(pid) is { } uid
                    ? Account.NameOf(uid)
                    : definition.Account,
            Ports = ports?.Of(actor) ?? [],
            Differences = ports is null ? [] : [.. Differences(actor, ports)],
        };
    }

    private IEnumerable<string> Differences(ServiceActor actor, OpenPorts ports)
    {
        var name = actor.Definition.Name;
        if (
            before.GetValueOrDefault(name) is not { } was
            || actor.Situation.Phase is not (Phase.Running or Phase.Stopped)
        )
            yield break;
        if (actor.Situation.Run is null)
        {
            if (was.Live)
                yield return $"It ran before; a boot does not start it (begin.at: "
                    + $"{BeginKeys.At.Write(actor.Definition.Begin.At)}).";
            yield break;
        }

        var now = Before.Of(actor, ports);
        if (!was.Live && kind == "drill")
            yield return "It did not run before.";
        if (was.Account is not null && now.Account != was.Account)
            yield return $"It runs as {now.Account}, before as {was.Account}.";
        if (was.Ports.Except(now.Ports).ToList() is { Count: > 0 } gone)
            yield return $"It listened before on {string.Join(", ", gone)}, now no more.";
        if (now.Ports.Except(was.Ports).ToList() is { Count: > 0 } come && was.Live)
            yield return $"It listens on {string.Join(", ", come)}, before it did not.";
        if (was.Pid is not null && now.Pid is not null && was.Pid != now.Pid)
            yield return $"Its process is {now.Pid}, before it was {was.Pid}.";
    }
}
