using System.Diagnostics;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Services as files: written, compared, and the machine brought to them, whatever happens on the way.</summary>
[Needs("ruby")]
public class ServiceFilesTests
{
    private const string Basis = """
        # What bells have in common.
        format: calm-sentry-base/1
        blanks:
          quay: { is: text }
          long: { is: number, default: 600 }   # seconds
        title: "Bell of {{quay}}"
        program: { path: /bin/sleep, arguments: ["{{long}}"] }
        identity: { account: ACCOUNT }
        begin: { at: boot, proof: { up-for: 20 ms } }

        """;

    private static string Place(Sentry sentry, string name = "files") =>
        Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "srv", name)).FullName;

    private static void Put(string place, string name, string text)
    {
        var path = Path.Combine(place, name);
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        File.WriteAllText(path, text.Replace("ACCOUNT", Sentry.Account, StringComparison.Ordinal));
    }

    private static string Bells(Sentry sentry)
    {
        var place = Place(sentry);
        Put(place, "base.yaml", Basis);
        Put(place, "north.yaml", "# The first.\nname: north\nfrom: base.yaml\nfill: { quay: the north }   # cold\n");
        Put(
            place,
            "south.yaml",
            "name: south\nfrom: base.yaml\nfill: { quay: the south, long: 700 }\nbegin: { needs: [{ service: north }] }\n"
        );
        Put(
            place,
            "lamp.yaml",
            "# The lamp.\nname: lamp\nprogram: { path: /bin/sleep, arguments: [800] }\nidentity: { account: ACCOUNT }\n# asked for\nbegin:\n  at: request\n"
        );
        return place;
    }

    private static List<string> Names(JsonElement comparison) =>
        [.. comparison.GetProperty("differences").EnumerateArray().Select(one => one.GetProperty("name").GetString()!)];

    [Fact]
    public async Task The_machine_is_brought_to_files_and_what_differs_since_is_said()
    {
        await using var sentry = await Sentry.Start();
        var place = Bells(sentry);
        var first = await sentry.Calm("compare", place, "--json");
        Assert.Equal(1, first.Exit);
        Assert.Equal(["lamp", "north", "south"], Names(first.Json).Order());

        var settled = await sentry.Ok("settle", place, "--yes");
        Assert.Contains("Settled: 3 services are as the files say.", settled.Output, StringComparison.Ordinal);
        Assert.True(
            settled.Error.IndexOf("start north", StringComparison.Ordinal)
                < settled.Error.IndexOf("wrap south", StringComparison.Ordinal),
            settled.Error
        );
        Assert.Equal("running", (await sentry.Show("south")).GetProperty("state").GetString());
        Assert.Equal("stopped", (await sentry.Show("lamp")).GetProperty("state").GetString());

        // Twice changes nothing, and what was done can be undone as before.
        var before = (await sentry.Ok("history", "north", "--json")).Output;
        Assert.Contains(
            "Nothing is to be done",
            (await sentry.Ok("settle", place, "--yes")).Output,
            StringComparison.Ordinal
        );
        Assert.Equal(before, (await sentry.Ok("history", "north", "--json")).Output);
        Assert.Equal(0, (await sentry.Calm("compare", place)).Exit);

        // Where each value came from.
        var shown = (await sentry.Ok("show", "south")).Output;
        Assert.Contains("700  (base.yaml, long from south.yaml)", shown, StringComparison.Ordinal);
        Assert.Contains("Bell of the south  (base.yaml, quay from south.yaml)", shown, StringComparison.Ordinal);
        Assert.Contains("/bin/sleep  (base.yaml)", shown, StringComparison.Ordinal);

        // What is changed by hand is told everywhere, until it is as it was.
        await sentry.Ok("adjust", "lamp", "--memory", "64MiB");
        Assert.Contains("It differs from its files in ", (await sentry.Ok("list")).Output, StringComparison.Ordinal);
        Assert.Contains(
            "It differs from its files in ",
            (await sentry.Ok("why", "lamp")).Output,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "Different from their files:\n  lamp  since ",
            (await sentry.Ok("board")).Output,
            StringComparison.Ordinal
        );
        Assert.Contains("lamp, since ", (await sentry.Ok("report")).Output, StringComparison.Ordinal);
        var since = (await sentry.Show("lamp")).GetProperty("apart-since").GetString();
        await sentry.KillServer();
        await sentry.Serve();
        Assert.Equal(since![..19], (await sentry.Show("lamp")).GetProperty("apart-since").GetString()![..19]);
        var second = await sentry.Calm("compare", place, "--json");
        Assert.Equal(["lamp"], Names(second.Json));
        Assert.Contains("resources.memory is no longer set (was '64 MiB')", second.Output, StringComparison.Ordinal);
        await sentry.Ok("adjust", "lamp", "--unset", "resources.memory");
        Assert.DoesNotContain("It differs", (await sentry.Ok("list")).Output, StringComparison.Ordinal);
        Assert.Equal(0, (await sentry.Calm("compare", place)).Exit);
    }

    [Fact]
    public async Task What_was_wrapped_and_changed_is_written_as_files_that_read_back_to_it()
    {
        await using var sentry = await Sentry.Start();
        var place = Bells(sentry);
        await sentry.Ok("settle", place, "--yes");
        await sentry.Wrap("horn", "--environment", "HORN=loud", "--", "/bin/sleep", "900");
        await sentry.Ok("adjust", "south", "--title", "Bell");
        await sentry.Ok("adjust", "lamp", "--at", "boot");

        var to = Path.Combine(sentry.Places.Root, "srv", "out");
        await sentry.Ok("export", "--all", "--to", to);
        Assert.Equal(
            File.ReadAllText(Path.Combine(place, "north.yaml")),
            File.ReadAllText(Path.Combine(to, "north.yaml"))
        );
        Assert.Equal(
            File.ReadAllText(Path.Combine(place, "base.yaml")),
            File.ReadAllText(Path.Combine(to, "base.yaml"))
        );
        Assert.Equal(
            File.ReadAllText(Path.Combine(place, "lamp.yaml"))
                .Replace("at: request", "at: boot", StringComparison.Ordinal),
            File.ReadAllText(Path.Combine(to, "lamp.yaml"))
        );
        Assert.EndsWith("title: Bell\n", File.ReadAllText(Path.Combine(to, "south.yaml")), StringComparison.Ordinal);
        Assert.Equal(0, (await sentry.Calm("compare", to)).Exit);
        Assert.Contains(
            "Nothing was to be written",
            (await sentry.Ok("export", "--all", "--to", to)).Output,
            StringComparison.Ordinal
        );

        // As one document, through a pipe; and between two directories.
        var piped = await sentry.Piped((await sentry.Ok("export", "--all", "--json")).Output, "compare", "-");
        Assert.True(piped.Exit == 0, piped.All);
        var apart = await sentry.Calm("compare", place, to, "--json");
        Assert.Equal(["horn", "lamp", "south"], [.. Names(apart.Json).Concat(Left(apart.Json)).Order()]);

        // A file of its own keeps its comments through flags, an editor and history.
        Assert.Contains(
            "# asked for\n",
            (await sentry.Ok("history", "lamp", "--file", "1")).Output,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "# asked for\nbegin:\n  at: boot\n",
            (await sentry.Ok("export", "lamp")).Output,
            StringComparison.Ordinal
        );
    }

    /// <summary>All of a YAML document as texts, by a parser that is not ours.</summary>
    private const string Psych =
        "def w(n) case n when Psych::Nodes::Mapping then n.children.each_slice(2).to_h { |k, v| [k.value, w(v)] } "
        + "when Psych::Nodes::Sequence then n.children.map { |one| w(one) } else n.value end end; "
        + "puts JSON.generate(w(Psych.parse(STDIN.read).root))";

    private static async Task<JsonNode> ByAnother(string yaml)
    {
        using var ruby = new Process
        {
            StartInfo = new("ruby", ["-Ku", "-ryaml", "-rjson", "-e", Psych])
            {
                RedirectStandardInput = true,
                RedirectStandardOutput = true,
                StandardInputEncoding = new UTF8Encoding(false),
            },
        };
        ruby.Start();
        await ruby.StandardInput.WriteAsync(yaml);
        ruby.StandardInput.Close();
        var said = await ruby.StandardOutput.ReadToEndAsync().InTime();
        await ruby.WaitForExitAsync().InTime();
        Assert.True(ruby.ExitCode == 0, yaml);
        return JsonNode.Parse(said)!;
    }

    [Fact]
    public async Task What_is_written_reads_the_same_to_another_parser()
    {
        const string characters = "ab 019:#-?&*!|>'\"%@`{}[],~=<\\/.\t\nø船\u0085\u2028\ufeff";
        var random = new Random(38);
        await using var sentry = await Sentry.Start();
        var environment = new JsonObject();
        for (var i = 0; i < 300; i++)
            environment[$"V{i}"] = Odd();
        string[] alike = ["no", "~", "null", "0x1f", "1e3", "2026-11-30", "- a", "a: b", " a ", "", "'", "<<"];
        for (var i = 0; i < alike.Length; i++)
            environment[$"W{i}"] = alike[i];
        var sent = new JsonObject
        {
            ["name"] = "gate",
            ["title"] = "Gate: # 1",
            ["program"] = new JsonObject
            {
                ["path"] = "/bin/sleep",
                ["arguments"] = new JsonArray("600", Odd(), Odd()),
                ["environment"] = environment,
            },
            ["identity"] = new JsonObject { ["account"] = Sentry.Account },
        };
        var wrapped = await sentry.Call(HttpMethod.Post, "services", sent.ToJsonString());
        Assert.True(wrapped.TryGetProperty("came-true", out _), wrapped.GetRawText());
        Assert.True(JsonNode.DeepEquals(sent, await ByAnother((await sentry.Ok("export", "gate")).Output)));

        // As a file with comments, changed in its place again and again.
        var place = Place(sentry);
        Put(
            place,
            "gate.yaml",
            "# The gate.\nname: gate # short\nprogram:\n  path: /bin/sleep\n  arguments: [600] # long\n  environment:\n    # of the gate\n    V: v # v\nidentity: { account: ACCOUNT } # who\n"
        );
        await sentry.Ok("settle", place, "--yes");
        for (var i = 0; i < 25; i++)
        {
            var change = new JsonObject
            {
                ["notes"] = Odd(),
                ["program"] = new JsonObject
                {
                    ["arguments"] = new JsonArray("600", Odd()),
                    ["environment"] = new JsonObject { ["V"] = Odd(), [$"V{i % 4}"] = i % 3 == 0 ? null : Odd() },
                },
            };
            await sentry.Call(HttpMethod.Patch, "services/gate", change.ToJsonString());
            var text = (await sentry.Ok("export", "gate")).Output;
            var now = JsonNode.Parse((await sentry.Show("gate")).GetProperty("definition").GetRawText())!;
            var read = await ByAnother(text);
            foreach (var key in (string[])["arguments", "environment"])
                Assert.True(JsonNode.DeepEquals(now["program"]![key], read["program"]![key]), text);
            foreach (var comment in (string[])["# The gate.", "# short", "# of the gate", "# who"])
                Assert.Contains(comment, text, StringComparison.Ordinal);
        }

        string Odd() =>
            string.Concat(Enumerable.Range(0, random.Next(12)).Select(_ => characters[random.Next(characters.Length)]));
    }

    private static IEnumerable<string> Left(JsonElement comparison) =>
        comparison.GetProperty("left").EnumerateArray().Select(one => one.GetString()!);

    [Theory]
    [InlineData("wrap north")]
    [InlineData("start north")]
    [InlineData("wrap south")]
    [InlineData("adjust lamp")]
    [InlineData("restart lamp")]
    [InlineData("unwrap old")]
    public async Task A_server_that_is_lost_on_the_way_goes_on_where_it_was(string at)
    {
        await using var sentry = await Sentry.Start();
        var place = Bells(sentry);
        await sentry.Wrap("lamp", "--start", "--proof", "up-for:20ms", "--", "/bin/sleep", "790");
        await sentry.Wrap("old", "--start", "--proof", "up-for:20ms", "--", "/bin/sleep", "791");
        using var settling = sentry.Open("settle", place, "--yes", "--take-away");
        while (await settling.StandardError.ReadLineAsync().InTime() is { } line)
            if (line == $"… {at}")
                break;
        await sentry.KillServer();
        await settling.WaitForExitAsync().InTime();
        Assert.NotEqual(0, settling.ExitCode);
        await sentry.Serve();
        await Sentry.Eventually(async () =>
            (await sentry.Calm("settle", "--last")).Output.Contains("Settled: 3 services", StringComparison.Ordinal)
        );
        var compared = await sentry.Calm("compare", place, "--take-away");
        Assert.True(compared.Exit == 0, compared.All);
        var list = (await sentry.Ok("list", "--json")).Json.EnumerateArray().ToList();
        Assert.Equal(["lamp", "north", "south"], list.Select(one => one.GetProperty("name").GetString()));
        Assert.All(list, one => Assert.Equal("running", one.GetProperty("state").GetString()));
        // Each was begun as often as it was to be, and is there once.
        Assert.Equal([2, 1, 1], list.Select(one => one.GetProperty("run").GetInt32()));
        Assert.Single(sentry.Processes("lamp"));
        Assert.Equal(2, (await sentry.Show("lamp")).GetProperty("revision").GetInt32());
    }

    [Fact]
    public async Task It_stops_at_the_first_that_fails_and_goes_on_or_back()
    {
        await using var sentry = await Sentry.Start();
        var place = Bells(sentry);
        await sentry.Wrap("lamp", "--start", "--memory", "64MiB", "--proof", "up-for:20ms", "--", "/bin/sleep", "790");
        var falls = sentry.Script(
            "falls",
            "#!/bin/sh\ntest -e \"$(dirname \"$0\")/mended\" && exec sleep 600\nexit 3\n"
        );
        Put(
            place,
            "north.yaml",
            $"name: north\nprogram: {{ path: \"{falls}\" }}\nidentity: {{ account: ACCOUNT }}\nrecover: {{ after: never }}\nbegin: {{ at: boot, proof: {{ up-for: 50 ms }} }}\n"
        );
        var failed = await sentry.Calm("settle", place, "--yes");
        Assert.Equal(1, failed.Exit);
        Assert.Contains("start north: ", failed.Output, StringComparison.Ordinal);
        Assert.Contains("calm settle --back", failed.Output, StringComparison.Ordinal);
        Assert.Equal(4, (await sentry.Calm("show", "south")).Exit); // behind it nothing was done

        var back = await sentry.Ok("settle", "--back", "--yes");
        Assert.Contains("is undone", back.Output, StringComparison.Ordinal);
        Assert.Equal(4, (await sentry.Calm("show", "north")).Exit);
        Assert.Equal(
            "64 MiB",
            (await sentry.Show("lamp"))
                .GetProperty("definition")
                .GetProperty("resources")
                .GetProperty("memory")
                .GetString()
        );
        await sentry.Until("lamp", view => view.GetProperty("state").GetString() == "running");
        Assert.Equal(1, (await sentry.Calm("settle", "--back", "--yes")).Exit);

        // Gone on with once it is mended: only what is left is done.
        Assert.Equal(1, (await sentry.Calm("settle", place, "--yes")).Exit);
        File.WriteAllText(Path.Combine(Path.GetDirectoryName(falls)!, "mended"), "");
        await sentry.Ok("settle", place, "--yes");
        await sentry.Until("south", view => view.GetProperty("state").GetString() == "running");
        await sentry.Ok("settle", "--back", "--yes");
        Assert.Equal(4, (await sentry.Calm("show", "south")).Exit);
    }

    [Fact]
    public async Task A_name_is_changed_only_where_the_file_says_so_and_nothing_is_taken_away_unasked()
    {
        await using var sentry = await Sentry.Start();
        var place = Bells(sentry);
        await sentry.Ok("settle", place, "--yes");
        Put(
            place,
            "lamp.yaml",
            File.ReadAllText(Path.Combine(place, "lamp.yaml"))
                .Replace("name: lamp", "name: light\nwas: lamp", StringComparison.Ordinal)
        );
        File.Delete(Path.Combine(place, "south.yaml"));
        var said = (await sentry.Calm("compare", place)).Output;
        Assert.Contains("rename lamp", said, StringComparison.Ordinal);
        Assert.Contains("In no file, and left as they are: south.", said, StringComparison.Ordinal);
        await sentry.Ok("settle", place, "--yes");
        Assert.Equal(["light", "north", "south"], await All());
        await sentry.Ok("settle", place, "--yes", "--take-away");
        Assert.Equal(["light", "north"], await All());
        await sentry.Ok("settle", "--back", "--yes");
        Assert.Equal(["light", "north", "south"], await All());
        await sentry.Until("south", view => view.GetProperty("state").GetString() == "running");

        // Renamed here and not in the files: the old name is no new service, and its program is not begun a second time.
        await sentry.Ok("rename", "light", "glow");
        var old = (await sentry.Calm("compare", place, "--json")).Json.GetProperty("differences");
        Assert.Equal(
            "glow",
            old.EnumerateArray()
                .Single(one => one.GetProperty("name").GetString() == "light")
                .GetProperty("called-here")
                .GetString()
        );
        foreach (
            var more in (string[][])
                [
                    [],
                    ["--take-away"],
                ]
        )
        {
            var refused = await sentry.Calm(["settle", place, "--yes", .. more]);
            Assert.Equal(1, refused.Exit);
            Assert.Contains("is called glow", refused.Error, StringComparison.Ordinal);
        }

        Assert.Equal(["glow", "north", "south"], await All());
        await sentry.Ok("rename", "glow", "light");

        // Without a terminal nothing is asked, and without a word nothing is done.
        Put(
            place,
            "lamp.yaml",
            "name: light\nprogram: { path: /bin/sleep, arguments: [801] }\nidentity: { account: ACCOUNT }\n"
        );
        var asked = await sentry.Calm("settle", place);
        Assert.Equal(2, asked.Exit);
        Assert.Contains("--yes", asked.Error, StringComparison.Ordinal);
        Assert.Equal(0, (await sentry.Calm("settle", place, "--dry")).Exit);
        Assert.Equal(
            "800",
            (await sentry.Show("light"))
                .GetProperty("definition")
                .GetProperty("program")
                .GetProperty("arguments")[0]
                .GetString()
        );

        // The list that was seen is the one that is carried out.
        var (seen, files) = (
            await sentry.Calm("compare", place, "--json"),
            (await sentry.Ok("export", "--all", "--json")).Output
        );
        var order = $"{{\"files\": {files}, \"seen\": \"{seen.Json.GetProperty("tag").GetString()}\"}}";
        var outdated = await sentry.Call(HttpMethod.Post, "files/settle", order);
        Assert.Equal("settling-outdated", outdated.GetProperty("code").GetString());

        async Task<List<string?>> All() =>
            [
                .. (await sentry.Ok("list", "--json"))
                    .Json.EnumerateArray()
                    .Select(one => one.GetProperty("name").GetString()),
            ];
    }

    [Fact]
    public async Task Two_do_not_mix_and_a_drill_goes_first()
    {
        await using var sentry = await Sentry.Start();
        var place = Bells(sentry);
        var ready = Path.Combine(sentry.Places.Root, "srv", "ready");
        Put(
            place,
            "north.yaml",
            $"name: north\nprogram: {{ path: /bin/sleep, arguments: [600] }}\nidentity: {{ account: ACCOUNT }}\nbegin: {{ at: boot, proof: {{ file: \"{ready}\" }} }}\n"
        );
        using var one = sentry.Open("settle", place, "--yes");
        while (await one.StandardError.ReadLineAsync().InTime() is { } line)
            if (line == "… start north")
                break;
        var other = await sentry.Calm("settle", place, "--yes");
        Assert.Equal(1, other.Exit);
        Assert.Contains("Settling 1, which", other.Error, StringComparison.Ordinal);
        Assert.Contains("under way", (await sentry.Calm("settle", "--last")).Output, StringComparison.Ordinal);
        File.WriteAllText(ready, "");
        await one.WaitForExitAsync().InTime();
        Assert.Equal(0, one.ExitCode);

        // While a drill has them in hand the step waits, and is done when they are back.
        var stubborn = sentry.Script(
            "stubborn",
            "#!/bin/sh\ntrap 'while ! test -e \"$(dirname \"$0\")/leave\"; do sleep 0.05; done; exit' TERM\nwhile :; do sleep 0.05; done\n"
        );
        Put(place, "north.yaml", "name: north\nfrom: base.yaml\nfill: { quay: the north }\n");
        Put(place, "stubborn.yaml", Stubborn(1));
        await sentry.Ok("settle", place, "--yes");
        using var drill = sentry.Open("drill", "--yes");
        await sentry.Until("stubborn", view => view.GetProperty("state").GetString() == "stopping");
        Put(place, "stubborn.yaml", Stubborn(2));
        using var waits = sentry.Open("settle", place, "--yes");
        var waited = false;
        while (await waits.StandardError.ReadLineAsync().InTime() is { } line)
        {
            if (line.Contains("in the hand of something else", StringComparison.Ordinal))
            {
                waited = true;
                File.WriteAllText(Path.Combine(Path.GetDirectoryName(stubborn)!, "leave"), "");
            }
        }

        await drill.WaitForExitAsync().InTime();
        await waits.WaitForExitAsync().InTime();
        Assert.True(waited);
        Assert.Equal(0, waits.ExitCode);
        Assert.Equal(0, (await sentry.Calm("compare", place)).Exit);

        string Stubborn(int time) =>
            $"name: stubborn\nprogram: {{ path: \"{stubborn}\", arguments: [{time}] }}\nidentity: {{ account: ACCOUNT }}\nbegin: {{ at: boot, proof: {{ up-for: 20 ms }} }}\n";
    }

    [Fact]
    public async Task No_value_of_a_secret_is_in_any_file_and_what_looks_like_one_is_masked()
    {
        const string value = "herring-and-dill-4711";
        await using var sentry = await Sentry.Start();
        var place = Place(sentry);
        Put(
            place,
            "gate.yaml",
            "name: gate\nprogram: { path: /bin/sleep, arguments: [600], secrets: [GATE_KEY] }\nidentity: { account: ACCOUNT }\n"
        );
        var first = await sentry.Ok("settle", place, "--yes");
        Assert.Contains(
            "gate needs the secret GATE_KEY, which has no value here",
            first.Output,
            StringComparison.Ordinal
        );
        await sentry.Piped(value, "secret", "set", "gate", "GATE_KEY");
        Assert.DoesNotContain("GATE_KEY, which", (await sentry.Ok("compare", place)).Output, StringComparison.Ordinal);
        await sentry.Ok("adjust", "gate", "--environment", $"GATE_PASSWORD={value}", "--accept", "secret-in-plain");
        var compared = await sentry.Calm("compare", place);
        Assert.Contains("program.environment.GATE_PASSWORD", compared.Output, StringComparison.Ordinal);
        Assert.DoesNotContain(value, compared.All, StringComparison.Ordinal);
        await sentry.Ok("adjust", "gate", "--unset", "program.environment");
        Assert.DoesNotContain(value, (await sentry.Ok("export", "--all", "--json")).All, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_base_is_filled_by_flags_and_two_are_had_from_it_in_one_line_each()
    {
        await using var sentry = await Sentry.Start();
        var place = Bells(sentry);
        await sentry.Ok(
            "wrap",
            "east",
            "--base",
            Path.Combine(place, "base.yaml"),
            "--fill",
            "quay=the east",
            "--fill",
            "long=900",
            "--start"
        );
        await sentry.Ok("wrap", "--from", Path.Combine(place, "north.yaml"));
        var east = await sentry.Show("east");
        Assert.Equal("Bell of the east", east.GetProperty("title").GetString());
        Assert.Equal(
            "base.yaml, long from east.yaml",
            east.GetProperty("came-from").GetProperty("program.arguments[0]").GetString()
        );
        var wrong = await sentry.Calm("wrap", "west", "--base", Path.Combine(place, "base.yaml"), "--fill", "key=1");
        Assert.Equal(2, wrong.Exit);
        Assert.Contains("fill.key: no blank of base.yaml; allowed: quay, long", wrong.Error, StringComparison.Ordinal);
        Assert.Equal(2, (await sentry.Calm("wrap", "west", "--fill", "key=1", "--", "/bin/sleep", "1")).Exit);
        var to = Path.Combine(sentry.Places.Root, "srv", "out");
        await sentry.Ok("export", "east", "north", "--to", to);
        Assert.Equal(["base.yaml", "east.yaml", "north.yaml"], Directory.GetFiles(to).Select(Path.GetFileName).Order());
        Assert.Contains(
            "from: base.yaml\nfill:\n  quay: the east\n",
            File.ReadAllText(Path.Combine(to, "east.yaml")),
            StringComparison.Ordinal
        );
        Assert.Equal(0, (await sentry.Calm("compare", to)).Exit);
    }
}
