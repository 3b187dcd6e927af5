using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>The logbook as people and programs read it, the proof that it is as it was written, and programs' own entries.</summary>
public class LogbookTests
{
    [Fact]
    public async Task What_is_asked_for_is_found_in_every_form()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--title", "Tide, \"north\"", "--proof", "up-for:10ms", "--", "/bin/sleep", "600");
        await sentry.Wrap("gate", "--recover", "never", "--", sentry.Script("gate", "#!/bin/sh\nexit 3\n"));
        await sentry.Ok("start", "tide");
        await sentry.Calm("start", "gate");

        var fell = (await sentry.Ok("logbook", "--kind", "fell", "--json")).Json.EnumerateArray().ToList();
        Assert.Equal(["gate"], fell.Select(entry => entry.GetProperty("service").GetString()));
        var asked = (await sentry.Ok("logbook", "--by", Environment.UserName, "--since", "1h", "--json")).Json;
        Assert.All(
            asked.EnumerateArray(),
            entry => Assert.Equal(Environment.UserName, entry.GetProperty("by").GetString())
        );
        Assert.Contains(asked.EnumerateArray(), entry => entry.GetProperty("code").GetString() == "start-asked");
        Assert.Contains(
            "exited with code 3",
            (await sentry.Ok("logbook", "--find", "WITH CODE 3")).Output,
            StringComparison.Ordinal
        );
        var backwards = await sentry.Calm("logbook", "--since", "2026-01-02", "--until", "2026-01-01");
        Assert.Equal(2, backwards.Exit);
        Assert.Contains("which is before that", backwards.Told, StringComparison.Ordinal);
        Assert.Equal(4, (await sentry.Calm("logbook", "nosuch")).Exit);
        Assert.Equal("Nothing in the logbook fits.\n", (await sentry.Ok("logbook", "--until", "2001-01-01")).Output);

        // As bad as asked for, or worse.
        var bad = (await sentry.Ok("logbook", "--severity", "error", "--json")).Json.EnumerateArray().ToList();
        Assert.Contains(bad, entry => entry.GetProperty("code").GetString() == "fell");
        Assert.All(
            bad,
            entry =>
                Assert.Contains(entry.GetProperty("severity").GetString(), (string[])["alert", "critical", "error"])
        );
        Assert.Contains(
            "allowed: emergency, alert, critical",
            (await sentry.Calm("logbook", "--severity", "awful")).Error,
            StringComparison.Ordinal
        );

        // Who asked at a terminal is on record with it.
        using (
            var atTerminal = Process.Start(
                "script",
                [
                    "-qec",
                    $"{sentry.Program("calm").Quoted()} --root {sentry.Places.Root.Quoted()} stop tide",
                    "/dev/null",
                ]
            )
        )
            await atTerminal.WaitForExitAsync().InTime();
        var stop = (await sentry.Ok("logbook", "tide", "--kind", "stop-asked", "--json")).Json.EnumerateArray().Last();
        Assert.Matches(@"^pts/\d+", stop.GetProperty("from").GetString());

        // A spreadsheet gets lines that end as RFC 4180 has them, with what holds commas and quotes in quotes.
        var csv = (await sentry.Ok("logbook", "--csv", "--kind", "wrapped,fell")).Output;
        var lines = csv.Split("\r\n");
        Assert.StartsWith("id,at,service,kind,by,text,", lines[0], StringComparison.Ordinal);
        Assert.Equal(3 + 2, lines.Length); // two wrapped, one fell, and the end of the last
        Assert.Contains(lines, line => line.Contains(",gate,fell,,", StringComparison.Ordinal));
        var objects = (await sentry.Ok("logbook", "--json-lines", "--last", "3")).Output.Split(
            '\n',
            StringSplitOptions.RemoveEmptyEntries
        );
        Assert.Equal(3, objects.Length);
        Assert.All(objects, line => Assert.StartsWith("{\"id\":", line, StringComparison.Ordinal));

        var wrong = await sentry.Calm("logbook", "--kind", "fel");
        Assert.Equal(2, wrong.Exit);
        Assert.Contains("did you mean 'fell'?", wrong.Error, StringComparison.Ordinal);
        Assert.Equal(2, (await sentry.Calm("logbook", "--since", "soon")).Exit);
        Assert.Equal(2, (await sentry.Calm("logbook", "--csv", "--json")).Exit);
    }

    [Fact]
    public async Task It_goes_on_with_what_comes()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--proof", "up-for:10ms", "--", "/bin/sleep", "600");
        using var follow = Process.Start(
            new ProcessStartInfo(
                sentry.Program("calm"),
                ["--root", sentry.Places.Root, "logbook", "tide", "--kind", "proven", "--follow"]
            )
            {
                RedirectStandardOutput = true,
            }
        )!;
        await sentry.Wrap("gate", "--proof", "up-for:10ms", "--start", "--", "/bin/sleep", "600");
        await sentry.Ok("start", "tide");
        var line = await follow.StandardOutput.ReadLineAsync(TestContext.Current.CancellationToken).AsTask().InTime();
        Assert.Contains("  tide  Run 1 is ready", line, StringComparison.Ordinal);
        await sentry.Ok("restart", "tide");
        line = await follow.StandardOutput.ReadLineAsync(TestContext.Current.CancellationToken).AsTask().InTime();
        Assert.Contains("  tide  Run 2 is ready", line, StringComparison.Ordinal);
        await Sentry.End(follow);
    }

    [Fact]
    public async Task A_change_behind_its_back_is_found_and_told()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--proof", "up-for:10ms", "--start", "--", "/bin/sleep", "600");
        var proof = (await sentry.Ok("logbook", "--prove", "--json")).Json;
        Assert.True(proof.GetProperty("holds").GetBoolean());
        var head = proof.GetProperty("head").GetString()!;
        await sentry.Ok("restart", "tide");
        var said = await sentry.Ok("logbook", "--prove", "--head", head);
        Assert.Contains("The logbook is as it was written:", said.Output, StringComparison.Ordinal);
        Assert.Equal(2, (await sentry.Calm("logbook", "--prove", "--head", "5f0c")).Exit);

        await sentry.ChangeStore("UPDATE logbook SET by = 'olaf' WHERE what = 'wrapped'");
        var broken = await sentry.Calm("logbook", "--prove");
        Assert.Equal(1, broken.Exit);
        Assert.Contains("is not as it was written", broken.Error, StringComparison.Ordinal);
        // From then on whoever looks at the sentry is told.
        Assert.Contains(
            "The logbook is not as it was written",
            (await sentry.Ok("host", "status")).Output,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "by olaf",
            string.Join(
                ' ',
                (await sentry.Ok("logbook", "--kind", "wrapped", "--json"))
                    .Json.EnumerateArray()
                    .Select(entry => $"by {entry.GetProperty("by").GetString()}")
            ),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Programs_make_entries_of_their_own_at_a_pace()
    {
        await using var sentry = await Sentry.Start();
        var till = sentry.Script(
            "till",
            """
            #!/bin/sh
            say() { curl -s -w '%{http_code}\n' --unix-socket "$CALM_SAY" "$@"; }
            say -d 'day file closed, 412 fares' http://calm/notes
            say -H 'Content-Type: application/json' -d '{"text": "paper is out", "fields": {"till": 3, "side": "north"}}' http://calm/asks
            say -H 'Content-Type: application/json' -d '{"fields": {}}' http://calm/warns
            say -d '' http://calm/warns
            say -d "$(head -c 600 /dev/zero | tr '\0' x)" http://calm/warns
            i=0; while [ $i -lt 200 ]; do say -d 'again' http://calm/warns; i=$((i+1)); done | tail -n 1
            exec sleep 600
            """
        );
        await sentry.Wrap("till", "--proof", "output:^429$", "--start", "--", till);
        var entries = (await sentry.Ok("logbook", "till", "--kind", "noted", "--last", "1000", "--json"))
            .Json.EnumerateArray()
            .Select(entry =>
                (
                    entry.GetProperty("text").GetString()!,
                    entry.GetProperty("tells").GetBoolean(),
                    entry.GetProperty("run").GetInt64()
                )
            )
            .ToList();
        Assert.Equal(("It notes: day file closed, 412 fares", false, 1L), entries[0]);
        Assert.Equal(("It asks for a person: paper is out (till=3, side=north)", true, 1L), entries[1]);
        Assert.InRange(entries.Count, 150, 199);
        var output = await File.ReadAllTextAsync(sentry.Places.OutputOf("till"));
        Assert.Equal(2, output.Split("\n400\n").Length - 1);
        Assert.Contains("\n413\n", output, StringComparison.Ordinal);
        Assert.Contains("paper is out", (await sentry.Ok("board", "--once")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Sign_ins_and_refusals_are_on_record_with_who_and_what()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as another account");
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--", "/bin/sleep", "600");
        var link = new Uri((await sentry.Ok("open")).Output.Trim());
        using var browser = new HttpClient(new HttpClientHandler { AllowAutoRedirect = false });
        browser.DefaultRequestHeaders.UserAgent.ParseAdd("Quay-Browser/1.0");
        var opened = await browser.GetAsync(link);
        Assert.Contains("#page=", opened.Headers.Location!.ToString(), StringComparison.Ordinal);
        for (var i = 0; i < 5; i++)
            Assert.Equal("/?link=used", (await browser.GetAsync(link)).Headers.Location!.ToString());
        for (var i = 0; i < 5; i++)
        {
            var refused = await Sentry.As(
                "daemon",
                sentry.Program("calm"),
                "--root",
                sentry.Places.Root,
                "stop",
                "tide"
            );
            Assert.Equal(3, refused.Exit);
        }

        var entries = (await sentry.Ok("logbook", "--last", "100", "--json"))
            .Json.EnumerateArray()
            .Select(entry =>
                (
                    Code: entry.GetProperty("code").GetString()!,
                    By: entry.TryGetProperty("by", out var by) ? by.GetString() : null,
                    Text: entry.GetProperty("text").GetString()!
                )
            )
            .ToList();
        var signedIn = Assert.Single(entries, entry => entry.Code == "signed-in");
        Assert.Contains("Quay-Browser/1.0", signedIn.Text, StringComparison.Ordinal);
        Assert.StartsWith("root", signedIn.By, StringComparison.Ordinal);
        // Who asks again and again fills no logbook.
        var used = Assert.Single(entries, entry => entry.Code == "sign-in-refused");
        Assert.Contains(
            "a link that was never given, was used, or is too old, from root",
            used.Text,
            StringComparison.Ordinal
        );
        Assert.Equal(
            [("daemon", "Refused, for the account may not: POST /api/services/tide/stop.")],
            entries.Where(entry => entry.Code == "refused").Select(entry => (entry.By!, entry.Text))
        );
    }
}
