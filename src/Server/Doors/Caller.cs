using CalmSentry.Core.Lifecycle;
using CalmSentry.Server.Services;

namespace CalmSentry.Server.Doors;

/// <summary>
/// Who is asking: an account by the kernel's word, the account a browser was signed in for, or a program of a service.
/// </summary>
internal sealed record Caller(string Account, CallerKind Kind)
{
    /// <summary>As the logbook has it.</summary>
    public Principal Who => new(Kind == CallerKind.Session ? $"{Account} (console)" : Account);

    /// <summary>
    /// Root, the sentry's own account and signed-in browsers may do everything; a program speaks of its own service
    /// alone.
    /// </summary>
    public bool May(Permission permission) =>
        Kind switch
        {
            CallerKind.Sentry or CallerKind.Session => permission != Permission.OwnService,
            CallerKind.Program => permission == Permission.OwnService,
            _ => false,
        };

    /// <exception cref="InvalidOperationException">Nobody has been told apart: such a call never gets as far as a
    /// handler.</exception>
    public static Caller Of(HttpContext context) =>
        Known(context) ?? throw new InvalidOperationException("a call without a caller");

    public static Caller? Known(HttpContext context) => context.Items[typeof(Caller)] as Caller;

    public void AttachTo(HttpContext context) => context.Items[typeof(Caller)] = this;
}

internal enum CallerKind
{
    /// <summary>Root, or the account the sentry runs as.</summary>
    Sentry,

    /// <summary>A browser that was signed in.</summary>
    Session,

    /// <summary>A process of a service, on that service's own socket.</summary>
    Program,

    /// <summary>Any other account of this machine.</summary>
    Stranger,
}

/// <summary>
/// Through which door a connection came, and who is at its other end by the kernel's word: asked once, when it was
/// made.
/// </summary>
/// <param name="Uid">Null: the kernel does not say.</param>
/// <param name="Name">That account's name, where it counts.</param>
/// <param name="Service">Of a program's own socket: its service.</param>
/// <param name="Ended">Called when the connection has ended.</param>
internal sealed record DoorWord(
    DoorKind Door,
    uint? Uid,
    string Name,
    ServiceActor? Service = null,
    Action? Ended = null
);

internal enum DoorKind
{
    /// <summary>The Unix socket of the client.</summary>
    Api,

    /// <summary>A service's own socket.</summary>
    Say,

    /// <summary>Loopback TCP.</summary>
    Console,
}
