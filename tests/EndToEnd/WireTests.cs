using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using CalmSentry.Tests.EndToEnd.Telling;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// What every call of the API answers, as it is recorded in <c>wire.json</c>: times, pids, ids and lengths are masked. Whoever changes
/// it on purpose records it anew: <c>CALM_WIRE=FILE</c>.
/// </summary>
public partial class WireTests
{
    /// <summary>Streams that never end, tried by tests of their own.</summary>
    private static readonly string[] Endless = ["GET /api/events", "GET /api/services/{name}/events"];

    /// <summary>Calls in their order, METHOD PATH BODY; each route is asked at least once.</summary>
    private static readonly string[] Calls =
    [
        "GET services",
        "GET services/relay",
        "GET services/fare-ledger",
        "GET services/tide-export",
        "GET services/nobody-knows",
        "GET services/relay/secrets",
        "PUT services/relay/secrets/TOKEN?dry=true {\"value\": \"a\"}",
        "PUT services/relay/secrets/TOKEN {\"value\": \"harbour\"}",
        "GET services/relay/secrets",
        "DELETE services/relay/secrets/TOKEN",
        "DELETE services/relay/secrets/TOKEN",
        "PUT secrets/KEY {\"value\": \"harbour\"}",
        "GET secrets",
        "DELETE secrets/KEY?dry=true",
        "DELETE secrets/KEY",
        "GET accounts",
        "GET accounts/nobody-knows",
        "POST accounts/quay-clerk?dry=true",
        "DELETE accounts/quay-clerk",
        "POST accounts/nobody/permit",
        "POST accounts/root/forbid?dry=true",
        "POST accounts/nobody/grant?dry=true {\"path\": \"/etc\"}",
        "POST accounts/nobody/take {\"path\": \"/var/lib/nothing-here\"}",
        "POST accounts/nobody/hand-over?service=relay&dry=true",
        "POST services?dry=true {\"name\": \"gate\", \"program\": {\"path\": \"/bin/sleep\", \"arguments\": [\"676\"]}, \"identity\": {\"account\": \"nobody\"}}",
        "POST services {\"name\": \"gate\", \"program\": {\"path\": \"/bin/nothing-here\"}, \"identity\": {\"account\": \"nobody\"}}",
        "POST services {\"name\": \"gate\", \"programm\": {}}",
        "POST services not: [json",
        "POST services {\"name\": \"relay\", \"program\": {\"path\": \"/bin/sleep\"}, \"identity\": {\"account\": \"nobody\"}}",
        "PATCH services/relay?dry=true {\"title\": \"Signal relay\"}",
        "PATCH services/relay {\"title\": \"Signal relay\"}",
        "PATCH services/relay {\"begin\": {\"at\": \"sometimes\"}}",
        "POST services/relay/rename?to=mast&dry=true",
        "POST services/relay/rename?to=board",
        "GET services/relay/versions",
        "POST services/relay/swap?dry=true {\"source\": \"/nothing-here\"}",
        "GET board",
        "GET definition.schema.json",
        "POST check {\"name\": \"gate\", \"program\": {\"path\": \"/bin/sleep\", \"arguments\": [\"676\"]}, \"identity\": {\"account\": \"nobody\"}}",
        "POST check {\"name\": \"gate\", \"program\": {\"path\": \"/bin/nothing-here\"}, \"identity\": {\"account\": \"nobody-knows\"}}",
        "POST settings/check tell: [{ webhook: 'https://hooks.skerry.example/sentry', name: hooks, key: HOOK_KEY }]",
        "POST settings/check prt: 0",
        "POST rehearsals?length=1s {\"name\": \"gate\", \"program\": {\"path\": \"/bin/true\"}, \"identity\": {\"account\": \"nobody\"}}",
        "POST rehearsals/nobody-knows/end",
        "POST services/board/rehearsals?length=1s",
        "GET drills/plan",
        "GET drills",
        "GET drills/latest",
        "GET files/settlements",
        "GET paths?beginning=/bin/sleep",
        "GET paths?beginning=/root/&account=nobody",
        "GET paths?beginning=bin",
        "POST drills?services=board",
        "POST wind-down?dry=true",
        "GET ahead?for=1d",
        "GET moments?when=daily%20at%2007:00&zone=Europe/Oslo",
        "GET moments?when=sometimes",
        "POST sign-in-links",
        "POST sign-out",
        "GET sessions",
        "DELETE sessions/nobody-knows",
        "GET sentry",
        "GET logbook?last=5&kind=held,fell",
        "GET logbook?kind=nothing",
        "GET logbook?last=0",
        "GET logbook?service=fare-ledger&last=3",
        "GET logbook/proof",
        "GET alerts",
        "GET alerts/1",
        "GET alerts/99",
        "POST alerts/1/acknowledge {\"note\": \"it is being mended\"}",
        "POST alerts/99/acknowledge {}",
        "POST alerts/1/close",
        "GET messages?last=1",
        "GET report?for=1h",
        "GET recipients",
        "GET recipients/replay?for=1h",
        "POST recipients/nobody-knows/trial",
        "POST recipients/bell/trial",
        "GET services/relay/definition",
        "GET services/relay/revisions",
        "GET services/relay/revisions/1",
        "GET services/relay/revisions/1/difference?from=1",
        "GET services/relay/revisions/99",
        "POST services/relay/revisions/1/revert?dry=true",
        "GET services/relay/why",
        "GET services/fare-ledger/why",
        "GET services/fare-ledger/runs",
        "GET services/relay/availability",
        "POST services/board/start?dry=true",
        "POST services/board/start",
        "POST services/board/start",
        "POST services/relay/stop?dry=true",
        "POST services/relay/stop",
        "POST services/board/stop",
        "POST services/board/restart?dry=true",
        "POST together/start {\"services\": [\"board\", \"relay\"]}",
        "POST together/start {\"services\": [\"board\", \"nobody-knows\"]}",
        "POST together/stop?dry=true {\"services\": [\"relay\", \"board\"]}",
        "POST together/stop {\"services\": [\"board\", \"board\"]}",
        "POST together/restart?dry=true {\"services\": [\"board\", \"relay\"]}",
        "POST together/restart {\"services\": [\"relay\", \"nobody-knows\"]}",
        "POST together/restart {\"services\": []}",
        "POST services/relay/reload",
        "POST services/fare-ledger/watches?for=10min",
        "POST services/relay/watches?for=10min",
        "POST services/relay/quiet?for=10min&reason=paint",
        "POST services/relay/quiet?for=0",
        "POST services/fare-ledger/release?dry=true",
        "POST services/board/release",
        "GET services/fare-ledger/output?last=1",
        "GET services/fare-ledger/output/lines?last=1",
        "POST services/relay/terminal",
        "POST services/relay/window",
        "GET services/relay/window",
        "GET window?ticket=none",
        "POST services/relay/input ahoy",
        "GET terminal?ticket=none",
        "GET services/relay/check",
        "POST services/tide-export/skip?dry=true",
        "POST services/relay/advance",
        "GET files/settle",
        "POST files/settle/back",
        "GET files?services=relay",
        "GET files?services=nobody-knows",
        "POST files/compare {\"files\": {\"files\": {\"lamp.yaml\": \"name: lamp\\nprogram: { path: /bin/sleep, arguments: [677] }\\nidentity: { account: nobody }\\n\"}}}",
        "POST files/compare {\"files\": {\"files\": {\"lamp.yaml\": \"name: lamp\\nfrom: base.yaml\\n\"}}}",
        "POST files/compare {\"files\": {\"files\": {}}}",
        "POST files/settle {\"files\": {\"files\": {\"lamp.yaml\": \"name: lamp\\nprogram: { path: /bin/sleep, arguments: [677] }\\nidentity: { account: nobody }\\n\"}}}",
        "POST files/settle {\"files\": {\"files\": {\"lamp.yaml\": \"name: lamp\\nprogram: { path: /bin/sleep, arguments: [677] }\\nidentity: { account: nobody }\\n\"}}}",
        "GET files/settle",
        "POST files/settle/back",
        "POST files/settle/back",
        "DELETE services/relay?dry=true",
        "DELETE services/relay",
        "DELETE services/board",
        "DELETE services/board",
        "GET nothing-here",
        "PUT services",
    ];

