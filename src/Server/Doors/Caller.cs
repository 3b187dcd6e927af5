using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Checks;

namespace CalmSentry.Server.Doors;

/// <summary>
/// Who is askers: an account by the kernel's word, the account a browser was signed in for, or a program of a service.
/// </summary>
/// <param name="Login">The account that logged in, where that is another: it may have become root since.</param>
/// <param name="From">The terminal it sits at, and the host that came in from.</param>
internal sealed record Caller(string Account, CallerKind Kind, string? Login = null, string? From = null)
{
    /// <summary>As the logbook has it: the person behind an account that several may become.</summary>
    public string Name => Login is null ? Account : $"{Login} as {Account}";

    public Principal Who => new(Name, From: Kind == CallerKind.Session ? Console : From);

    /// <summary>The accounts behind the call, as checks ask for them.</summary>
    public Askers Askers =>
        new([
            .. new[] { Account, Login }
                .OfType<string>()
                .Select(name => Linux.Accounts.Account.Named(name)?.Uid)
                .OfType<uint>(),
        ]);

    /// <summary>Where a browser asks from.</summary>
    public const string Console = "console";

    /// <summary>
    /// Root, the sentry's own account and signed-in browsers may do everything; a program speaks of its own service
    /// alone.
    /// </summary>
    public bool May(Permission permission) =>
        Kind switch
        {
            CallerKind.Sentry or CallerKind.Session => permission is not (Permission.OwnService or Permission.Ticket),
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
/// <param name="Login">The name of the account that logged in, where that is another.</param>
/// <param name="From">The terminal it sits at, and the host that came in from.</param>
internal sealed record DoorWord(
    DoorKind Door,
    uint? Uid,
    string Name,
    ServiceActor? Service = null,
    Action? Ended = null,
    string? Login = null,
    string? From = null
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
