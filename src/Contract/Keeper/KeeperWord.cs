namespace CalmSentry.Contract.Keeper;

/// <summary>
/// What one message between the server and a keeper is about. Orders go to the keeper, news comes from it.
/// </summary>
public enum KeeperWord : byte
{
    None = 0,

    /// <summary>Order: begin a run. Fields: see <see cref="LaunchField"/>.</summary>
    Launch = 1,

    /// <summary>
    /// Order: send a signal. Fields <c>number</c> (signal number) and <c>to</c> (<c>main</c> or <c>tree</c>).
    /// </summary>
    Signal = 2,

    /// <summary>Order: end every process of the run now (SIGKILL), however many there are.</summary>
    EndTree = 3,

    /// <summary>Order: exit, if no run is live.</summary>
    Leave = 4,

    /// <summary>
    /// Order: the process launched has ended and this one, a child of the keeper, is the program from now on. Field
    /// <c>pid</c>.
    /// </summary>
    Follow = 5,

    /// <summary>
    /// Order: write to the program's standard input, or type at its terminal. Field <c>text</c>. Answered with <see
    /// cref="InputTaken"/>.
    /// </summary>
    Input = 6,

    /// <summary>
    /// Order: bring its standard input to its end; at a terminal, type the end-of-file character. Answered with <see
    /// cref="InputTaken"/>.
    /// </summary>
    CloseInput = 7,

    /// <summary>Order: say that you are there. Answered with <see cref="Here"/>; since <see cref="KeeperVersion.Answers"/>.</summary>
    Ask = 8,

    /// <summary>
    /// Order: how output is kept from now on. Fields <see cref="LaunchField.TurnAt"/> and <see cref="LaunchField.Stamp"/>; with a
    /// field <c>now</c> what is there is turned over at once. Since <see cref="KeeperVersion.Segments"/>.
    /// </summary>
    Output = 9,

    /// <summary>
    /// News, first on each connection. Fields <c>keeper</c> (pid), <c>version</c> (<see cref="KeeperVersion"/>),
    /// <c>run</c>, <c>pid</c>, <c>phase</c> (<c>idle|launching|live|ending</c>), <c>status</c>.
    /// </summary>
    Hello = 65,

    /// <summary>
    /// News: the program's first image is in place (its execve succeeded). Fields <c>run</c>, <c>pid</c>.
    /// </summary>
    Launched = 66,

    /// <summary>
    /// News: the launch failed. Fields <c>run</c>, <c>step</c> (<see cref="LaunchStep"/>), <c>errno</c>.
    /// </summary>
    NeverLaunched = 67,

    /// <summary>
    /// News: the main process ended and others of its tree are left. Fields <c>run</c>, <c>status</c> (wait status).
    /// </summary>
    MainEnded = 68,

    /// <summary>
    /// News: the whole tree has ended. Fields <c>run</c>, <c>status</c>, <c>peak-kib</c>, <c>cpu-us</c>,
    /// <c>unwritten</c> (bytes of output that found no room), <c>oom</c> (processes the memory ceiling ended).
    /// </summary>
    TreeEnded = 69,

    /// <summary>
    /// News: output cannot be written for now; nothing is dropped, the program waits. Fields <c>run</c>, <c>errno</c>.
    /// </summary>
    OutputStuck = 70,

    /// <summary>News: output is being written again.</summary>
    OutputFlows = 71,

    /// <summary>
    /// News: the process of a <see cref="Follow"/> is the main process now. Fields <c>run</c>, <c>pid</c>.
    /// </summary>
    Followed = 72,

    /// <summary>
    /// News: what came of an <see cref="Input"/> or <see cref="CloseInput"/>. Fields <c>run</c>, <c>errno</c> (0: all
    /// of it was taken).
    /// </summary>
    InputTaken = 73,

    /// <summary>News: the answer to <see cref="Ask"/>.</summary>
    Here = 74,

    /// <summary>
    /// News: an order that does not fit, or is not known, was not carried out. Fields <c>run</c>, <c>order</c> (its
    /// number), <c>phase</c>.
    /// </summary>
    Refused = 75,

    /// <summary>News: a segment of output was turned over. Field <c>run</c>.</summary>
    TurnedOver = 76,

