namespace CalmSentry.Linux.Foreign;

/// <summary>Which links on the way to a place are followed.</summary>
public enum Links
{
    /// <summary>None: the way is the sentry's own, and a link on it is not of its making.</summary>
    None,

    /// <summary>Those of root, in folders that root alone can write. Anywhere else a link may have been moved to where it is.</summary>
    OfRoot,

    /// <summary>All: what is read there is shown to nobody who could not name any other file as well.</summary>
    All,
}

/// <summary>
/// A place in which the sentry, as root, does something where somebody else can put things: the only way to open anything there
/// (<see cref="Held"/>) asks for one of these, so that a place that is not on this list does not compile. docs/security.md shows
/// the list; <c>tests/Engine/Linux/Foreign/GroundTests</c> goes by it.
/// </summary>
/// <param name="Name">Short, as the list has it.</param>
/// <param name="What">What is there, and who can put things there.</param>
/// <param name="Does">What the sentry does there as root.</param>
/// <param name="Links">Which links are followed.</param>
/// <param name="Stops">What keeps a name from being taken for what it named before.</param>
public sealed record Ground(string Name, string What, Handling Does, Links Links, string Stops)
{
    /// <summary>The sentry's own directories: root's alone, all the way down to them.</summary>
    public static readonly Ground Own = new(
        "own directories",
        "store, keys, run directory, output and kept definitions: root's alone",
        Handling.Read | Handling.Write | Handling.Own,
        Links.OfRoot,
        "only root can write on the way to them"
    );

    public static readonly Ground Output = new(
        "output elsewhere",
        "output.directory of a definition: root's alone, all the way down to it",
        Handling.Read | Handling.Write | Handling.Move,
        Links.OfRoot,
        "refused where anybody but root can write on the way, looked at before every launch; a directory that holds something else is not taken"
    );

    public static readonly Ground State = new(
        "state directories",
        "what services keep: each the directory of an account, in one of root's",
        Handling.Own | Handling.Move,
        Links.OfRoot,
        "walked by descriptors, a file with a second name is left as it is"
    );

    public static readonly Ground Secrets = new(
        "files of secrets",
        "in memory, beside everybody's: folders of root with names that cannot be foreseen",
        Handling.Read | Handling.Write | Handling.Own,
        Links.OfRoot,
        "made anew, owner set before the name is there"
    );

    public static readonly Ground DisplaySockets = new(
        "folder of displays' sockets",
        "/tmp/.X11-unix, in a folder that everybody can write: made by the guard at its begin",
        Handling.Own | Handling.Move,
        Links.OfRoot,
        "made and given its rights by its descriptor; another account's is moved aside, unless a program listens there"
    );

    public static readonly Ground Grant = new(
        "folders granted to an account",
        "whatever an administrator names: other accounts may own folders on the way, and all that is in it",
        Handling.Own,
        Links.OfRoot,
        "walked by descriptors on one file system; files with a second name, devices and the host's own places are left as they are"
    );

    public static readonly Ground NewFiles = new(
        "new program files",
        "directory or archive that a swap reads: whoever uploaded it owns it",
        Handling.Read,
        Links.OfRoot,
        "owner and real path are shown; links in it are copied as links; archives have bounds"
    );

    public static readonly Ground ProgramFiles = new(
        "program files in place",
        "a service's files.directory: its account often owns it, or a folder above",
        Handling.Read | Handling.Write | Handling.Own | Handling.Move,
        Links.OfRoot,
        "versions lie where root alone can write, known by their inode; owner and rights are handed on only in folders of root alone"
    );

    public static readonly Ground Program = new(
        "programs, scripts, interpreters",
        "what a definition names, wherever it lies",
        Handling.Read,
        Links.All,
        "regular files alone, a bounded number of bytes, never waited for; what is run for a check is run as the account"
    );

    public static readonly Ground PidFile = new(
        "pid files",
        "written by a service's program",
        Handling.Read,
        Links.All,
        "a number, believed only of a process of the run's own tree"
    );

    public static readonly Ground Certificate = new(
        "certificates",
        "files that arguments and variables of a definition name",
        Handling.Read,
        Links.All,
        "regular files alone, a bounded number of bytes; only names and dates of certificates are shown"
    );

    public static readonly Ground OtherStart = new(
        "tables and files that start programs",
        "tables of schedules, boot scripts, files read at login: an account's own ones are its own",
        Handling.Read,
        Links.All,
        "regular files alone, a bounded number of bytes; only a line that names the program is shown"
    );

    public static readonly Ground Settings = new(
        "settings",
        "the sentry's settings, and the host's lists of who is logged in",
        Handling.Read,
        Links.All,
        "root's files, by their fixed paths"
    );

    public static readonly Ground FollowedLog = new(
        "log files of a program's own",
        "output.files of a definition: the account owns file and folder",
        Handling.Read | Handling.Write | Handling.Move,
        Links.All,
        "opened, emptied, moved and removed as the account, with no capability and through no link of the kernel's own (openat2(2), RESOLVE_NO_MAGICLINKS)"
    );

    public static readonly Ground HostInstall = new(
        "places of the installation",
        "programs, settings and boot entry that calm host install writes",
        Handling.Write | Handling.Own | Handling.Run,
        Links.OfRoot,
        "refused where anybody but root can write in a folder on the way; files there that are links or somebody else's are replaced, never written through"
    );

    /// <summary>All there are.</summary>
    public static IReadOnlyList<Ground> All { get; } =
    [
        Own,
        Output,
        State,
        DisplaySockets,
        Secrets,
        Grant,
        NewFiles,
        ProgramFiles,
        Program,
        PidFile,
        Certificate,
        OtherStart,
        Settings,
        FollowedLog,
        HostInstall,
    ];
}

/// <summary>What the sentry does in a place, as root.</summary>
[Flags]
public enum Handling
{
    Read = 1,
    Write = 2,

    /// <summary>Sets owner, mode or access list.</summary>
    Own = 4,
    Move = 8,
    Run = 16,
}
