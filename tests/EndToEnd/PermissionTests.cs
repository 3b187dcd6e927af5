using System.Diagnostics;
using System.Text;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// Every call of the running server against every kind of caller, with odd spellings of each path: the table is made
/// from the server's own routes.
/// </summary>
public class PermissionTests
{
    private const string Odd = " (odd)";

    private sealed record Call(string Method, string Path, string Permission);

    [Fact]
    public async Task Every_call_is_open_to_those_it_names_and_to_nobody_else()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
        await using var sentry = await Sentry.Start();
        var calls = await Calls(sentry);
        Assert.True(calls.Count > 35, $"only {calls.Count} calls were found");
        var console = new Uri((await sentry.Ok("open")).Output.Trim());
        var session = await SignIn(console);
        IReadOnlyList<(Call, string)> plain = [.. calls.Select(call => (call, call.Path))];
        var spelled = calls.SelectMany(Spellings).ToList();

        // Nobody: loopback without a session, with only the cookie, and with only the page's secret.
        string[][] nobodies =
        [
            [],
            ["-b", $"calm-session={session.Cookie}"],
            ["-H", $"Calm-Page: {session.Page}"],
        ];
        foreach (var nobody in nobodies)
            Refused(
                await Codes(
                    sentry,
                    nobody.Length == 0 ? spelled : plain,
                    [],
                    nobody,
                    console.GetLeftPart(UriPartial.Authority)
                ),
                "401",
                nobody.Length == 0 ? "nobody" : nobody[1][..10]
            );

        // Another account of this machine, and one that a service runs as, outside of it.
        foreach (var uid in new[] { "2", "65534" })
            Refused(
                await Codes(
                    sentry,
                    uid == "2" ? spelled : plain,
                    ["setpriv", $"--reuid={uid}", $"--regid={uid}", "--clear-groups"],
                    ["--unix-socket", sentry.Places.ApiSocket],
                    "http://sentry"
                ),
                "403",
                $"uid {uid}"
            );

        // A program of a service, on the client's socket and on its own one.
        var mine = await InService(sentry, spelled, sentry.Places.ApiSocket);
        Refused(mine, "403", "a service's program");
        var own = await InService(sentry, plain, "$CALM_SAY");
        Refused(own, "404", "a service's program on its own socket");

