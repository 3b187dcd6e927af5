using System.Collections.Immutable;
using System.Globalization;

namespace CalmSentry.Core.Definitions;

/// <summary>
/// Everything set for a service, complete: what was left out has its default. <see cref="Given"/> tells which is which.
/// </summary>
public sealed record Definition
{
    /// <summary>What reading begins with.</summary>
    public static Definition Empty =>
        new()
        {
            Name = "",
            Title = "",
            Program = new("", [], null, ImmutableSortedDictionary.Create<string, string>(StringComparer.Ordinal)),
            Identity = new(""),
        };

    public required string Name { get; init; }

    public required string Title { get; init; }

    public string Notes { get; init; } = "";

    /// <summary>Words that several services may share, by which they are asked for together.</summary>
    public ImmutableArray<string> Labels { get; init; } = [];

    /// <summary>Who is told of what needs a person, beside those the settings name: recipients' names, and mail addresses.</summary>
    public ImmutableArray<string> Tell { get; init; } = [];

    public required ProgramPart Program { get; init; }

    public required IdentityPart Identity { get; init; }

    /// <summary>The account the program runs as.</summary>
    public string Account => Identity.Account;

    public ResourcesPart Resources { get; init; } = new();

    public OutputPart Output { get; init; } = new();

    public FilesPart Files { get; init; } = new();

    public BeginPart Begin { get; init; } = new();

    public RecoverPart Recover { get; init; } = new();

    /// <summary>The steps of a clean stop, in order. Whatever is left after the last is ended by force.</summary>
    public ImmutableArray<WindDownStep> WindDown { get; init; } = DefaultWindDown;

    public static ImmutableArray<WindDownStep> DefaultWindDown { get; } =
    [new SignalStep("TERM", TimeSpan.FromSeconds(10))];

    /// <summary>What tells it to read its settings anew, in order; none: nobody knows how.</summary>
    public ImmutableArray<WindDownStep> Reload { get; init; } = [];

    /// <summary>What is looked at while it runs: what was asked for, then what is implied.</summary>
    public ImmutableArray<Watch> Watch { get; init; } = [];

    /// <summary>The moments it is run at, or restarted.</summary>
    public ImmutableArray<Planned> Rhythm { get; init; } = [];

    /// <summary>It is run at the moments of its rhythm, and rests between.</summary>
    public bool IsJob => Program.Kind == ProgramKind.Periodic;

    /// <summary>It begins as the machine does; a job's rhythm is in force from then on, unless somebody said otherwise.</summary>
    public bool BeginsWithMachine =>
        Begin.At is BeginAt.Boot or BeginAt.BootLate
        || (IsJob && Begin.At == BeginAt.Request && !Given.Contains("begin.at"));

    /// <summary>Its standard input is kept open, so that a step, or a person, can use it.</summary>
    public bool KeepsInput =>
        !Program.Terminal
        && (
            Program.KeepsInput
            || WindDown
                .Concat(Reload)
                .Concat(Output.Reopen)
                .Any(step => step is CloseInputStep or SendStep { To.Kind: SendKind.Input })
        );

    /// <summary>Codes of blocking findings that somebody overruled by name.</summary>
    public ImmutableArray<string> Accept { get; init; } = [];

    /// <summary>Dotted keys that were set, rather than left to their default: <c>program.directory</c>.</summary>
    public ImmutableHashSet<string> Given { get; init; } = [];
}

public enum ProgramKind
{
    /// <summary>The process that is launched is the program, until its end.</summary>
    Stays,

    /// <summary>
    /// It puts itself into the background: the process launched ends soon, and one it left behind is the program.
    /// </summary>
    Detaches,

    /// <summary>One command switches something on, another off; nothing of its own runs between.</summary>
    Toggles,

    /// <summary>It is run at planned moments, and ends by itself.</summary>
    Periodic,
}

