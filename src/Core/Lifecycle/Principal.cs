namespace CalmSentry.Core.Lifecycle;

public enum PrincipalKind
{
    Account,

    /// <summary>A service that the asked one needs.</summary>
    Needed,

    /// <summary>A service that needs the asked one.</summary>
    Dependent,

    /// <summary>The drill under way.</summary>
    Drill,

    /// <summary>A moment of its rhythm.</summary>
    Rhythm,

    /// <summary>The new program files that somebody puts in.</summary>
    Swap,

    /// <summary>The restart of several that somebody asked for.</summary>
    Restart,

    /// <summary>The display that it shows its windows on, which is gone.</summary>
    Display,
}

/// <summary>
/// Who asked for something: an account of this host, a service that needs another or is needed, a drill, or a rhythm.
/// </summary>
/// <param name="Name">Of the account, <c>anna</c>, or of the service.</param>
/// <param name="From">Where that account sat when it asked: <c>console</c>, <c>pts/3, 192.0.2.7</c>; null: nobody knows.</param>
public readonly record struct Principal(string Name, PrincipalKind Kind = PrincipalKind.Account, string? From = null)
{
    public static readonly Principal Drill = new("", PrincipalKind.Drill),
        Rhythm = new("", PrincipalKind.Rhythm),
        Display = new("", PrincipalKind.Display);

    public override string ToString() =>
        Kind switch
        {
            PrincipalKind.Needed => $"{Name}, which it needs",
            PrincipalKind.Dependent => $"{Name}, which needs it",
            PrincipalKind.Drill => "the drill",
            PrincipalKind.Rhythm => "its rhythm",
            PrincipalKind.Display => "its display",
            PrincipalKind.Swap => $"{Name}, for new files",
            PrincipalKind.Restart => $"{Name}, for a restart",
            _ => Name,
        };
}
