using System.Collections.Immutable;
using System.Text.RegularExpressions;
using CalmSentry.Core.Text;
using static CalmSentry.Core.Definitions.KeyOf<CalmSentry.Core.Definitions.BeginPart>;

namespace CalmSentry.Core.Definitions;

/// <summary>The keys of <c>begin</c>, of a need and of a proof.</summary>
public static class BeginKeys
{
    public static Form<BeginAt> At { get; } =
        Forms.Choice(
            ("boot", BeginAt.Boot),
            ("boot-late", BeginAt.BootLate),
            ("request", BeginAt.Request),
            ("never", BeginAt.Never)
        ) with
        {
            Often = new Dictionary<string, string>
            {
                ["auto"] = "boot",
                ["automatic"] = "boot",
                ["always"] = "boot",
                ["yes"] = "boot",
                ["delayed"] = "boot-late",
                ["demand"] = "request",
                ["manual"] = "request",
                ["no"] = "request",
                ["disabled"] = "never",
            },
        };

    private static readonly Form<string> Network = Forms.Text(
        "up, or the name of a network interface",
        text => text.Length is > 0 and < 16 && !text.Contains('/', StringComparison.Ordinal)
    );

    private static readonly Form<string> Expression = Forms.Text(
        "a regular expression without look-around and back-references",
        IsExpression
    ) with
    {
        AllowedFor = Expressions.WrongIn,
    };

    internal static Form<int> Status { get; } =
        Forms.Of(
            "an HTTP status from 100 to 599",
            text => Forms.WholeOf(text, 100, 599),
            status => status.ToString(System.Globalization.CultureInfo.InvariantCulture)
        ) with
        {
            Type = KeyType.Number,
            Example = "200",
        };

    internal static Form<string> AnswerText { get; } =
        Forms.Text("text that is to be in the answer", text => text.Length > 0);

    public static Union<Need> Needs { get; } =
        new(
            "{ service: tide-store } or { network: up }",
            [
                UnionOf<Need>.Kind(
                    "network",
                    Network,
                    name => new NetworkNeed(name == "up" ? null : name),
                    need => need is NetworkNeed network ? network.Interface ?? "up" : null,
                    "up: an address that is not loopback's, and a default route. Or the name of an interface that must "
                        + "be up with an address."
                ) with
                {
                    Bare = "up",
                    Of = "INTERFACE",
                    Example = "up",
                },
                UnionOf<Need>.Kind(
                    "service",
                    Forms.ServiceName,
                    name => new ServiceNeed(name, IfLost.Leave),
                    need => (need as ServiceNeed)?.Service,
                    "Another service, ready. It is started when it is stopped, starts before this one and stops after it."
                ) with
                {
                    Of = "NAME",
                    Example = "tide-store",
                },
                UnionOf<Need>.Kind(
                    "tcp",
                    Forms.Address,
                    address => new TcpNeed(address),
                    need => (need as TcpNeed)?.Address,
                    "Something that accepts connections there."
                ) with
                {
                    Of = "HOST:PORT",
                    Example = "127.0.0.1:5432",
                },
                UnionOf<Need>.Kind(
                    "path",
                    Forms.Path,
                    path => new PathNeed(path, false, false),
                    need => (need as PathNeed)?.Path,
                    "A file or directory that exists."
                ) with
                {
                    Of = "PATH",
                    Example = "/mnt/manifests",
                },
                UnionOf<Need>.Kind(
                    "after-boot",
                    Forms.Length,
                    length => new AfterBootNeed(length) { Within = Need.UsualWithin + length },
                    need => (need as AfterBootNeed)?.Length,
                    "So long since the machine came up."
                ) with
                {
                    Example = "30 s",
                },
            ],
            [
                UnionOf<Need>.Attribute(
                    "mounted",
                    Forms.Switch,
                    need => need is PathNeed { Mounted: true } ? true : null,
                    (need, mounted) => ((PathNeed)need) with { Mounted = mounted },
                    "With path: a file system must be mounted there."
                ) with
                {
                    Only = ["path"],
                    Default = "false",
                },
                UnionOf<Need>.Attribute(
                    "writable",
                    Forms.Switch,
                    need => need is PathNeed { Writable: true } ? true : null,
                    (need, writable) => ((PathNeed)need) with { Writable = writable },
                    "With path: its account must be able to write there."
                ) with
                {
                    Only = ["path"],
                    Default = "false",
                },
                UnionOf<Need>.Attribute(
                    "if-lost",
                    Forms.Choice(("leave", IfLost.Leave), ("restart", IfLost.Restart), ("go-down", IfLost.GoDown)),
                    need => (need as ServiceNeed)?.IfLost,
                    (need, lost) => ((ServiceNeed)need) with { IfLost = lost },
                    "With service, when that one goes away: leave this one running; restart it once the other is ready "
                        + "again; or stop it too, and start it again with the other."
                ) with
                {
                    Only = ["service"],
                    Default = "leave",
                },
                UnionOf<Need>.Attribute(
                    "within",
                    Forms.Length,
                    need => need.Within,
                    (need, within) => need with { Within = within },
                    "How long it waits before what follows says."
                ) with
                {
                    Default = "5 min (with after-boot, that much longer)",
                    Example = "2 min",
                },
                UnionOf<Need>.Attribute(
                    "follows",
                    Forms.Choice(
                        ("tell", NeedFollow.Tell),
                        ("go-ahead", NeedFollow.GoAhead),
                        ("hold", NeedFollow.Hold)
                    ),
                    need => need.Follows,
                    (need, follows) => need with { Follows = follows },
                    "tell: raise an alert and keep waiting. go-ahead: start without it. hold: put the service on hold."
                ) with
                {
                    Default = "tell",
                    Was = "then",
                },
            ]
        );