    /// <summary>
    /// News: a log file of the program's own was moved aside, and it is to open it anew. Field <c>run</c>. Said again to each
    /// server that comes while one lies aside.
    /// </summary>
    Reopen = 77,

    /// <summary>
    /// News: a signal has stopped its main process. Fields <c>run</c>, <c>forward-ms</c> (since when, by the clock that only goes
    /// forward). Said ten times a second at most, and again to each server that comes while it is so.
    /// </summary>
    Paused = 78,

    /// <summary>News: its main process was stopped and goes on. Field <c>run</c>.</summary>
    GoesOn = 79,
}

/// <summary>
/// What a keeper understands, as a number in its hello that grows. A keeper outlives the server that started it, so each
/// side may be the older one: what a keeper does not know is not sent to it.
/// </summary>
public static class KeeperVersion
{
    /// <summary>Of keepers whose hello has no number yet.</summary>
    public const int First = 1;

    /// <summary>
    /// It answers every order, also with a refusal, says hello on its first connection too, and makes its places again
    /// when it gets SIGURG (which a keeper of the first version ignores).
    /// </summary>
    public const int Answers = 2;

    /// <summary>It gives a program the right to open low ports (<see cref="LaunchField.LowPorts"/>).</summary>
    public const int Rights = 3;

    /// <summary>It keeps output in segments, with the times of what is in them (<see cref="OutputForm"/>).</summary>
    public const int Segments = 4;

    /// <summary>It lets a terminal be seen while its program runs (<see cref="ViewerWord"/>).</summary>
    public const int Viewers = 5;

    /// <summary>It gives a run a folder of its own for the sockets of displays (<see cref="LaunchField.Sockets"/>).</summary>
    public const int Displays = 6;

    /// <summary>It tells that a signal has stopped its program (<see cref="KeeperWord.Paused"/>).</summary>
    public const int Pauses = 7;

    public const int Latest = Pauses;
}

/// <summary>The steps of a launch. The first that fails is reported with its errno.</summary>
public enum LaunchStep : byte
{
    None = 0,
    Keeper = 1,
    Lock = 2,
    Order = 3,
    Output = 4,
    Clone = 5,
    Session = 6,
    Streams = 7,
    Groups = 8,
    Group = 9,
    Account = 10,
    Mask = 11,
    Directory = 12,
    Signals = 13,
    Execute = 14,
    Ceilings = 15,
    Priority = 16,
    Processors = 17,
    OpenFiles = 18,
    Rights = 19,
    Terminal = 20,

    /// <summary>The process that was to become the program ended before it could: the number beside is its wait status.</summary>
    Enter = 21,

    /// <summary>The right to open low ports could not be given.</summary>
    LowPorts = 22,

    /// <summary>
    /// The server that gave the order was gone when the keeper came to it: it is not carried out, and this keeper leaves.
    /// </summary>
    Alone = 23,

    /// <summary>The folder for its display's sockets could not be put in its place (mount(2)).</summary>
    Sockets = 24,
}

/// <summary>Keys of a launch order. Values are bytes without NUL, as the kernel itself takes them.</summary>
public static class LaunchField
{
    /// <summary>Run number, decimal.</summary>
    public const string Run = "run";

    /// <summary>
    /// The service's run directory, absolute: for its lock, the keeper's socket and outcomes. The first order binds a
    /// keeper to it.
    /// </summary>
    public const string Place = "place";

    /// <summary>Output file, absolute; appended to, made with mode 0640 when missing.</summary>
    public const string Output = "output";

    /// <summary>
    /// cgroup v2 directory for this run's tree, absolute; made when missing. Left out where the host has none.
    /// </summary>
    public const string ControlGroup = "cgroup";

    /// <summary>Program to execute, absolute.</summary>
    public const string Program = "program";

    /// <summary>One per element of argv, the first being argv[0].</summary>
    public const string Argument = "argument";

    /// <summary>One per variable, as NAME=VALUE. Nothing else is in the environment.</summary>
    public const string Environment = "environment";

    /// <summary>Working directory, entered as the account.</summary>
    public const string Directory = "directory";

