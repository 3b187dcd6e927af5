using System.Net;
using System.Text;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>
/// What callers send that is made to break the reader: each is the caller's error, told in words, and nothing is left
/// of it.
/// </summary>
public class InputTests(OneSentry one) : IClassFixture<OneSentry>
{
    public static TheoryData<string, string, string> Definitions =>
        new()
        {
            { "application/yaml", "a: &a [*a]", "within itself" },
            { "application/yaml", "a: *b", "names nothing before it" },
            {
                "application/yaml",
                "a: &a [1,2,3,4,5,6,7,8,9]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c "
                    + "[*b,*b,*b,*b,*b,*b,*b,*b,*b]\nd: &d [*c,*c,*c,*c,*c,*c,*c,*c,*c]\ne: "
                    + "[*d,*d,*d,*d,*d,*d,*d,*d,*d]\n",
                "more than 50000 values"
            },
            { "application/yaml", new string('[', 40_000), "more than 32 levels" },
            { "application/yaml", new string('{', 40_000), "more than 32 levels" },
            {
                "application/yaml",
                "a:\n" + string.Concat(Enumerable.Range(1, 200).Select(i => new string(' ', i) + "b:\n")),
                "more than 32 levels"
            },
            {
                "application/yaml",
                string.Concat(Enumerable.Range(1, 60_000).Select(i => $"- {i}\n")),
                "more than 50000 values"
            },
            { "application/yaml", "name: board\nname: relay\n", "a second time" },
            { "application/yaml", "name: \"a\\0b\"\n", "NUL" },
            { "application/yaml", "name: board\n---\nname: relay\n", "more than one document" },
            { "application/yaml", "", "an empty file" },
            { "application/yaml", "%YAML 9.9\n---\nname: a", "" },
            { "application/yaml", "? [a, b]\n: c\n", "" },
            { "application/json", """{"name":"board","name":"relay"}""", "a second time" },
            { "application/json", """{"name":"a\u0000b"}""", "NUL" },
            { "application/json", """{"name":"half \ud800 a character"}""", "half a character" },
            { "application/json", """{"half \udfff":1}""", "half a character" },
            { "application/json", """{"name":"board","program":{"path":"/srv/\u0000x"}}""", "NUL" },
            { "application/json", new string('[', 1000), "" },
            { "application/json", "", "no JSON" },
            { "application/json", "[1,2", "no JSON" },
            { "application/json", "{\"notes\":\"" + new string('n', 100_000) + "\"}", "at most 32768" },
        };

