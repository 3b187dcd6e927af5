namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>Text of others is shown as text: it begins no line, no formula and no other direction; and what is secret is not shown.</summary>
[Needs("perl")]
public sealed class ForgingTests
{
    [Fact]
    public async Task A_process_and_a_program_forge_no_line()
    {
        await using var sentry = await Sentry.Start();
        // What it calls itself is shown with its start.
        await sentry.Wrap(
            "tide",
            "--proof",
            "output:^up",
            "--",
            "perl",
            "-e",
            "$| = 1; $0 = \"tide\\nroot: all is well\\x1b[2K\"; print \"up\\n\"; sleep 678"
        );
        var said = await sentry.Ok("start", "tide");
        Assert.DoesNotContain(said.Output.Split('\n'), line => line.StartsWith("root: all", StringComparison.Ordinal));
        Assert.Contains("tide·root: all is well·[2K", said.Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Members_of_an_archive_and_names_of_files_forge_no_line()
    {
        await using var sentry = await Sentry.Start();
        var home = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "srv", "board")).FullName;
        var next = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "next")).FullName;
        foreach (var folder in (string[])[home, next])
        {
            await File.WriteAllTextAsync($"{folder}/board.sh", "#!/bin/sh\nexec sleep 678\n");
            File.SetUnixFileMode($"{folder}/board.sh", (UnixFileMode)0x1ED);
        }

        await File.WriteAllTextAsync($"{home}/a\nVersion 9 is safe\u202e", "");
        await sentry.Wrap("board", "--", $"{home}/board.sh");
        var said = (await sentry.Calm("swap", "board", "--from", next, "--dry")).All;
        Assert.DoesNotContain(said.Split('\n'), line => line.StartsWith("Version 9", StringComparison.Ordinal));
        Assert.DoesNotContain('\u202e', said);
        await File.WriteAllTextAsync($"{next}/b\nVersion 9 is safe", "");
        said = (await sentry.Calm("swap", "board", "--from", next, "--dry")).All;
        Assert.DoesNotContain(said.Split('\n'), line => line.StartsWith("Version 9", StringComparison.Ordinal));
    }

    [Fact]
    public async Task A_spreadsheet_gets_no_formula_and_no_code_of_a_terminal()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "tide",
            "--proof",
            "output:^up",
            "--",
            sentry.Script(
                "tide",
                "#!/bin/sh\nfor n in '=1+1' '@all' '-2' '+3' \"$(printf 'red \\033[31m \\342\\200\\256 end')\" plain; do "
                    + "curl -s --unix-socket \"$CALM_SAY\" --data-raw \"$n\" http://calm/notes; done\necho up\nexec sleep 678\n"
            )
        );
        await sentry.Ok("start", "tide");
        var csv = (await sentry.Ok("logbook", "--csv", "--kind", "noted")).Output;
        foreach (var formula in (string[])["=1+1", "@all", "-2", "+3"])
        {
            Assert.Contains($",'{formula}", csv, StringComparison.Ordinal);
            Assert.DoesNotContain($",{formula}", csv, StringComparison.Ordinal);
        }

        Assert.DoesNotContain('\x1b', csv);
        Assert.DoesNotContain('\u202e', csv);
        Assert.Contains(",plain,", csv, StringComparison.Ordinal);
        // As data it is what it was.
        var json = (await sentry.Ok("logbook", "--json", "--kind", "noted")).Output;
        Assert.Contains("=1+1", json, StringComparison.Ordinal);
        Assert.Contains("\\u001b", json, StringComparison.OrdinalIgnoreCase);
    }

    [Fact]
    public async Task A_secret_in_plain_is_kept_in_its_definition_alone()
    {
        await using var sentry = await Sentry.Start();
        const string value = "s3cr3t-value-123",
            other = "0th3r-value-456";
        await sentry.Wrap("tide", "--", "/bin/sleep", "600");
        var said = new List<string>
        {
            (await sentry.Ok("adjust", "tide", "--environment", $"API_TOKEN={value}")).All,
            (await sentry.Ok("adjust", "tide", "--environment", $"API_TOKEN={other}")).All,
            (
                await sentry.Ok(
                    "wrap",
                    "gate",
                    "--account",
                    Sentry.Account,
                    "--",
                    "/bin/sleep",
                    "600",
                    $"--password={value}"
                )
            ).All,
            (await sentry.Ok("logbook", "--last", "100")).Output,
            (await sentry.Ok("logbook", "--last", "100", "--json")).Output,
            (await sentry.Ok("show", "tide")).Output,
            (await sentry.Ok("show", "gate")).Output,
            (await sentry.Ok("start", "gate", "--dry")).Output,
            (await sentry.Calm("check", "gate")).Output,
            (await sentry.Calm("why", "tide")).All,
            (await sentry.Ok("report")).Output,
        };
        Assert.All(said, one => Assert.DoesNotContain(value, one, StringComparison.Ordinal));
        Assert.All(said, one => Assert.DoesNotContain(other, one, StringComparison.Ordinal));
        Assert.Contains("API_TOKEN is now '****' (was '****')", said[1], StringComparison.Ordinal);
        Assert.Contains(other, (await sentry.Ok("show", "tide", "--yaml")).Output, StringComparison.Ordinal);
    }
}