    public static Union<Proof> Proofs { get; } =
        new(
            "{ tcp: 127.0.0.1:7411 }",
            [
                UnionOf<Proof>.Kind(
                    "tcp",
                    Forms.Address,
                    address => new TcpProof(address),
                    proof => (proof as TcpProof)?.Address,
                    "It accepts connections there."
                ) with
                {
                    Of = "HOST:PORT",
                    Example = "127.0.0.1:7411",
                },
                UnionOf<Proof>.Kind(
                    "http",
                    Forms.Url,
                    url => new HttpProof(url, null, null),
                    proof => (proof as HttpProof)?.Url,
                    "This address answers."
                ) with
                {
                    Of = "URL",
                    Example = "http://127.0.0.1:7411/health",
                },
                UnionOf<Proof>.Kind(
                    "output",
                    Expression,
                    expression => new OutputProof(expression),
                    proof => (proof as OutputProof)?.Expression,
                    "It prints a line that matches this regular expression."
                ) with
                {
                    Of = "REGEX",
                    IsText = true,
                    Example = "listening on",
                },
                UnionOf<Proof>.Kind(
                    "file",
                    Forms.Path,
                    path => new FileProof(path),
                    proof => (proof as FileProof)?.Path,
                    "It has written this file since its launch."
                ) with
                {
                    Of = "PATH",
                    Example = "/run/relay/ready",
                },
                UnionOf<Proof>.Command(
                    "command",
                    command => new CommandProof(command),
                    proof => (proof as CommandProof)?.Command,
                    "This command, run as the account, exits with code 0; program first."
                ) with
                {
                    Example = "[/usr/bin/ledger-ping]",
                },
                UnionOf<Proof>.Kind(
                    "said",
                    Forms.OneOf("serves"),
                    _ => new SaidProof(),
                    proof => proof is SaidProof ? "serves" : null,
                    "serves: the program says so itself, with one HTTP call to the Unix socket in CALM_SAY."
                ) with
                {
                    Bare = "serves",
                    Was = "told",
                },
                UnionOf<Proof>.Kind(
                    "up-for",
                    Forms.Length,
                    length => new UpForProof(length),
                    proof => (proof as UpForProof)?.Length,
                    "It has stayed up for so long."
                ) with
                {
                    Default = "1 s",
                    Example = "5 s",
                },
            ],
            [
                UnionOf<Proof>.Attribute(
                    "status",
                    Status,
                    proof => (proof as HttpProof)?.Status,
                    (proof, status) => ((HttpProof)proof) with { Status = status },
                    "With http, the status it must answer."
                ) with
                {
                    Only = ["http"],
                    Default = "any from 200 to 399",
                },
                UnionOf<Proof>.Attribute(
                    "text",
                    AnswerText,
                    proof => (proof as HttpProof)?.Text,
                    (proof, text) => ((HttpProof)proof) with { Text = text },
                    "With http, what must be in the answer."
                ) with
                {
                    Only = ["http"],
                    Default = "anything",
                    IsText = true,
                },
                UnionOf<Proof>.Attribute(
                    "within",
                    Forms.Length,
                    proof => proof.Within,
                    (proof, within) => proof with { Within = within },
                    "How long after its launch the proof may take."
                ) with
                {
                    Only = Slow,
                    Default = "1 min",
                    Example = "20 s",
                },
                UnionOf<Proof>.Attribute(
                    "if-not",
                    Forms.Choice(("try-again", false), ("tell", true)),
                    proof => proof.OnlyTell,
                    (proof, tell) => proof with { OnlyTell = tell },
                    "When it does not come in time. try-again: a failed start; it is wound down and restarted. tell: raise an "
                        + "alert and keep waiting."
                ) with
                {
                    Only = Slow,
                    Default = "try-again",
                },
                UnionOf<Proof>.Attribute(
                    "looked-at",
                    Forms.Choice(("throughout", true), ("start", false)),
                    proof => proof.KeepLooking,
                    (proof, keep) => proof with { KeepLooking = keep },
                    "With tcp and http. throughout: while the program runs, too, and an alert is raised when it is no longer "
                        + "so. start: only at the start."
                ) with
                {
                    Only = ["tcp", "http"],
                    Default = "throughout",
                },
            ]
        );

