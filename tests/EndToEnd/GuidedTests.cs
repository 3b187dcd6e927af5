using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Wrapping by question and answer, on a terminal of its own.</summary>
public class GuidedTests
{
    [Fact]
    public async Task Answers_become_a_running_service_and_a_file_that_can_be_repeated()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script("quay board", "#!/bin/sh\necho \"$LINE: $*\"\nexec sleep 600\n");
        var file = Path.Combine(sentry.Places.Root, "board.yaml");
        var said = await Type(
            sentry,
            [],
            "Quay board",
            $"{program.Quoted()} \"gate 2\" plain",
            "",
            Sentry.Account,
            "LINE=Skerry Line",
            "",
            "3",
            "berth",
            "path:/srv,within=1min",
            "",
            "500ms",
            "y",
            "y",
            file
        );
        Assert.Contains("Quay board is running: run 1", said, StringComparison.Ordinal);
        Assert.Equal("Skerry Line: gate 2 plain\n", await File.ReadAllTextAsync(sentry.Places.OutputOf("quay-board")));
        Assert.Contains(
            $"calm wrap quay-board --title 'Quay board' --environment 'LINE=Skerry Line' --account "
                + $"{Sentry.Account} ",
            said,
            StringComparison.Ordinal
        );
        await sentry.Ok("unwrap", "quay-board", "--yes");
        await sentry.Ok("wrap", "--from", file);
        Assert.Equal(
            "/srv",
            (await sentry.Show("quay-board"))
                .GetProperty("definition")
                .GetProperty("begin")
                .GetProperty("needs")[0]
                .GetProperty("path")
                .GetString()
        );
        Assert.Equal("Quay board", (await sentry.Show("quay-board")).GetProperty("title").GetString());
    }

    [Fact]
    public async Task Wrong_answers_are_said_at_once_and_leaving_registers_nothing()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("taken", "--", "/bin/sleep", "600");
        var said = await Type(
            sentry,
            [],
            "taken",
            "Board",
            "/srv/no/such/program",
            "n",
            "no-such-command",
            "/bin/sleep 601",
            "/srv/no/such/place",
            ""
        );
        Assert.Contains("already; choose another name", said, StringComparison.Ordinal);
        Assert.Contains("There is no program at /srv/no/such/program", said, StringComparison.Ordinal);
        Assert.Contains("There is no program 'no-such-command'", said, StringComparison.Ordinal);
        Assert.Contains("The directory /srv/no/such/place is not there.", said, StringComparison.Ordinal);
        Assert.Contains("nothing was registered", said, StringComparison.Ordinal);
        Assert.Equal(4, (await sentry.Calm("show", "board")).Exit);
    }

    [Fact]
    public async Task Any_answer_can_be_given_anew_and_what_did_not_stay_up_is_not_registered_by_itself()
    {
        await using var sentry = await Sentry.Start();
        var said = await Type(
            sentry,
            [],
            "Tide",
            "<",
            "Bell",
            "/bin/sleep 601",
            "",
            Sentry.Account,
            "TONE=high",
            "<", // of the second question of a step: this step from its beginning
            "",
            "3",
            "",
            "<", // where it would be rehearsed: over what was checked without a question
            "1",
            "",
            "<",
            "<",
            "<",
            "<",
            "<",
            "/bin/sh -c 'exit 3'",
            "",
            Sentry.Account,
            "",
            "3",
            "",
            "200ms",
            "n",
            "" // what did not stay up
        );
        Assert.Contains("< goes back to the question before", said, StringComparison.Ordinal);
        Assert.Contains("It did not stay up. Register it all the same?", said, StringComparison.Ordinal);
        Assert.Contains("Nothing was registered.", said, StringComparison.Ordinal);
        Assert.DoesNotContain(
            "TONE",
            said[said.IndexOf("This is what would be registered", StringComparison.Ordinal)..],
            StringComparison.Ordinal
        );
        Assert.Contains(
            "Bell",
            said[said.IndexOf("This is what would be registered", StringComparison.Ordinal)..],
            StringComparison.Ordinal
        );
        Assert.Empty((await sentry.Ok("list", "--json")).Json.EnumerateArray());
    }

    [Theory]
    [InlineData("y", true)]
    [InlineData("", false)] // by itself no account is permitted
    public async Task On_a_terminal_the_permit_is_asked_for_on_the_way(string answer, bool permitted)
    {
        await using var sentry = await Sentry.Start();
        var said = await Type(sentry, ["counter", "--account", "daemon", "--", "/bin/sleep", "600"], answer);
        Assert.Contains(
            "The account daemon is not permitted to run services yet. Permit it?",
            said,
            StringComparison.Ordinal
        );
        Assert.Contains(permitted ? "Wrapped 'counter'" : "calm account permit daemon", said, StringComparison.Ordinal);
        Assert.Equal(permitted ? 0 : 4, (await sentry.Calm("show", "counter")).Exit);
    }

    [Fact]
    public async Task A_mistyped_account_is_set_right_before_one_is_made()
    {
        await using var sentry = await Sentry.Start();
        var said = await Type(sentry, [], "Tide", "/bin/sleep 600", "", "daemom", "", "", "n");
        var offered = said.IndexOf("There is no account daemom. Did you mean daemon?", StringComparison.Ordinal);
        Assert.True(offered > 0, said);
        Assert.DoesNotContain("Make it, locked and without a home?", said, StringComparison.Ordinal);
        Assert.Contains(
            "daemon is not permitted to run services yet. Permit it?",
            said[offered..],
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_sibling_is_asked_only_for_what_must_differ()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script("gate", "#!/bin/sh\necho \"$GATE\" \"$@\"\nexec sleep 600\n");
        await sentry.Wrap("gate-1", "--environment", "GATE=north", "--", program, "1");
        var said = await Type(
            sentry,
            ["--like", "gate-1"],
            "Gate 2",
            $"{program.Quoted()} 2",
            "south",
            "no",
            "y",
            "y",
            ""
        );
        Assert.Contains("Gate 2 is running: run 1", said, StringComparison.Ordinal);
        Assert.Equal("south 2\n", await File.ReadAllTextAsync(sentry.Places.OutputOf("gate-2")));
    }

    /// <summary>Types lines on a pseudo-terminal, then ends the input.</summary>
    private static async Task<string> Type(Sentry sentry, string[] flags, params string[] lines)
    {
        var start = new ProcessStartInfo(
            "script",
            [
                "-qec",
                $"{sentry.Program("calm").Quoted()} --root {sentry.Places.Root.Quoted()} wrap {string.Join(' ', flags)}",
                "/dev/null",
            ]
        )
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            WorkingDirectory = sentry.Places.Root,
        };
        using var process = Process.Start(start)!;
        var said = process.StandardOutput.ReadToEndAsync();
        foreach (var line in lines)
            await process.StandardInput.WriteLineAsync(line);
        await process.StandardInput.WriteAsync('\u0004'); // Ctrl-D
        process.StandardInput.Close();
        await process.WaitForExitAsync().InTime();
        return (await said).Replace("\r\n", "\n", StringComparison.Ordinal);
    }
}