/// <param name="Path">The program's file, absolute.</param>
/// <param name="Directory">The working directory, absolute; null: the program's own, or for the host's programs the
/// service's state directory.</param>
public sealed record ProgramPart(
    string Path,
    ImmutableArray<string> Arguments,
    string? Directory,
    ImmutableSortedDictionary<string, string> Environment
)
{
    public ProgramKind Kind { get; init; }

    /// <summary>
    /// The interpreter, absolute, where <see cref="Path"/> is a script that is not executed by itself; null: the file
    /// is executed.
    /// </summary>
    public string? With { get; init; }

    public ImmutableArray<SecretUse> Secrets { get; init; } = [];

    /// <summary>
    /// Of a program that detaches: where it writes the number of its real process, absolute; null: found by its tree.
    /// </summary>
    public string? PidFile { get; init; }

    /// <summary>Of a program that toggles: the command that switches it off, program and arguments.</summary>
    public ImmutableArray<string> Off { get; init; } = [];

    /// <summary>Its standard input is kept open for people, whether or not a step uses it.</summary>
    public bool KeepsInput { get; init; }

    /// <summary>It runs at a terminal of its own, instead of with pipes.</summary>
    public bool Terminal { get; init; }

    /// <summary>The size of the display of its own that it shows its windows on; null: it has none.</summary>
    public WindowSize? Window { get; init; }

    /// <summary>A window manager that runs on it as well; null: none.</summary>
    public string? WindowManager { get; init; }

    /// <summary>Questions that it is known to ask at its terminal.</summary>
    public ImmutableArray<KnownQuestion> Answers { get; init; } = [];

    /// <summary>Secrets that it is given, at its launch or as answers.</summary>
    public IEnumerable<string> SecretKeys =>
        Secrets
            .Select(secret => secret.Key)
            .Concat(Answers.Select(known => known.Secret).OfType<string>())
            .Distinct(StringComparer.Ordinal);

    /// <summary>Its terminal is one for people, of this size, and can be joined while it runs; null: it is one for its output alone.</summary>
    public ScreenSize? Screen { get; init; }
}

/// <summary>Of a terminal, in characters.</summary>
public readonly record struct ScreenSize(int Columns, int Rows)
{
    public const int MostEach = 1000,
        FewestColumns = 20,
        FewestRows = 5;

    /// <returns>Null: no size that is allowed, such as 120x40.</returns>
    public static ScreenSize? Read(string text) =>
        text.Split('x') is [var columns, var rows]
        && Forms.WholeOf(columns, FewestColumns, MostEach) is { } wide
        && Forms.WholeOf(rows, FewestRows, MostEach) is { } high
            ? new(wide, high)
            : null;

    public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"{Columns}x{Rows}");
}

/// <summary>
/// A secret the program is given: in the variable <paramref name="Key"/>, or as a file whose path is in that variable.
/// </summary>
public sealed record SecretUse(string Key, bool AsFile);

/// <param name="Account">The account the program runs as; empty until whoever wraps is known.</param>
public sealed record IdentityPart(string Account)
{
    /// <summary>Groups it is given beside those the account is a member of.</summary>
    public ImmutableArray<string> Groups { get; init; } = [];

    /// <summary>Rights that files it makes do not get (umask(2)).</summary>
    public int Umask { get; init; } = 0x12; // 0022

    /// <summary>
    /// Whether it may gain more rights than its account has, through programs such as sudo (prctl(2),
    /// PR_SET_NO_NEW_PRIVS).
    /// </summary>
    public bool MoreRights { get; init; }

    /// <summary>Rights of the kernel that it gets though its account is not root: <see cref="LowPorts"/> alone.</summary>
    public ImmutableArray<string> Rights { get; init; } = [];

    /// <summary>It may open ports below 1024 (capabilities(7), CAP_NET_BIND_SERVICE).</summary>
    public const string LowPorts = "low-ports";

    public bool HasLowPorts => Rights.Contains(LowPorts);
}

public enum PriorityClass
{
    Idle,
    BelowNormal,
    Normal,
    AboveNormal,
    High,
}

