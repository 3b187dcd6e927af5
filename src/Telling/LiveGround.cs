using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Telling;

/// <summary>What telling goes by: how services are now.</summary>
internal sealed class LiveGround(Registry registry, Func<TellingSettings> settings) : ITellingGround
{
    private readonly MissingLook missing = new();

    public IReadOnlyList<Recipient> Recipients => settings().Tell;

    public Pace Pace => settings().Pace;

    public TimeZoneInfo Zone => TimeZoneInfo.Local;

    public NeedGraph Graph => registry.Graph;

    public string Machine => Linux.Boot.Machine.HostName;

    public Definition? Named(string service) => registry.Named(service)?.Definition;

    public bool IsQuiet(string service) => registry.Named(service)?.Situation.Quiet is not null;

    public bool IsInTrouble(string service) =>
        registry.Named(service) is { } actor && Attention.Of(actor.Definition, actor.Situation) is not null;

    public bool IsWrong(Affected one)
    {
        if (one.Service is not { } name || registry.Named(name) is not { } actor)
            return false;
        var (definition, now) = (actor.Definition, actor.Situation);
        if (Topics.Of(one.Worst).Lasting == Lasting.WhileSo)
            return StillSo.Holds(one.Worst, definition, now);
        if (Attention.Of(definition, now) is not null)
            return true;
        // Where that is only to be noted, it needs nobody, and goes on all the same.
        if (one.Worst == Topic.Memory && now.Run is not null)
            return StillSo.Holds(one.Worst, definition, now);
        return definition.IsJob
            ? now.LastEnd is { Bad: true } && now.Rhythm is not null
            : now.Phase is Phase.Waiting or Phase.Starting or Phase.Stopping or Phase.Held;
    }

    public AlertCause? MissedBy(Definition definition) => missing.Of(definition);
}

/// <summary>
/// Looks what a service misses that others may miss as well, without waiting for a file system or a directory of accounts that hangs.
/// </summary>
internal sealed class MissingLook
{
    private static readonly TimeSpan Patience = TimeSpan.FromMilliseconds(500);

    private Task<AlertCause?>? stuck;

    /// <returns>The directory in which the topmost of what is missing would lie, or its account; null: nothing is missing.</returns>
    public AlertCause? Of(Definition definition)
    {
        if (stuck is { IsCompleted: false })
            return null;
        stuck = null;
        var look = Task.Run(() => Look(definition));
        if (look.Wait(Patience))
            return look.Result;
        stuck = look;
        return null;
    }

    private static AlertCause? Look(Definition definition)
    {
        try
        {
            if (Account.Named(definition.Account) is null)
                return new(CauseKind.Account, definition.Account);
        }
        catch (OwnTroubleException)
        {
            // That says nothing of the account.
        }

        var places = new[] { definition.Program.Path, definition.Program.With, definition.Program.Directory }
            .Concat(definition.Begin.Needs.OfType<PathNeed>().Select(need => need.Path))
            .OfType<string>();
        foreach (var place in places)
        {
            if (!Path.IsPathRooted(place) || Path.Exists(place))
                continue;
            var parent = Path.GetDirectoryName(place);
            while (parent is not (null or "/") && !Path.Exists(parent))
                parent = Path.GetDirectoryName(parent);
            return parent is null ? null : new(CauseKind.Path, parent);
        }

        return null;
    }
}
