using System.Collections.Immutable;
using System.Globalization;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Definitions;

public enum BeginAt
{
    /// <summary>When a person or a program asks for it.</summary>
    Request,

    /// <summary>When the machine comes up.</summary>
    Boot,

    /// <summary>
    /// When the machine is up and all that begins with it has been proven, or <see cref="BeginPart.AtLatest"/> has
    /// passed.
    /// </summary>
    BootLate,

    /// <summary>Not at all: every start is refused.</summary>
    Never,
}

/// <summary>When a service begins, what must be true before, and what shows that it serves.</summary>
public sealed record BeginPart
{
    public BeginAt At { get; init; } = BeginAt.Request;

    /// <summary>Of <see cref="BeginAt.BootLate"/>: how long it waits for the rest at most.</summary>
    public TimeSpan AtLatest { get; init; } = TimeSpan.FromMinutes(2);

    public ImmutableArray<Need> Needs { get; init; } = [];

    public Proof Proof { get; init; } = new UpForProof(UpForProof.Default);

    /// <summary>Names of the services it needs.</summary>
    public IEnumerable<string> NeededServices =>
        Needs.OfType<ServiceNeed>().Select(need => need.Service).Distinct(StringComparer.Ordinal);
}

/// <summary>What follows when a need is still missing at its limit.</summary>
public enum NeedFollow
{
    /// <summary>Say so, and go on waiting.</summary>
    Tell,

    /// <summary>Begin without it.</summary>
    GoAhead,

    /// <summary>Put the service on hold.</summary>
    Hold,
}

/// <summary>What a dependent does when a service it needs goes away.</summary>
public enum IfLost
{
    /// <summary>Go on as it is.</summary>
    Leave,

    /// <summary>Be restarted once the other is proven again.</summary>
    Restart,

    /// <summary>Be wound down, and begin again once the other is proven again.</summary>
    GoDown,
}

/// <summary>Something that must be true before a launch.</summary>
public abstract record Need
{
    public static readonly TimeSpan UsualWithin = TimeSpan.FromMinutes(5);

    /// <summary>How long it is waited for before <see cref="Follows"/>.</summary>
    public TimeSpan Within { get; init; } = UsualWithin;

    public NeedFollow Follows { get; init; } = NeedFollow.Tell;

    /// <summary>By what it is known again, whatever it is called by people: its kind and what it is about.</summary>
    public abstract string Id { get; }

    /// <summary>What is waited for, in words that follow "for".</summary>
    public abstract string InWords { get; }
}

/// <summary>
/// An address that is not loopback's and a default route; or the named interface up, with an address.
/// </summary>
public sealed record NetworkNeed(string? Interface) : Need
{
    public override string Id => Interface is null ? "network" : $"network:{Interface}";

    public override string InWords => Interface is null ? "the network" : $"the network interface {Interface}";
}

/// <summary>Another service, proven ready.</summary>
public sealed record ServiceNeed(string Service, IfLost IfLost) : Need
{
    public override string Id => $"service:{Service}";

    public override string InWords => Service;
}

/// <summary>Something that takes connections at HOST:PORT.</summary>
public sealed record TcpNeed(string Address) : Need
{
    public override string Id => $"tcp:{Address}";

    public override string InWords => $"an answer at {Address}";
}

/// <param name="Mounted">A file system must be mounted at it.</param>
/// <param name="Writable">The service's account must be able to write there.</param>
public sealed record PathNeed(string Path, bool Mounted, bool Writable) : Need
{
    public override string Id => $"path:{Path}{(Mounted ? ",mounted" : "")}{(Writable ? ",writable" : "")}";

    public override string InWords =>
        Path
        + (Mounted, Writable) switch
        {
            (true, true) => ", mounted and writable",
            (true, false) => ", mounted",
            (false, true) => ", writable",
            _ => "",
        };
}

/// <summary>So long since the machine came up.</summary>
public sealed record AfterBootNeed(TimeSpan Length) : Need
{
    public override string Id => $"after-boot:{Duration.Write(Length)}";

    public override string InWords => $"{Duration.Write(Length)} since the machine came up";
}

/// <summary>What shows that a launched program really serves.</summary>
public abstract record Proof
{
    public static readonly TimeSpan UsualWithin = TimeSpan.FromMinutes(1);

    /// <summary>How long after its launch it may take.</summary>
    public TimeSpan Within { get; init; } = UsualWithin;

    /// <summary>
    /// When it is not there in time, only say so and go on waiting, rather than wind the program down and try again.
    /// </summary>
    public bool OnlyTell { get; init; }

    /// <summary>Of tcp and http: it is asked for as long as the program runs, too, and told when it is no longer so.</summary>
    public bool KeepLooking { get; init; } = true;

    /// <summary>By what it is known again: its kind, and what is asked or waited for.</summary>
    public abstract string Id { get; }

    /// <summary>What is to come, in words that follow "once".</summary>
    public abstract string InWords { get; }
}

/// <summary>It has simply stayed up for so long.</summary>
public sealed record UpForProof(TimeSpan Length) : Proof
{
    public static readonly TimeSpan Default = TimeSpan.FromSeconds(1);

    public override string Id => $"up-for:{Duration.Write(Length)}";

    public override string InWords => $"it has stayed up for {Duration.Write(Length)}";
}

public sealed record TcpProof(string Address) : Proof
{
    public override string Id => $"tcp:{Address}";

    public override string InWords => $"{Address} accepts connections";
}

/// <param name="Status">The status it must answer; null: any from 200 to 399.</param>
/// <param name="Text">What its body must contain; null: anything.</param>
public sealed record HttpProof(string Url, int? Status, string? Text) : Proof
{
    public override string Id =>
        string.Create(CultureInfo.InvariantCulture, $"http:{Url}{(Status is { } status ? $",status={status}" : "")}")
        + (Text is { } text ? $",text={text}" : "");

    public override string InWords =>
        $"{Url} answers"
        + (Status is { } status ? $" {status}" : "")
        + (Text is { } text ? $" with '{text}' in it" : "");
}

/// <param name="Expression">A line of its output matches this (.NET, non-backtracking).</param>
public sealed record OutputProof(string Expression) : Proof
{
    public override string Id => $"output:{Expression}";

    public override string InWords => $"it prints a line that matches '{Expression}'";
}

/// <summary>A file that is there and was written since the launch.</summary>
public sealed record FileProof(string Path) : Proof
{
    public override string Id => $"file:{Path}";

    public override string InWords => $"it has written {Path}";
}

/// <summary>A command that ends with exit code 0, run as the account.</summary>
public sealed record CommandProof(ImmutableArray<string> Command) : Proof
{
    public override string Id => $"command:{CommandLine.Of(Command)}";

    public override string InWords => $"'{string.Join(' ', Command)}' succeeds";

    public bool Equals(CommandProof? other) => base.Equals(other) && Command.SequenceEqual(other.Command);

    public override int GetHashCode() => HashCode.Combine(base.GetHashCode(), Command.Length);
}

/// <summary>The program says so itself, on the socket whose path is in its variable CALM_SAY.</summary>
public sealed record SaidProof : Proof
{
    public override string Id => "says";

    public override string InWords => "it says so itself";
}