/// <summary>What the program may use of the machine. Null: as much as there is.</summary>
public sealed record ResourcesPart
{
    public PriorityClass Priority { get; init; } = PriorityClass.Normal;

    public PriorityClass Disk { get; init; } = PriorityClass.Normal;

    /// <summary>Processors it may run on, ascending.</summary>
    public ImmutableArray<int> Processors { get; init; } = [];

    /// <summary>Bytes of memory of its whole tree.</summary>
    public long? Memory { get; init; }

    /// <summary>Percent of one processor for its whole tree: 150 is one and a half.</summary>
    public int? Cpu { get; init; }

    /// <summary>Files and sockets each of its processes may have open.</summary>
    public int? OpenFiles { get; init; }

    /// <summary>Processes and threads of its whole tree.</summary>
    public int? TreeSize { get; init; }
}

public enum RecoverAfter
{
    Failure,
    AnyEnd,
    Never,
}

/// <summary>When a run's end is followed by another run, and how soon.</summary>
public sealed record RecoverPart
{
    public RecoverAfter After { get; init; } = RecoverAfter.Failure;

    /// <summary>Pause before the first try.</summary>
    public TimeSpan First { get; init; } = TimeSpan.FromSeconds(1);

    /// <summary>Factor by which each pause is longer than the one before.</summary>
    public double Grow { get; init; } = 2;

    public TimeSpan Longest { get; init; } = TimeSpan.FromMinutes(1);

    /// <summary>A run at least this long forgets the pauses before it.</summary>
    public TimeSpan SteadyAfter { get; init; } = TimeSpan.FromMinutes(10);

    /// <summary>So many bad ends within <see cref="HoldWithin"/> put the service on hold. 0: never.</summary>
    public int HoldEnds { get; init; } = 5;

    public TimeSpan HoldWithin { get; init; } = TimeSpan.FromMinutes(10);

    /// <summary>
    /// Each pause is longer by a random part of itself, up to so many percent, so that many that fell together do not
    /// all come back at once.
    /// </summary>
    public int Spread { get; init; } = 10;

    /// <summary>While it is on hold it is tried again by itself so often; null: only a person ends a hold.</summary>
    public TimeSpan? RetryEvery { get; init; }

    /// <summary>What follows particular ends, by exit code ("3") or signal ("SEGV"), before anything else.</summary>
    public ImmutableSortedDictionary<string, CodeFollow> Codes { get; init; } =
        ImmutableSortedDictionary<string, CodeFollow>.Empty;

    /// <summary>Commands that are run when it fails again and again.</summary>
    public ImmutableArray<FollowUp> Then { get; init; } = [];
}

/// <summary>A command that is run as the account, once until a run has lasted <see cref="RecoverPart.SteadyAfter"/>.</summary>
/// <param name="Command">The program's absolute path, and its arguments.</param>
public sealed record FollowUp(ImmutableArray<string> Command)
{
    /// <summary>After so many failures, as they count towards a hold.</summary>
    public int After { get; init; }

    /// <summary>It is ended when it takes longer.</summary>
    public TimeSpan Limit { get; init; } = TimeSpan.FromMinutes(1);

    public bool Equals(FollowUp? other) =>
        other is not null
        && (After, Limit) == (other.After, other.Limit)
        && Command.AsSpan().SequenceEqual(other.Command.AsSpan());

    public override int GetHashCode() => HashCode.Combine(After, Limit, Command.Length);
}

/// <summary>What follows one particular exit code or signal.</summary>
public enum CodeFollow
{
    /// <summary>It has done its work: a good end, and it stays down.</summary>
    Done,

    /// <summary>It is begun again after the usual pause, whatever <see cref="RecoverPart.After"/> says.</summary>
    Again,

    /// <summary>
    /// It is begun again without a pause, and the end is no bad one. A run shorter than the first pause waits for it
    /// all the same.
    /// </summary>
    AgainAtOnce,

    /// <summary>It is put on hold.</summary>
    Hold,

    /// <summary>It stays down, and what needs it is stopped.</summary>
    StopDependents,
}