    /// <summary>User id and group id, decimal; left out: as the keeper itself.</summary>
    public const string UserId = "uid";

    public const string GroupId = "gid";

    /// <summary>One per supplementary group id, decimal.</summary>
    public const string Supplementary = "group";

    /// <summary>umask, octal.</summary>
    public const string Mask = "umask";

    /// <summary>Output file for standard error, absolute; left out: <see cref="Output"/> takes both.</summary>
    public const string ErrorOutput = "error-output";

    /// <summary>Bytes at which output is turned over; left out: one file, without times.</summary>
    public const string TurnAt = "turn-at";

    /// <summary>
    /// A log file that the program writes by itself, as the directory where what it gets is kept, a line's end, and its path.
    /// </summary>
    public const string File = "file";

    /// <summary>The signal that has the program open its log files anew; left out: they are emptied where they are.</summary>
    public const string Reopen = "reopen";

    /// <summary>In place of a signal's number: the server is asked to (<see cref="KeeperWord.Reopen"/>).</summary>
    public const int ReopenIsAsked = -1;

    /// <summary>Lines a second that are kept of each stream; left out: all.</summary>
    public const string Thin = "thin";

    /// <summary>Of output that is kept without times, so many bytes are kept and no more; left out: all.</summary>
    public const string Most = "most";

    /// <summary>1: what finds no room on a full disk is lost, and the program goes on.</summary>
    public const string GoOn = "go-on";

    /// <summary>Each line has the time before it.</summary>
    public const string Stamp = "stamp";

    /// <summary>What becomes of the output before the run: <c>fresh</c> (it is gone) or <c>turn-over</c>; left out: it goes on.</summary>
    public const string AtStart = "at-start";

    /// <summary>
    /// One per control group to join beside <see cref="ControlGroup"/>, absolute (version 1 controllers).
    /// </summary>
    public const string Join = "join";

    /// <summary>
    /// File whose line <c>oom_kill N</c> counts the processes a memory ceiling ended; read at both ends of the run.
    /// </summary>
    public const string OutOfMemory = "out-of-memory";

    /// <summary>Nice value from -20 to 19 (setpriority(2)).</summary>
    public const string Nice = "nice";

    /// <summary>Disk priority as one number, class and level (ioprio_set(2)).</summary>
    public const string Disk = "disk";

    /// <summary>One per processor it may run on, decimal (sched_setaffinity(2)).</summary>
    public const string Processor = "processor";

    /// <summary>Files each process may have open (setrlimit(2), RLIMIT_NOFILE).</summary>
    public const string OpenFiles = "open-files";

    /// <summary>
    /// Files each process may have open at once without asking for more (the soft limit of RLIMIT_NOFILE), as this host
    /// gives it; the most it may ask for stays as it is. Left out where <see cref="OpenFiles"/> is given.
    /// </summary>
    public const string UsualFiles = "usual-files";

    /// <summary>Present: executing a program never gives more rights (prctl(2), PR_SET_NO_NEW_PRIVS).</summary>
    public const string NoMoreRights = "no-more-rights";

    /// <summary>1: it may open ports below 1024 whatever its account (capabilities(7)). Since <see cref="KeeperVersion.Rights"/>.</summary>
    public const string LowPorts = "low-ports";

    /// <summary>Present: standard input is a pipe that stays open, instead of /dev/null.</summary>
    public const string KeepInput = "keep-input";

    /// <summary>
    /// Present: all three streams are a new terminal, which controls the program's session. A size such as <c>120x40</c>: one for
    /// people, that is seen while it runs (since <see cref="KeeperVersion.Viewers"/>).
    /// </summary>
    public const string Terminal = "terminal";

    /// <summary>
    /// A folder, absolute, that this run sees in the place of <see cref="DisplaySockets"/>, in a mount namespace of its own. Since
    /// <see cref="KeeperVersion.Displays"/>.
    /// </summary>
    public const string Sockets = "sockets";

    /// <summary>Where X displays have their sockets on every host (X(7)).</summary>
    public const string DisplaySockets = "/tmp/.X11-unix";

    /// <summary>
    /// One per text that is not to be in the output: it is replaced by four asterisks. At least four bytes.
    /// </summary>
    public const string Hide = "hide";
}
