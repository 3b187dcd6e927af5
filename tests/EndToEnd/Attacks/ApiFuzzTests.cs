using System.Globalization;
using System.Text;
using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>
/// Requests made from the API's own description, and bent: whatever is asked, the answer is no failure of the sentry,
/// which lives
/// on and does not grow. CALM_FUZZ_REQUESTS says how many (3,000 where it is not set), CALM_FUZZ_SEED where it begins.
/// </summary>
public class ApiFuzzTests
{
    private static readonly int Requests = int.Parse(
        Environment.GetEnvironmentVariable("CALM_FUZZ_REQUESTS") ?? "3000",
        CultureInfo.InvariantCulture
    );

    private static readonly int Seed = int.Parse(
        Environment.GetEnvironmentVariable("CALM_FUZZ_SEED") ?? "20261125",
        CultureInfo.InvariantCulture
    );

    /// <summary>Who waits for a start that waits for its needs goes after a while, as callers do.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(3);

    private sealed record Call(string Method, string Path, IReadOnlyList<string> Queries, JsonElement? Body);

    [Fact]
    public async Task Whatever_is_asked_the_sentry_answers_lives_on_and_does_not_grow()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("board", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "600");
        var description = await sentry.Call(HttpMethod.Get, "openapi.json");
        var calls = Calls(description);
        Assert.True(calls.Count > 35);
        using var client = sentry.Http();
        client.Timeout = Patience;
        var random = new Random(Seed);
        var (server, grown) = (sentry.ServerPid, 0L);
        var answers = new Dictionary<int, int>();
        for (var i = 0; i < Requests; i++)
        {
            if (i == Math.Min(Requests / 4, 2000))
                grown = Memory(server);
            var request = Make(calls[random.Next(calls.Count)], description, random, sentry);
            var shown =
                $"{request.Method} {request.RequestUri?.OriginalString} "
                + $"{(request.Content is null ? "" : await request.Content.ReadAsStringAsync())}";
            try
            {
                using var answer = await client.SendAsync(request, HttpCompletionOption.ResponseHeadersRead);
                answers[(int)answer.StatusCode] = answers.GetValueOrDefault((int)answer.StatusCode) + 1;
                if ((int)answer.StatusCode >= 500)
                    Assert.Fail(
                        $"request {i} of seed {Seed} was answered {(int)answer.StatusCode}: "
                            + $"{shown}\n{await answer.Content.ReadAsStringAsync()}"
                    );
            }
            catch (TaskCanceledException)
            {
                // It waits for what may never come.
            }
            catch (HttpRequestException error)
                when (error.InnerException is IOException or System.Net.Sockets.SocketException)
            {
                Assert.True(Sentry.Lives(server), $"the server ended at request {i} of seed {Seed}: {shown}");
            }
        }

        Assert.True(Sentry.Lives(server));
        Assert.InRange(Memory(server) - grown, long.MinValue, 96 << 20);
        TestContext.Current.TestOutputHelper?.WriteLine(
            string.Join(", ", answers.OrderBy(one => one.Key).Select(one => $"{one.Key}: {one.Value}"))
                + $"; grown by {(Memory(server) - grown) >> 10} KiB"
        );

