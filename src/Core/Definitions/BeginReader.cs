using System.Collections.Immutable;
using System.Text.RegularExpressions;

namespace CalmSentry.Core.Definitions;

/// <summary>The part <c>begin</c> of a definition.</summary>
internal static class BeginReader
{
    /// <summary>Keys of a proof that say which kind it is; exactly one is there.</summary>
    public static readonly string[] ProofKinds = ["tcp", "http", "output", "file", "command", "told", "up-for"];

    private static readonly string[] NeedKinds = ["network", "service", "tcp", "path", "after-boot"];

    public static BeginPart Read(MapReader begin)
    {
        var part = new BeginPart();
        part = part with
        {
            At = begin.Choice(
                "at",
                part.At,
                ("boot", BeginAt.Boot),
                ("boot-late", BeginAt.BootLate),
                ("request", BeginAt.Request),
                ("never", BeginAt.Never)
            ),
            AtLatest = begin.Time("at-latest", part.AtLatest),
            Needs = ReadNeeds(begin),
            Proof = begin.Map("proof") is { } proof ? ReadProof(proof) ?? part.Proof : part.Proof,
        };
        if (begin.Has("at-latest") && part.At != BeginAt.BootLate)
            begin.Contradicts("at-latest", "a time", "only with at: boot-late");
        begin.Done();
        return part;
    }

    private static ImmutableArray<Need> ReadNeeds(MapReader begin)
    {
        var needs = ImmutableArray.CreateBuilder<Need>();
        foreach (var (item, at) in begin.Items("needs") ?? [])
        {
            if (begin.Inner(item, at, "a need such as { service: tide-store } or { network: up }") is not { } map)
                continue;
            if (ReadNeed(map) is { } need)
                needs.Add(need);
        }

        return needs.ToImmutable();
    }

    private static Need? ReadNeed(MapReader map)
    {
        var network = map.Text(
            "network",
            "up, or the name of a network interface",
            text => text.Length is > 0 and < 16 && !text.Contains('/', StringComparison.Ordinal)
        );
        var service = map.Text("service", ServiceName.Allowed, ServiceName.IsValid);
        var tcp = map.Text("tcp", NetworkAddress.Allowed, text => NetworkAddress.Read(text) is not null);
        var path = map.Text("path", "an absolute path", Path.IsPathRooted);
        var afterBoot = map.Value<TimeSpan>("after-boot", Duration.Allowed, WatchReader.ReadLength);
        var ifLost = map.Choice(
            "if-lost",
            IfLost.Leave,
            ("leave", IfLost.Leave),
            ("restart", IfLost.Restart),
            ("go-down", IfLost.GoDown)
        );
        var mounted = map.Switch("mounted");
        var writable = map.Switch("writable");
        var within = map.Time("within", Need.UsualWithin + (afterBoot ?? TimeSpan.Zero));
        var then = map.Choice(
            "then",
            NeedThen.Tell,
            ("tell", NeedThen.Tell),
            ("go-ahead", NeedThen.GoAhead),
            ("hold", NeedThen.Hold)
        );
        if (map.Has("if-lost") && service is null)
            map.Contradicts("if-lost", "what to do when it is lost", "only with service");
        if ((map.Has("mounted") || map.Has("writable")) && path is null)
            map.Contradicts(map.Has("mounted") ? "mounted" : "writable", "a condition on a path", "only with path");
        map.OneOf(NeedKinds);
        map.Done();
        Need? need = (network, service, tcp, path, afterBoot) switch
        {
            ({ } name, _, _, _, _) => new NetworkNeed(name == "up" ? null : name),
            (_, { } other, _, _, _) => new ServiceNeed(other, ifLost),
            (_, _, { } address, _, _) => new TcpNeed(address),
            (_, _, _, { } place, _) => new PathNeed(place, mounted, writable),
            (_, _, _, _, { } length) => new AfterBootNeed(length),
            _ => null,
        };
        return need is null ? null : need with { Within = within, Then = then };
    }

    private static Proof? ReadProof(MapReader map)
    {
        var tcp = map.Text("tcp", NetworkAddress.Allowed, text => NetworkAddress.Read(text) is not null);
        var http = WatchReader.ReadHttp(map);
        var output = map.Text("output", "a regular expression without look-around and back-references", IsExpression);
        var file = map.Text("file", "an absolute path", Path.IsPathRooted);
        var command = WatchReader.ReadCommand(map);
        var told = map.Text("told", "ready", text => text == "ready");
        var upFor = map.Value<TimeSpan>("up-for", Duration.Allowed, WatchReader.ReadLength);
        var within = map.Time("within", Proof.UsualWithin);
        var onlyTell = map.Choice("if-not", false, ("try-again", false), ("tell", true));
        if (map.Has("up-for") && (map.Has("within") || map.Has("if-not")))
            map.Contradicts(
                "up-for",
                "a limit for staying up",
                "up-for alone: within and if-not are for proofs that may not come"
            );
        map.OneOf(ProofKinds);
        map.Done();
        Proof? proof = (tcp, http, output, file, told, upFor) switch
        {
            ({ } address, _, _, _, _, _) => new TcpProof(address),
            (_, { } answer, _, _, _, _) => answer,
            (_, _, { } expression, _, _, _) => new OutputProof(expression),
            (_, _, _, { } path, _, _) => new FileProof(path),
            (_, _, _, _, { }, _) => new ToldProof(),
            (_, _, _, _, _, { } length) => new UpForProof(length),
            _ when !command.IsEmpty => new CommandProof(command),
            _ => null,
        };
        return proof is null ? null : proof with { Within = within, OnlyTell = onlyTell };
    }

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
