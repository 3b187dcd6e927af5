using System.Collections.Immutable;
using System.Globalization;

namespace CalmSentry.Core.Definitions;

/// <summary>The part <c>watch</c> of a definition.</summary>
public static class WatchReader
{
    /// <summary>Keys of a watch that say which kind it is; exactly one is there.</summary>
    public static readonly string[] Kinds =
    [
        "http",
        "tcp",
        "command",
        "silent-for",
        "file",
        "alive-within",
        "memory-above",
        "cpu-above",
        "open-files-above",
        "children-above",
        "ceiling-within",
        "paused-for",
    ];

    private static readonly string[] Levels = ["memory-above", "cpu-above", "open-files-above", "children-above"];

    public static ImmutableArray<Watch> Read(MapReader top)
    {
        var watches = ImmutableArray.CreateBuilder<Watch>();
        foreach (var (item, at) in top.Items("watch") ?? [])
            if (
                top.Inner(item, at, "a watch such as { http: http://127.0.0.1:7411/health } or { silent-for: 10 min }")
                    is { } map
                && ReadOne(map) is { } watch
            )
                watches.Add(watch);
        return watches.ToImmutable();
    }

    /// <summary>
    /// What stands in every definition unless it says otherwise: a stopped program is found, and a ceiling is seen
    /// coming.
    /// </summary>
    public static ImmutableArray<Watch> WithImplied(
        ImmutableArray<Watch> watches,
        ResourcesPart resources,
        RecoverPart recover
    )
    {
        if (!watches.Any(watch => watch is PausedWatch))
            watches = watches.Add(
                new PausedWatch(PausedWatch.Default)
                {
                    Every = Watch.UsualSample,
                    Then = recover.After == RecoverAfter.Never ? WatchThen.Tell : WatchThen.Restart,
                    Implied = true,
                }
            );
        if (resources.Memory is not null && !watches.Any(watch => watch is CeilingWatch))
            watches = watches.Add(
                new CeilingWatch(CeilingWatch.Default)
                {
                    Every = Watch.UsualSample,
                    Then = WatchThen.Tell,
                    Implied = true,
                }
            );
        return watches;
    }

    private static Watch? ReadOne(MapReader map)
    {
        var http = ReadHttp(map);
        var tcp = map.Text("tcp", NetworkAddress.Allowed, text => NetworkAddress.Read(text) is not null);
        var command = ReadCommand(map);
        var silentFor = map.Value<TimeSpan>("silent-for", Duration.Allowed, ReadLength);
        var file = map.Text("file", "an absolute path", Path.IsPathRooted);
        var freshFor = map.Value<TimeSpan>("fresh-for", Duration.Allowed, ReadLength);
        var alive = map.Value<TimeSpan>("alive-within", Duration.Allowed, ReadLength);
        var memory = map.Value("memory-above", Size.Allowed, Size.Read);
        var cpu = map.Value(
            "cpu-above",
            "percent of one processor, from 1 % to 100000 %",
            DefinitionReader.ReadPercent
        );
        var openFiles = map.Value(
            "open-files-above",
            "a whole number from 1 to 1048576",
            text => DefinitionReader.ReadWhole(text, 1, 1_048_576)
        );
        var children = map.Value(
            "children-above",
            "a whole number from 0 to 4194304",
            text => DefinitionReader.ReadWhole(text, 0, 4_194_304)
        );
        var ceiling = map.Value<TimeSpan>("ceiling-within", Duration.Allowed, ReadLength);
        var paused = map.Value<TimeSpan>("paused-for", Duration.Allowed, ReadLength);
        var asks = http is not null || tcp is not null || !command.IsEmpty;
        var every = map.Value<TimeSpan>(
            "every",
            "a length of time from 100 ms on",
            text => ReadLength(text) is { } length && length >= TimeSpan.FromMilliseconds(100) ? length : null
        );
        var patience = (int)map.Number("patience", asks ? 3 : 1, 1, 1000, whole: true);
        var length = map.Time("for", TimeSpan.Zero);
        var hangs = asks || alive is not null || paused is not null;
        var then = map.Choice(
            "then",
            hangs ? WatchThen.Restart : WatchThen.Tell,
            ("note", WatchThen.Note),
            ("tell", WatchThen.Tell),
            ("restart", WatchThen.Restart),
            ("restart-by-force", WatchThen.RestartByForce)
        );
        if (map.Has("fresh-for") != map.Has("file"))
            map.Contradicts(
                map.Has("file") ? "file" : "fresh-for",
                map.Has("file") ? "a file alone" : "an age alone",
                "file and fresh-for together"
            );
        if (map.Has("for") && !Levels.Any(map.Has))
            map.Contradicts("for", "a time over a level", $"only with {string.Join(", ", Levels)}");
        map.OneOf(Kinds);
        map.Done();
        var usual = every ?? (asks ? Watch.UsualEvery : Watch.UsualSample);
        Watch? watch = null;
        if (http is not null)
            watch = new AnswerWatch(http) { Every = usual };
        else if (tcp is not null)
            watch = new AnswerWatch(new TcpProof(tcp)) { Every = usual };
        else if (!command.IsEmpty)
            watch = new AnswerWatch(new CommandProof(command)) { Every = usual };
        else if (silentFor is { } silence)
            watch = new SilenceWatch(silence) { Every = usual };
        else if (file is not null && freshFor is { } oldest)
            watch = new FreshFileWatch(file, oldest) { Every = usual };
        else if (alive is { } within)
            watch = new AliveWatch(within) { Every = usual };
        else if (memory is { } bytes)
            watch = new MemoryWatch(bytes) { Every = usual };
        else if (cpu is { } percent)
            watch = new CpuWatch(percent) { Every = usual };
        else if (openFiles is { } most)
            watch = new OpenFilesWatch(most) { Every = usual };
        else if (children is { } below)
            watch = new ChildrenWatch(below) { Every = usual };
        else if (ceiling is { } ahead)
            watch = new CeilingWatch(ahead) { Every = usual };
        else if (paused is { } standing)
            watch = new PausedWatch(standing) { Every = usual };
        return watch is null ? null : watch with { Patience = patience, For = length, Then = then };
    }

    /// <summary>An address to ask and what is a good answer: http, status and text.</summary>
    internal static HttpProof? ReadHttp(MapReader map)
    {
        var http = map.Text("http", "an address such as http://127.0.0.1:7411/health", IsWebAddress);
        var status = map.Value<int>(
            "status",
            "an HTTP status from 100 to 599",
            text =>
                int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var code)
                && code is >= 100 and < 600
                    ? code
                    : null
        );
        var text = map.Text("text", "text that is to be in the answer", text => text.Length > 0);
        if ((map.Has("status") || map.Has("text")) && !map.Has("http"))
            map.Contradicts(map.Has("status") ? "status" : "text", "a condition on an answer", "only with http");
        return http is null ? null : new(http, status, text);
    }

    internal static ImmutableArray<string> ReadCommand(MapReader map)
    {
        var command = map.Texts("command");
        if (map.Has("command") && (command.IsEmpty || !Path.IsPathRooted(command[0])))
            map.Contradicts(
                "command",
                command.IsEmpty ? "nothing" : $"'{command[0]}'",
                "a list beginning with an absolute path"
            );
        return command;
    }

    internal static bool IsWebAddress(string text) =>
        Uri.TryCreate(text, UriKind.Absolute, out var url) && url.Scheme is "http" or "https";

    internal static TimeSpan? ReadLength(string text) => Duration.TryRead(text, out var length) ? length : null;
}