        // What was there before can be had again: nothing that was asked is in the way.
        foreach (
            var service in (await sentry.Ok("list", "--json"))
                .Json.EnumerateArray()
                .Select(one => one.GetProperty("name").GetString()!)
        )
            await sentry.Ok("unwrap", service, "--yes", "--alone");
        await sentry.Wrap("board", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "600");
        Assert.Single((await sentry.Ok("list", "--json")).Json.EnumerateArray());
        Assert.DoesNotContain(
            "failed",
            await File.ReadAllTextAsync(Path.Combine(sentry.Places.RunDirectory, "keepers.log")),
            StringComparison.Ordinal
        );
    }

    private static List<Call> Calls(JsonElement description)
    {
        var calls = new List<Call>();
        foreach (var path in description.GetProperty("paths").EnumerateObject())
        {
            foreach (var call in path.Value.EnumerateObject())
            {
                // Accounts are the host's: of those, only what asks.
                if (path.Name.Contains("/accounts", StringComparison.Ordinal) && call.Name != "get")
                    continue;
                var queries = call.Value.TryGetProperty("parameters", out var parameters)
                    ? parameters
                        .EnumerateArray()
                        .Where(one => one.GetProperty("in").GetString() == "query")
                        .Select(one => one.GetProperty("name").GetString()!)
                        .ToList()
                    : [];
                calls.Add(
                    new(
                        call.Name.ToUpperInvariant(),
                        path.Name,
                        queries,
                        call.Value.TryGetProperty("requestBody", out var body) ? body : null
                    )
                );
            }
        }

        return calls;
    }

    private static HttpRequestMessage Make(Call call, JsonElement description, Random random, Sentry sentry)
    {
        var path = new StringBuilder(call.Path);
        foreach (var part in new[] { "{name}", "{key}", "{id}" })
            path.Replace(part, Uri.EscapeDataString(Word(random)));
        if (call.Queries.Count > 0 && random.Next(3) > 0)
            path.Append('?')
                .AppendJoin(
                    '&',
                    call.Queries.Where(_ => random.Next(2) == 0)
                        .Select(name => $"{name}={Uri.EscapeDataString(Word(random))}")
                );
        if (random.Next(20) == 0)
            path.Insert(random.Next(1, path.Length), (char)random.Next(33, 126));
        var request = new HttpRequestMessage(
            new HttpMethod(
                random.Next(40) == 0
                    ? Pick(random, ["GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "HEAD"])
                    : call.Method
            ),
            new Uri(
                "http://sentry" + path,
                new UriCreationOptions { DangerousDisablePathAndQueryCanonicalization = true }
            )
        );
        if (call.Body is not null || random.Next(20) == 0)
        {
            var text =
                random.Next(6) == 0 ? Word(random)
                : call.Path.Contains("secrets", StringComparison.Ordinal) ? $$"""{"value":{{Quoted(Word(random))}}}"""
                : Definition(description, random, sentry);
            for (var times = random.Next(4) == 0 ? random.Next(5) : 0; times > 0 && text.Length > 0; times--)
                text = Bend(text, random);
            request.Content = new ByteArrayContent(Encoding.UTF8.GetBytes(text));
            request.Content.Headers.TryAddWithoutValidation(
                "Content-Type",
                Pick(
                    random,
                    [
                        "application/json",
                        "application/json",
                        "application/json",
                        "application/yaml",
                        "text/plain",
                        "application/x-www-form-urlencoded",
                    ]
                )
            );
        }

        return request;
    }

    private static string Definition(JsonElement description, Random random, Sentry sentry)
    {
        string Value(int depth) =>
            random.Next(depth > 2 ? 4 : 7) switch
            {
                0 => random.Next(-2, 100_000).ToString(CultureInfo.InvariantCulture),
                1 => Pick(random, ["true", "false", "null", "1e300", "-1", "0.5"]),
                2 or 3 => Quoted(Word(random)),
                4 => $"[{string.Join(',', Enumerable.Range(0, random.Next(4)).Select(_ => Value(depth + 1)))}]",
                _ =>
                    $"{{{string.Join(',', Keys.OrderBy(_ => random.Next()).Take(random.Next(4)).Select(key => $"\"{key}\":{Value(depth + 1)}"))}}}",
            };
        var account = random.Next(10) == 0 ? Word(random) : Sentry.Account;
        var program =
            random.Next(8) == 0
                ? Value(0)
                : $$"""{"path":{{Quoted(Pick(random, ["/bin/sleep", "/bin/true", "/bin/false", "/nonexistent", sentry.Places.Root]))}},"arguments":["{{random.Next(3)}}"]}""";
        var more = string.Concat(
            Keys.OrderBy(_ => random.Next()).Take(random.Next(3)).Select(key => $",\"{key}\":{Value(0)}")
        );
        return $$"""{"name":{{Quoted(random.Next(3) == 0 ? Word(random) : $"fuzz-{random.Next(5)}")}},"program":{{program}},"identity":{"account":{{Quoted(account)}}}{{more}}}""";
    }

    private static readonly string[] Keys =
    [
        "title",
        "notes",
        "program",
        "path",
        "with",
        "arguments",
        "directory",
        "environment",
        "secrets",
        "kind",
        "identity",
        "account",
        "groups",
        "umask",
        "resources",
        "priority",
        "memory",
        "cpu",
        "begin",
        "at",
        "needs",
        "proof",
        "tcp",
        "http",
        "within",
        "watch",
        "command",
        "beat",
        "lasting",
        "patience",
        "follows",
        "recover",
        "after",
        "pause",
        "first",
        "hold",
        "ends",
        "codes",
        "wind-down",
        "send",
        "to",
        "signal",
        "wait",
        "accept",
        "format",
        "service",
        "network",
        "file",
        "output",
        "told",
    ];

    private static string Word(Random random) =>
        random.Next(12) switch
        {
            0 => "board",
            1 => $"fuzz-{random.Next(5)}",
            2 => Pick(
                random,
                [
                    "",
                    " ",
                    ".",
                    "..",
                    "/",
                    "%",
                    "%00",
                    "\u202e",
                    "\ud83d\ude80",
                    "\ufffd",
                    "a\tb",
                    "a\nb",
                    "'",
                    "\"",
                    "<b>",
                    "${x}",
                    "*",
                    "?",
                    "\\",
                    ";",
                    "|",
                    "&&",
                    "~",
                ]
            ),
            3 => new string('x', random.Next(3000)),
            4 => random.Next(int.MinValue, int.MaxValue).ToString(CultureInfo.InvariantCulture),
            5 => Pick(
                random,
                [
                    "1 s",
                    "10s",
                    "1h",
                    "99999 d",
                    "0",
                    "-1 s",
                    "1 MiB",
                    "80 %",
                    "2026-11-25T03:12:30Z",
                    "0001-01-01",
                    "9999-12-31T23:59:59Z",
                    "03:12",
                ]
            ),
            6 => Pick(
                random,
                [
                    "boot",
                    "boot-late",
                    "request",
                    "never",
                    "restart",
                    "tell",
                    "off",
                    "leave",
                    "remove",
                    "true",
                    "false",
                    "stays",
                    "detaches",
                    "toggles",
                    "TERM",
                    "KILL",
                    "ready",
                    "up",
                    "boot-id",
                    "services",
                ]
            ),
            7 => Pick(
                random,
                [
                    "127.0.0.1:1",
                    "[::1]:80",
                    "localhost:99999",
                    "http://127.0.0.1:1/",
                    "http://[",
                    "file:///etc/passwd",
                    "/nonexistent",
                    "/dev/null",
                    "relative/path",
                    "tcp 127.0.0.1:1",
                ]
            ),
            8 => string.Concat(Enumerable.Range(0, random.Next(20)).Select(_ => (char)random.Next(1, 0xd7ff))),
            _ => Keys[random.Next(Keys.Length)],
        };

    private static string Bend(string text, Random random)
    {
        var at = random.Next(text.Length);
        return random.Next(4) switch
        {
            0 => text.Remove(at, Math.Min(text.Length - at, 1 + random.Next(8))),
            1 => text.Insert(
                at,
                Pick(
                    random,
                    [
                        "{",
                        "}",
                        "[",
                        "]",
                        "\"",
                        ",",
                        ":",
                        "\\u0000",
                        "\\ud800",
                        "\0",
                        "\n",
                        "&a ",
                        "*a",
                        "- ",
                        "null",
                        "1e999",
                    ]
                )
            ),
            2 => text.Insert(at, text[at..Math.Min(text.Length, at + 30)]),
            _ => text[..at],
        };
    }

    private static string Quoted(string text) => $"\"{JsonEncodedText.Encode(text)}\"";

    private static string Pick(Random random, string[] all) => all[random.Next(all.Length)];

    private static long Memory(int pid) =>
        long.Parse(File.ReadAllText($"/proc/{pid}/statm").Split(' ')[1], CultureInfo.InvariantCulture)
        * Environment.SystemPageSize;
}
