using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Probing;
using CalmSentry.Engine.Watching;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Sockets;

namespace CalmSentry.Engine.Begin;

/// <summary>
/// Looks at the needs of one service until the core has seen enough: services by their changes, the rest at a growing
/// beat.
/// </summary>
internal static class NeedLook
{
    private static readonly TimeSpan FirstBeat = TimeSpan.FromMilliseconds(10),
        LongestBeat = TimeSpan.FromMilliseconds(500);

    /// <summary>Who needs whom is looked through so far.</summary>
    private const int DeepestChain = 50;

    public static async Task Go(
        IWatched actor,
        Cause cause,
        RunTools tools,
        Clocks clocks,
        IServices services,
        CancellationToken gone
    )
    {
        var definition = actor.Definition;
        var needs = definition.Begin.Needs;
        if (cause != Cause.Recovery)
            await BeginNeeded(definition, cause, services);
        var onlyServices = needs.All(need => need is ServiceNeed);
        var last = ImmutableArray<string?>.Empty;
        var beats = new Backoff(FirstBeat, LongestBeat, grow: 1.5);
        while (!gone.IsCancellationRequested)
        {
            var beat = beats.Next();
            var changes = definition.Begin.NeededServices.Select(services.Readiness.NextChange).ToList();
            var missing = await Once(definition, cause, tools, clocks, services, gone);
            if (!missing.AsSpan().SequenceEqual(last.AsSpan()))
                await actor.Ask(new NeedsSeen(missing));
            last = missing;
            await Task.WhenAny([.. changes, clocks.Delay(onlyServices ? Timeout.InfiniteTimeSpan : beat, gone)]);
        }
    }

    /// <summary>One look: for each need in the order of the definition what is not so, as a clause, or null.</summary>
    public static async Task<ImmutableArray<string?>> Once(
        Definition definition,
        Cause cause,
        RunTools tools,
        Clocks clocks,
        IServices services,
        CancellationToken gone
    )
    {
        var seen = ImmutableArray.CreateBuilder<string?>(definition.Begin.Needs.Length);
        foreach (var need in definition.Begin.Needs)
            seen.Add(await Missing(need, definition, cause, tools, clocks, services, gone).OrWhyNot());
        return seen.ToImmutable();
    }

    /// <summary>
    /// Whoever is needed and stopped is started; what begins with the machine anyway does so by itself.
    /// </summary>
    private static Task BeginNeeded(Definition definition, Cause cause, IServices services)
    {
        var asked = new List<Task>();
        foreach (var needed in definition.Begin.NeededServices.Select(services.Named).OfType<IWatched>())
        {
            var (at, now) = (needed.Definition.Begin.At, needed.Situation);
            if (at == BeginAt.Never || (at == BeginAt.Boot && cause != Cause.Asked))
                continue;
            if (
                now.Phase == Phase.Stopped
                || now.Awaited?.Step == AwaitStep.Boot
                || at == BeginAt.BootLate && now.Run is null && now.Phase != Phase.Held
            )
            {
                var start = needed.Ask(new StartAsked(new(definition.Name, PrincipalKind.Dependent)));
                // How it stands is looked at once it has begun: what an earlier start came to is over then.
                if (needed.Known)
                    asked.Add(start);
            }
        }

        return Task.WhenAll(asked);
    }

    private static async Task<string?> Missing(
        Need need,
        Definition definition,
        Cause cause,
        RunTools tools,
        Clocks clocks,
        IServices services,
        CancellationToken gone
    )
    {
        switch (need)
        {
            case ServiceNeed service:
                return MissingService(services.Named(service.Service), services);
            case TcpNeed tcp:
                return await Probes.Tcp(tcp.Address, gone);
            case PathNeed path:
                return await MissingPath(path, definition, tools.AsAccount, gone);
            case NetworkNeed network:
                return NetworkState.Missing(network.Interface);
            case AfterBootNeed after:
                var from = cause == Cause.Drill && services.DrillBegan is { } drill ? drill : Machine.BootedAt;
                return clocks.Now - from >= after.Length ? null
                    : cause == Cause.Drill ? "the drill has it come up only now"
                    : "it has only just come up";
            default:
                return null;
        }
    }

    /// <summary>Why a needed service is not ready, as a clause, or null.</summary>
    public static string? MissingService(IWatched? needed, IServices services) =>
        OutOfReach(needed, services)
        ?? needed switch
        {
            { Known: false } => "what became of it is not known yet",
            { Situation.Phase: Phase.Running } => null,
            var other => $"it is {Words.Of(other!.Situation.Phase)}",
        };

    /// <summary>Why a needed service will not be ready unless a person does something, as a clause, or null.</summary>
    public static string? OutOfReach(IWatched? needed, IServices services, int deep = 0)
    {
        switch (needed)
        {
            case null:
                return "there is no service of that name";
            case { Known: false }:
                return null;
            case { Situation.Phase: Phase.Held }:
                return "it is on hold";
            case { Situation.Phase: Phase.Stopped, Definition.Begin.At: BeginAt.Never }:
                return "starting it is disabled";
            case { Situation.Phase: Phase.Stopped } when ServiceTimes.Of(needed.Situation) == ServiceTime.Fallen:
                return "it has failed, and is not started again by itself";
            case { Situation.Awaited.Step: AwaitStep.Needs } when deep < DeepestChain:
                return FirstOutOfReach(needed, services, deep + 1) is var (name, why)
                    ? $"it waits for {name}: {why}"
                    : null;
            default:
                return null;
        }
    }

    /// <summary>The first service that another waits for and that will not be ready by itself; null: there is none.</summary>
    public static (string Name, string Why)? FirstOutOfReach(IWatched waiting, IServices services, int deep = 0)
    {
        if (waiting.Situation.Awaited is not { Step: AwaitStep.Needs } awaited)
            return null;
        var needs = waiting.Definition.Begin.Needs;
        for (var i = 0; i < needs.Length && i < awaited.Needs.Length; i++)
            if (
                needs[i] is ServiceNeed { Follows: not NeedFollow.GoAhead } need
                && awaited.Needs[i].Open
                && OutOfReach(services.Named(need.Service), services, deep) is { } why
            )
                return (need.Service, why);
        return null;
    }

    private static async Task<string?> MissingPath(
        PathNeed need,
        Definition definition,
        AsAccount asAccount,
        CancellationToken gone
    )
    {
        if (!Path.Exists(need.Path))
            return "it is not there";
        if (need.Mounted && !Mounts.IsMountPoint(need.Path))
            return "nothing is mounted there";
        if (!need.Writable || Account.Named(definition.Account) is not { } account)
            return null;
        var groups = AccountGroup.IdsOf(definition.Identity.Groups);
        var errno = (await asAccount.Ask(account, groups, [new('w', need.Path)], gone))[0];
        return errno == 0 ? null : $"{definition.Account} may not write there ({Names.Errno(errno)})";
    }
}