    /// <summary>Proofs that may not come.</summary>
    private static ImmutableArray<string> Slow => ["tcp", "http", "output", "file", "command", "said"];

    internal static Shape<BeginPart> Shape { get; } =
        new(
            Value(
                "at",
                At,
                begin => begin.At,
                (begin, at) => begin with { At = at },
                "boot: with the machine, before anyone logs in. boot-late: once everything that starts at boot is ready. "
                    + "request: when somebody asks. never: every start is refused."
            ) with
            {
                Label = "Starts",
                Default = "request; of a job boot",
            },
            Value(
                "at-latest",
                Forms.Length,
                begin => begin.At == BeginAt.BootLate ? begin.AtLatest : null,
                (begin, latest) => begin with { AtLatest = latest },
                "With boot-late, how long it waits at most."
            ) with
            {
                Default = "2 min",
                Example = "2 min",
            },
            Many(
                "needs",
                Needs,
                begin => begin.Needs.IsEmpty ? null : begin.Needs,
                (begin, needs) => begin with { Needs = needs },
                "What must be true before it is launched. Each is one of network, service, tcp, path, after-boot."
            ) with
            {
                Default = "nothing",
                IsNothingLeftOut = true,
                Example = "[{ network: up }, { service: tide-store }]",
                Flag = "need",
                AtLaunch = true,
            },
            One(
                "proof",
                Proofs,
                begin => begin.Proof,
                (begin, proof) => begin with { Proof = proof },
                "What shows that the program serves; until then it is starting. "
                    + "One of tcp, http, output, file, command, said, up-for."
            ) with
            {
                Label = "Proof that it serves",
                Default = "up-for 1 s",
                AtLaunch = true,
            }
        )
        {
            Check = (map, begin) =>
            {
                if (map.Has("at-latest") && begin.At != BeginAt.BootLate)
                    map.Contradicts("at-latest", "a time", "only with at: boot-late");
            },
        };

    private static bool IsExpression(string text)
    {
        try
        {
            _ = new Regex(text, RegexOptions.NonBacktracking);
            return text.Length > 0;
        }
        catch (Exception error) when (error is ArgumentException or NotSupportedException)
        {
            return false;
        }
    }
}