    [Theory]
    [MemberData(nameof(Definitions))]
    public async Task A_definition_made_to_break_its_reader_is_refused_in_words(string type, string text, string words)
    {
        var sentry = one.Sentry;
        using var client = sentry.Http();
        foreach (var call in new[] { "check", "services", "rehearsals" })
        {
            using var answer = await client.PostAsync(
                $"http://sentry/api/{call}",
                new StringContent(text, Encoding.UTF8, type)
            );
            var said = await answer.Content.ReadAsStringAsync();
            Assert.True(
                answer.StatusCode == HttpStatusCode.BadRequest
                    || (call == "check" && answer.StatusCode == HttpStatusCode.OK),
                $"{call} answered {(int)answer.StatusCode}: {said}"
            );
            if (answer.StatusCode == HttpStatusCode.BadRequest)
                Assert.Contains(words, said, StringComparison.Ordinal);
        }

        Assert.Contains("No services yet", (await sentry.Ok("list")).Output, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("GET", "services/x/why?at=%00", "", 400)]
    [InlineData("GET", "logbook?last=many", "", 400)]
    [InlineData("PUT", "services/board/secrets/KEY", """{"value":"\ud800"}""", 400)]
    [InlineData("PUT", "services/board/secrets/KEY", """{"value":1}""", 400)]
    [InlineData("PUT", "services/board/secrets/KEY", "null", 400)]
    [InlineData("PUT", "services/board/secrets/KEY", "{}", 400)]
    [InlineData("PUT", "services/board/secrets/KEY", """{"value":null}""", 400)]
    [InlineData("PUT", "services/board/secrets/KEY", "", 400)]
    [InlineData("POST", "accounts/nobody/grant", """{"path":"/srv\u0000"}""", 400)]
    [InlineData("POST", "accounts/nobody/grant", """{"path":"/srv/\udc00"}""", 400)]
    [InlineData("POST", "accounts/nobody/grant", "{}", 400)]
    [InlineData("POST", "wind-down?within=forever", "", 400)]
    [InlineData("DELETE", "sessions/%2e%2e", "", 404)]
    public async Task A_call_that_means_nothing_is_the_callers_mistake(
        string method,
        string path,
        string body,
        int status
    )
    {
        var sentry = one.Sentry;
        using var client = sentry.Http();
        using var request = new HttpRequestMessage(new HttpMethod(method), $"http://sentry/api/{path}")
        {
            Content = body.Length == 0 ? null : new StringContent(body, Encoding.UTF8, "application/json"),
        };
        using var answer = await client.SendAsync(request);
        var said = await answer.Content.ReadAsStringAsync();
        Assert.True((int)answer.StatusCode == status, $"{(int)answer.StatusCode}: {said}");
        Assert.Contains("\"detail\":", said, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_crafted_program_file_is_a_finding_and_no_failure()
    {
        var sentry = one.Sentry;
        using var client = sentry.Http();
        // The heads of native programs, with offsets and lengths that point nowhere.
        byte[] real = (await File.ReadAllBytesAsync("/bin/sleep"))[..4096];
        for (var at = 16; at < 64; at++)
        {
            foreach (var value in new byte[] { 0x7f, 0x80, 0xff })
            {
                var crafted = (byte[])real.Clone();
                crafted[at] = value;
                var file = Path.Combine(sentry.Places.Root, "crafted");
                await File.WriteAllBytesAsync(file, crafted);
                File.SetUnixFileMode(file, (UnixFileMode)0b111_101_101);
                using var answer = await client.PostAsync(
                    "http://sentry/api/check",
                    new StringContent(
                        $$"""{"name":"crafted","program":{"path":"{{file}}"},"identity":{"account":"{{Sentry.Account}}"} }""",
                        Encoding.UTF8,
                        "application/json"
                    )
                );
                Assert.True(
                    answer.StatusCode == HttpStatusCode.OK,
                    $"byte {at} as {value}: {await answer.Content.ReadAsStringAsync()}"
                );
            }
        }
    }

    [Fact]
    public async Task Control_codes_from_a_program_reach_no_terminal_but_by_explicit_word()
    {
        await using var sentry = await Sentry.Start();
        const string codes = "\u001b]0;taken\u0007 \u001b[2J \u009b31m \u202e back";
        await sentry.Wrap(
            "board",
            "--title",
            "Board \u001b[31mred",
            "--notes",
            "\u001b]52;c;aGk=\u0007",
            "--proof",
            "output:open",
            "--recover",
            "never",
            "--hold-ends",
            "1",
            "--",
            sentry.Script("board", $"#!/bin/sh\nprintf '%s\\n' 'open {codes}'\nexec sleep 600\n"),
            codes
        );
        foreach (
            var command in new[]
            {
                "start board",
                "show board",
                "list",
                "output board",
                "runs board",
                "runs board --run 1",
                "why board",
                "logbook board",
                "board --once",
                "check board",
                "show board --json",
                "restart board",
                "output board --json",
                "rehearse board --length 1s",
                "stop board",
            }
        )
        {
            var said = (await sentry.Calm(command.Split(' '))).All;
            Assert.True(
                !said.Any(c => (char.IsControl(c) && c is not ('\n' or '\t')) || c == '\u202e'),
                $"calm {command}: {string.Concat(said.Select(c => char.IsControl(c) && c is not '\n' ? $"<{(int)c:x2}>" : $"{c}"))}"
            );
        }

        Assert.Contains("\\x1b]0;taken\\x07", (await sentry.Ok("output", "board")).Output, StringComparison.Ordinal);
        Assert.Contains(
            "\u001b]0;taken\u0007",
            (await sentry.Ok("output", "board", "--raw")).Output,
            StringComparison.Ordinal
        );
    }

    [Theory]
    [InlineData("/")]
    [InlineData("/index.html")]
    [InlineData("/./index.html")]
    [InlineData("//index.html")]
    [InlineData("/assets/../index.html")]
    [InlineData("/services/board")]
    [InlineData("/mark.svg")]
    [InlineData("/api/services")]
    public async Task Nothing_the_console_serves_can_be_framed_or_runs_what_is_not_its_own(string path)
    {
        var sentry = one.Sentry;
        var console = new Uri((await sentry.Ok("open")).Output.Trim());
        using var curl = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo(
                "curl",
                ["-si", "--path-as-is", console.GetLeftPart(UriPartial.Authority) + path]
            )
            {
                RedirectStandardOutput = true,
            }
        )!;
        var answer = await curl.StandardOutput.ReadToEndAsync();
        var policy = answer
            .Split("\r\n")
            .SingleOrDefault(line => line.StartsWith("Content-Security-Policy:", StringComparison.OrdinalIgnoreCase));
        Assert.True(
            policy is not null
                && policy.Contains("frame-ancestors 'none'", StringComparison.Ordinal)
                && policy.Contains("default-src 'none'", StringComparison.Ordinal),
            answer
        );
        Assert.Contains("X-Content-Type-Options: nosniff", answer, StringComparison.OrdinalIgnoreCase);
    }
}