    [Fact]
    public async Task Every_call_answers_as_it_is_recorded()
    {
        await using var sentry = await Harbour();
        using var client = sentry.Http();
        var recorded = new JsonObject();
        foreach (var call in Calls)
        {
            var answer = await Asked(client, call);
            for (var again = 2; !recorded.TryAdd(again == 2 ? call : $"{call} ({again - 1})", answer); again++) { }
        }

        var described = JsonNode.Parse(await client.GetStringAsync("http://sentry/api/openapi.json"))!;
        Assert.Empty(Unasked(described));
        var text = Masked(sentry, recorded.ToJsonString(Indented)) + "\n";
        if (Environment.GetEnvironmentVariable("CALM_WIRE") is { Length: > 0 } file)
            await File.WriteAllTextAsync(file, text);
        else
            Assert.Equal(await File.ReadAllTextAsync(Path.Combine(AppContext.BaseDirectory, "wire.json")), text);
    }

    private static readonly JsonSerializerOptions Indented = new()
    {
        WriteIndented = true,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    /// <summary>One that runs and is needed, one that needs it, one on hold of which somebody is told, and a job.</summary>
    private static async Task<Sentry> Harbour()
    {
        var sentry = await TellTests.With(_ => "tell:\n  - { command: [/bin/true], name: bell }\n", "bell");
        await sentry.Wrap("relay", "--start", "--", "/bin/sleep", "671");
        await sentry.Wrap("board", "--need", "service:relay", "--", "/bin/sleep", "672");
        await sentry.Wrap("tide-export", "--kind", "periodic", "--rhythm", "run:daily at 03:00", "--", "/bin/true");
        await TellTests.Faulty(sentry);
        await sentry.Calm("start", "fare-ledger");
        await sentry.Until("fare-ledger", view => view.GetProperty("state").GetString() == "held");
        await Sentry.Eventually(async () =>
            (await sentry.Show("relay")).GetProperty("watches")[0].GetProperty("health").GetString() == "good"
        );
        await Sentry.Eventually(async () =>
            (await sentry.Ok("tell", "--messages", "--json"))
                .Json.EnumerateArray()
                .Any(one => one.GetProperty("state").GetString() == "delivered")
        );
        return sentry;
    }

    private static async Task<JsonNode> Asked(HttpClient client, string call)
    {
        var words = call.Split(' ', 3);
        using var request = new HttpRequestMessage(new(words[0]), $"http://sentry/api/{words[1]}");
        if (words.Length > 2)
        {
            request.Content = new StringContent(words[2], Encoding.UTF8);
            request.Content.Headers.ContentType = new MediaTypeHeaderValue("application/json");
        }

        using var response = await client.SendAsync(request);
        var body = await response.Content.ReadAsStringAsync();
        var type = response.Content.Headers.ContentType?.MediaType;
        return new JsonObject
        {
            ["status"] = (int)response.StatusCode,
            ["type"] = type,
            ["body"] = type switch
            {
                _ when body.Length == 0 => null,
                "application/x-ndjson" => new JsonArray([
                    .. body.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(line => JsonNode.Parse(line)),
                ]),
                { } json when json.EndsWith("json", StringComparison.Ordinal) => JsonNode.Parse(body),
                _ => body,
            },
        };
    }

    /// <summary>Routes of the description that none of the calls is of.</summary>
    private static IEnumerable<string> Unasked(JsonNode described) =>
        described["paths"]!
            .AsObject()
            .SelectMany(path => path.Value!.AsObject().Select(call => $"{call.Key.ToUpperInvariant()} {path.Key}"))
            .Except(Endless)
            .Where(route => !Calls.Any(call => Regex.IsMatch(call, Pattern(route))));

    private static string Pattern(string route) =>
        "^" + Regex.Replace(route.Replace("/api/", "", StringComparison.Ordinal), @"\{\w+\}", "[^/? ]+") + "([? ]|$)";

    private static string Masked(Sentry sentry, string text)
    {
        // Its place has a space and a quote in its name, which a shell and a page write in their own ways.
        text = text.Replace(sentry.Places.Root, "<root>", StringComparison.Ordinal)
            .Replace(
                sentry.Places.Root.Replace("'", @"'\\''", StringComparison.Ordinal),
                "<root>",
                StringComparison.Ordinal
            )
            .Replace(Environment.MachineName, "<host>", StringComparison.Ordinal);
        text = Here().Replace(text, "\"here\": \"<here>\"");
        text = Written().Replace(text, "\"files\": []");
        text = text.Replace($"\"{TimeZoneInfo.Local.Id}\"", "\"<zone>\"", StringComparison.Ordinal);
        text = Times().Replace(text, "<time>");
        text = Days().Replace(text, "<day>");
        text = Pictures().Replace(text, "<picture>");
        // Before hashes: a part of a whole may happen to have as many digits.
        text = Numbers().Replace(text, "\"$1\": <n>");
        text = Hashes().Replace(text, "<hash>");
        text = Pids().Replace(text, "$1<n>");
        text = Whole().Replace(text, "\"$1\": \"<$1>\"");
        return Lengths().Replace(text, "<length>");
    }

    [GeneratedRegex(@"\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)?)?|\b\d\d:\d\d(:\d\d(\.\d+)?)?\b")]
    private static partial Regex Times();

    [GeneratedRegex(@"\b(Mon|Tue|Wed|Thu|Fri|Sat|Sun)\b")]
    private static partial Regex Days();

    /// <summary>What a rehearsal saw its account write: other trials run as the same one.</summary>
    [GeneratedRegex("\"files\": \\[[^\\]]*\\]")]
    private static partial Regex Written();

    /// <summary>What a moment is by this host's clock, where that is another.</summary>
    [GeneratedRegex("\"here\": (null|\"[^\"]*\")")]
    private static partial Regex Here();

    [GeneratedRegex("[#·!]{48}")]
    private static partial Regex Pictures();

    [GeneratedRegex(@"\b([0-9a-f]{8}-[0-9a-f-]{27}|[0-9a-f]{24,}|[0-9a-f]{8}|[A-Za-z0-9_-]{40,})\b")]
    private static partial Regex Hashes();

    [GeneratedRegex(@"(\bpid |127\.0\.0\.1:)\d+")]
    private static partial Regex Pids();

    /// <summary>What this host has, and a page made of what stands beside it.</summary>
    [GeneratedRegex("\"(kernel|html)\": \"(?:[^\"\\\\]|\\\\.)*\"")]
    private static partial Regex Whole();

    [GeneratedRegex(@"\b\d+(\.\d+)? ((ms|s|min|h|d|bytes|[KMGT]iB|[kMG]B)\b|%)")]
    private static partial Regex Lengths();

    [GeneratedRegex(
        "\"(pid|id|uid|run|(?:[a-z-]+-)?(?:ms|bytes|kib|us|percent|share)|entries|last|number|count|free|total|up|planned|fallen|from|to|place|offset|first)\": -?[0-9.E+-]+"
    )]
    private static partial Regex Numbers();
}
