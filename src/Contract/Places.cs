namespace CalmSentry.Contract;

/// <summary>Where things live. <c>--root DIR</c> moves all of it under DIR.</summary>
public sealed record Places(string Root)
{
    public const string Variable = "CALM_ROOT";

    /// <summary>Longest socket address of unix(7), its closing NUL excluded, in bytes.</summary>
    public const int LongestSocketPath = 107;

    /// <summary>
    /// The console's port unless the settings name another: one that is assigned to nobody. Below 1024 only root may
    /// take it.
    /// </summary>
    public const int ConsolePort = 737,
        ConsolePortOfOthers = 7373;

    /// <summary>The root named by the option, else by CALM_ROOT, else the host itself.</summary>
    public static Places From(string? option)
    {
        var root = option is { Length: > 0 } ? option : Environment.GetEnvironmentVariable(Variable);
        return new(root is { Length: > 0 } ? Path.GetFullPath(root) : "/");
    }

    public string Library => Path.Combine(Root, "var/lib/calm-sentry");

    public string Logs => Path.Combine(Root, "var/log/calm-sentry");

    public string RunDirectory => Path.Combine(Root, "run/calm-sentry");

    public string Database => Path.Combine(Library, "sentry.db");

    /// <summary>The store as it was before a later version brought its tables up: the way back.</summary>
    /// <summary>The settings as they were when there was no mistake in them.</summary>
    public string SettingsKept => Path.Combine(Library, "sentry.yaml.kept");

    public string DatabaseBefore => Database + ".before";

    /// <summary>Directory of the keys that secrets are sealed with.</summary>
    public string Keys => Path.Combine(Library, "keys");

    public string ApiSocket => Path.Combine(RunDirectory, "api.sock");

    /// <summary>
    /// The same for root, and the account the sentry runs as: the kernel lets nobody else connect, so nobody else can crowd it.
    /// </summary>
    public string RootSocket => Path.Combine(RunDirectory, "root.sock");

    /// <summary>The sockets on which programs say something of themselves, one a service.</summary>
    public string SayDirectory => Path.Combine(RunDirectory, "say");

    /// <summary>A process id and the number of its descriptor that holds the console's port, as one line.</summary>
    public string HeldPort => Path.Combine(RunDirectory, "port.held");

    /// <summary>The sentry's own settings.</summary>
    public string Settings => Path.Combine(Root, "etc/calm-sentry/sentry.yaml");

    /// <summary>While it is there, nothing is begun when the machine comes up.</summary>
    public string BeginNothing => Path.Combine(Root, "etc/calm-sentry/begin-nothing");

    /// <summary>Process id of the guard, as one line.</summary>
    public string Guard => Path.Combine(RunDirectory, "guard.pid");

    /// <summary>Locked by the guard as long as it lives, where nobody wipes it.</summary>
    public string GuardLock => Path.Combine(Library, "guard.lock");

    /// <summary>Process id of the server, as one line.</summary>
    public string ServerPid => Path.Combine(RunDirectory, "server.pid");

    /// <summary>Touched by the server every two seconds, from its first moment on: a sign of life.</summary>
    public string ServerBeat => Path.Combine(RunDirectory, "server.beat");

    /// <summary>Holds the console's TCP port, as one line.</summary>
    public string PortFile => Path.Combine(RunDirectory, "port");

    /// <summary>The lock of the one server, where nobody wipes it.</summary>
    public string Lock => Path.Combine(Library, "sentry.lock");

    /// <summary>Where servers of an earlier version lock.</summary>
    public string EarlierLock => Path.Combine(RunDirectory, "sentry.lock");

    /// <summary>The keeper's directory of a service.</summary>
    /// <param name="id">Its id, as directories have it.</param>
    public string RunOf(string id) => Path.Combine(RunDirectory, "services", id);

    /// <summary>A service's own socket; its path is in the variable CALM_SAY.</summary>
    /// <param name="id">Its id, as directories have it.</param>
    public string SayOf(string id) => Path.Combine(SayDirectory, id);

    public string OutputDirectoryOf(string service) => Path.Combine(Logs, service);

    public string OutputOf(string service) => Path.Combine(OutputDirectoryOf(service), "output.log");

    /// <summary>Where a log file that a program writes by itself is kept, too.</summary>
    /// <param name="file">What the definition calls it.</param>
    public string KeptFileOf(string service, string file) => Path.Combine(OutputDirectoryOf(service), "files", file);

    public string States => Path.Combine(Library, "state");

    /// <summary>What services kept whose account was removed.</summary>
    public string StatesApart => Path.Combine(Library, "set-apart");

    /// <summary>Plain copies of all definitions, from which a lost store is made again.</summary>
    public string Definitions => Path.Combine(Library, "definitions");

    /// <summary>
    /// Where a copy of the store is made while its own disk takes nothing: in memory as a rule, else on the disk of the output,
    /// where no service can have a name that begins with a dot.
    /// </summary>
    public IReadOnlyList<string> DatabaseAsides =>
        [Path.Combine(RunDirectory, "store-aside.db"), Path.Combine(Logs, ".store-aside.db")];

    /// <summary>A stored definition that cannot be read, laid where a person can mend it.</summary>
    public string UnreadableOf(string service) => Path.Combine(Library, "unreadable", $"{service}.json");

    /// <summary>What displays showed last, a folder a service, a picture a run.</summary>
    public string Pictures => Path.Combine(Library, "pictures");

    public string StateOf(string service) => Path.Combine(States, service);
}