        // Root and a session may do everything that is not a program's own; their mistakes are answered as such.
        foreach (
            var (code, call) in await Codes(
                sentry,
                plain,
                [],
                ["-b", $"calm-session={session.Cookie}", "-H", $"Calm-Page: {session.Page}"],
                console.GetLeftPart(UriPartial.Authority)
            )
        )
            Assert.True(
                call.Permission is "own-service" or "ticket"
                    ? code.StartsWith(call.Permission == "ticket" ? "401" : "403", StringComparison.Ordinal)
                    : code.Split(' ')[0] is not ("401" or "403" or "500" or "000"),
                $"session: {call} came to {code}"
            );
        foreach (
            var (code, call) in await Codes(
                sentry,
                plain,
                [],
                ["--unix-socket", sentry.Places.ApiSocket],
                "http://sentry"
            )
        )
            Assert.True(
                call.Permission is "own-service" or "ticket"
                    ? code.StartsWith(call.Permission == "ticket" ? "401" : "403", StringComparison.Ordinal)
                    : code.Split(' ')[0] is not ("401" or "403" or "500" or "000"),
                $"root: {call} came to {code}"
            );
    }

    private static void Refused(IReadOnlyList<(string Code, Call Call)> answers, string refusal, string who)
    {
        foreach (var (code, call) in answers)
        {
            // Another spelling may be no address at all, or the console's page: whatever it is, it opens nothing.
            var right =
                call.Permission == "anyone" || call.Path.EndsWith(Odd, StringComparison.Ordinal)
                    ? code.Split(' ')[0] is not ("500" or "000")
                    // Whoever has no ticket is told that, whoever it is.
                    : code.Split(' ')[0] == (call.Permission == "ticket" && refusal == "403" ? "401" : refusal);
            var opened = call.Permission != "anyone" && code.StartsWith('2') && code != "200 text/html; charset=utf-8";
            Assert.True(right && !opened, $"{who}: {call} came to {code}");
        }
    }

    /// <summary>
    /// Every call the server says it has, those it does not describe too, with names of nothing in the places of names.
    /// </summary>
    private static async Task<IReadOnlyList<Call>> Calls(Sentry sentry)
    {
        var description = await sentry.Call(HttpMethod.Get, "openapi.json");
        var calls = new List<Call>();
        foreach (var path in description.GetProperty("paths").EnumerateObject())
        foreach (var call in path.Value.EnumerateObject())
            calls.Add(
                new(
                    call.Name.ToUpperInvariant(),
                    Filled(path.Name),
                    call.Value.GetProperty("x-permission").GetString()!
                )
            );
        foreach (var call in description.GetProperty("x-undescribed").EnumerateArray())
        foreach (var method in call.GetProperty("methods").EnumerateArray())
            calls.Add(
                new(
                    method.GetString()!,
                    "/" + Filled(call.GetProperty("path").GetString()!).TrimStart('/'),
                    call.GetProperty("x-permission").GetString()!
                )
            );
        return [.. calls.OrderBy(call => call.Path.EndsWith("/sign-out", StringComparison.Ordinal))]; // it ends the session that asks
    }

    private static string Filled(string path) =>
        path.Replace("{name}", "No%20Such", StringComparison.Ordinal)
            .Replace("{key}", "9", StringComparison.Ordinal)
            .Replace("{id}", "none", StringComparison.Ordinal)
            .Replace("{**word}", "nothing", StringComparison.Ordinal)
            .Replace("{documentName}", "openapi", StringComparison.Ordinal)
            .Replace("{**path:nonfile}", "anything", StringComparison.Ordinal);

    private static IEnumerable<(Call Call, string Path)> Spellings(Call call)
    {
        yield return (call, call.Path);
        if (call.Permission == "anyone")
            yield break;
        var rest = call.Path[1..];
        foreach (
            var odd in new[]
            {
                "/" + rest.ToUpperInvariant(),
                "/" + char.ToUpperInvariant(rest[0]) + rest[1..],
                call.Path + "/",
                "//" + rest,
                "/./" + rest,
                "/nothing/../" + rest,
                "/%61" + rest[1..],
                "/" + rest.Replace("/", "%2f", StringComparison.Ordinal),
                "/" + rest.Replace("/", "//", StringComparison.Ordinal),
                $"/{rest};a=b",
                $"/index.html/../{rest}",
                $"/own-service/../{rest}",
                $"/assets/../{rest}",
                $"/{rest}%00",
                $"/{rest}?a=%00",
            }
        )
            yield return (call with { Path = odd + Odd }, odd);
    }

    private static string Config(IEnumerable<(Call Call, string Path)> calls, string address)
    {
        var text = new StringBuilder();
        foreach (var (call, path) in calls)
        {
            if (text.Length > 0)
                text.Append("next\n");
            text.Append(
                // As fast as is allowed: one caller may make 1000 calls at once, and 100 a second.
                $"url = \"{address}{path}\"\nrequest = {call.Method}\npath-as-is\nsilent\ngloboff\nrate = \"200/s\"\nmax-time = "
                    + $"5\noutput = /dev/null\nwrite-out = \"%{{http_code}} %{{content_type}}\\n\"\n"
            );
        }

        return text.ToString();
    }

    private static async Task<IReadOnlyList<(string Code, Call Call)>> Codes(
        Sentry sentry,
        IReadOnlyList<(Call Call, string Path)> calls,
        string[] before,
        string[] more,
        string address
    )
    {
        var codes = new List<string>();
        foreach (var some in calls.Chunk(100))
        {
            // Options before the first URL hold for that one alone: each part is given them.
            var given = string.Concat(
                more.Chunk(2)
                    .Select(pair =>
                        pair[0] switch
                        {
                            "-b" => $"cookie = \"{pair[1]}\"\n",
                            "-H" => $"header = \"{pair[1]}\"\n",
                            _ => $"unix-socket = \"{pair[1]}\"\n",
                        }
                    )
            );
            var file = sentry.Script(
                $"calls-{codes.Count}",
                given + Config(some, address).Replace("next\n", "next\n" + given, StringComparison.Ordinal),
                executable: false
            );
            string[] line = [.. before, "curl", "-K", file];
            using var curl = Process.Start(
                new ProcessStartInfo(line[0], line[1..]) { RedirectStandardOutput = true, RedirectStandardError = true }
            )!;
            codes.AddRange(
                (await curl.StandardOutput.ReadToEndAsync()).Split('\n', StringSplitOptions.RemoveEmptyEntries)
            );
            await curl.WaitForExitAsync();
        }

        Assert.Equal(calls.Count, codes.Count);
        return [.. codes.Zip(calls.Select(call => call.Call))];
    }

    private static async Task<IReadOnlyList<(string Code, Call Call)>> InService(
        Sentry sentry,
        IReadOnlyList<(Call Call, string Path)> calls,
        string socket
    )
    {
        var files = calls
            .Chunk(100)
            .Select(
                (some, i) =>
                    sentry.Script(
                        $"inside-{i}",
                        Config(some, "http://sentry")
                            .Replace("next\n", "next\nunix-socket = \"SOCKET\"\n", StringComparison.Ordinal)
                            .Insert(0, "unix-socket = \"SOCKET\"\n"),
                        executable: false
                    )
            )
            .ToList();
        await sentry.Wrap(
            "inside",
            "--recover",
            "never",
            "--",
            sentry.Script(
                "inside",
                $"#!/bin/sh\nfor part in {string.Join(' ', files.Select(file => file.Quoted()))}; do sed \"s|SOCKET|{socket}|\" \"$part\" "
                    + $">\"$CALM_STATE\"/part; curl -K \"$CALM_STATE\"/part; done\necho done\nexec sleep 600\n"
            )
        );
        await sentry.Ok("start", "inside");
        var lines = new List<string>();
        await Sentry.Eventually(async () =>
            (
                lines = [
                    .. (await sentry.Ok("output", "inside", "--last", "100000")).Output.Split(
                        '\n',
                        StringSplitOptions.RemoveEmptyEntries
                    ),
                ]
            )
                is [.., "done"]
        );
        await sentry.Ok("unwrap", "inside", "--yes");
        Directory.Delete(sentry.Places.OutputDirectoryOf("inside"), recursive: true);
        Assert.Equal(calls.Count + 1, lines.Count);
        return [.. lines.Zip(calls.Select(call => call.Call))];
    }

    public static async Task<(string Cookie, string Page)> SignIn(Uri link)
    {
        using var browser = new HttpClient(new HttpClientHandler { AllowAutoRedirect = false, UseCookies = false });
        using var opened = await browser.GetAsync(link);
        var cookie = opened.Headers.GetValues("Set-Cookie").Single().Split(';')[0].Split('=')[1];
        return (cookie, opened.Headers.Location!.ToString().Split("#page=")[1]);
    }
}
