using System.Diagnostics;
using System.Text.Json;
using CalmSentry.Tests.EndToEnd.Telling;
using MimeKit;

namespace CalmSentry.Tests.EndToEnd.Windows;

/// <summary>What a program shows is kept with its run, a dialog of it is noticed and told, and a window that stays as it is.</summary>
[Needs("lwm", "tigervnc-standalone-server", "tk")]
public class DialogTests
{
    /// <summary>
    /// A desk of a real toolkit: on each line of its control file it opens a dialog, draws, or rests. Its answer is what it prints.
    /// </summary>
    private static string Desk(Sentry sentry, string then) =>
        sentry.Script(
            "desk.tcl",
            $$"""
            #!/usr/bin/wish
            wm title . "Quay tickets"
            wm geometry . 300x200+40+30
            label .l -text "Tickets" -font {Helvetica 20} -background #204060 -foreground white
            pack .l -fill both -expand 1
            {{then}}
            """
        );

    private static Task<Said> Wrap(Sentry sentry, string program, params string[] more) =>
        sentry.Wrap("desk", ["--window", "400x300", .. more, "--start", "--", "/usr/bin/wish", program]);

    private static string? Asks(JsonElement view) =>
        view.TryGetProperty("asks", out var asks) && asks.ValueKind == JsonValueKind.String ? asks.GetString() : null;

    [Fact]
    public async Task A_dialog_is_noticed_told_with_its_picture_and_over_when_it_is_gone()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await using var post = PostOffice.Open(sentry);
        await TellTests.ToOffice(sentry, post, "steady: 1 s, gather: 0 s");
        var over = Path.Combine(sentry.Places.Root, "over");
        await Wrap(
            sentry,
            Desk(
                sentry,
                $$"""
                proc look {} { if {[file exists {{{over}}}]} { destroy .d } else { after 100 look } }
                after 300 {
                    toplevel .d; wm title .d "Paper"; wm transient .d .; wm attributes .d -type dialog
                    pack [label .d.l -text "No paper is left. Go on without?"]; look
                }
                """
            ),
            "--watch",
            "asks-for:1s,follows=tell"
        );
        var view = await sentry.Until("desk", one => Asks(one) == "Paper");
        Assert.Equal("window", view.GetProperty("asks-at").GetString());
        Assert.Contains(
            "It probably asks in a window: 'Paper'",
            (await sentry.Ok("list")).Output,
            StringComparison.Ordinal
        );
        var mail = await post.Next(one =>
            one.Subject!.Contains("probably asks for somebody in a window", StringComparison.Ordinal)
        );
        var attached = Assert.IsType<MimePart>(Assert.Single(mail.Attachments));
        using var png = new MemoryStream();
        await attached.Content!.DecodeToAsync(png);
        Assert.True(WindowTests.Read(png.ToArray()) is (400, 300, > 2));

        // The server goes and comes: it is the same dialog still.
        await sentry.KillServer();
        await sentry.Serve();
        await sentry.Until("desk", one => Asks(one) == "Paper");
        await File.WriteAllTextAsync(over, "");
        await sentry.Until("desk", one => Asks(one) is null && one.GetProperty("health").GetString() == "good");
        var logbook = (await sentry.Ok("logbook", "desk")).Output;
        Assert.Single(logbook.Split('\n'), line => line.Contains("It probably asks in", StringComparison.Ordinal));
        Assert.Single(logbook.Split('\n'), line => line.Contains("no longer asks in a", StringComparison.Ordinal));
        var told = await post.Next(one => one.Subject!.Contains("over", StringComparison.OrdinalIgnoreCase));
        Assert.Empty(told.Attachments);
    }

    /// <summary>What works hard at first and then waits has waited since then; only what never rests is believed after a minute.</summary>
    [Fact]
    public async Task A_dialog_is_noticed_soon_after_the_work_behind_it()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(
            sentry,
            Desk(
                sentry,
                """
                toplevel .d; wm title .d "Paper"; wm transient .d .; wm attributes .d -type dialog; update
                set over [expr {[clock seconds] + 8}]
                while {[clock seconds] < $over} { set sum [expr {sqrt($over)}] }
                """
            )
        );
        await sentry.Until("desk", view => view.GetProperty("state").GetString() == "running");
        var began = Stopwatch.GetTimestamp();
        await sentry.Until("desk", view => Asks(view) == "Paper");
        // Eight seconds of work and three of rest; a minute is for what never rests.
        Assert.InRange(Stopwatch.GetElapsedTime(began).TotalSeconds, 0, 45);
    }

    /// <summary>By its type alone: a window of the usual type is none, whatever it says, nor is a menu or a hint.</summary>
    [Fact]
    public async Task What_is_no_dialog_is_not_taken_for_one()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        var turn = Path.Combine(sentry.Places.Root, "turn");
        await Wrap(
            sentry,
            Desk(
                sentry,
                $$"""
                toplevel .n; wm title .n "Report"
                toplevel .u; wm title .u "Tools"; wm attributes .u -type utility; wm transient .u .
                toplevel .s; wm title .s "Starting"; wm attributes .s -type splash
                toplevel .h; wm overrideredirect .h 1
                toplevel .w; wm title .w "Withdrawn"; wm transient .w .; wm withdraw .w
                proc look {} { if {[file exists {{{turn}}}]} { wm deiconify .w } else { after 100 look } }
                look
                """
            )
        );
        await sentry.Until("desk", view => view.GetProperty("state").GetString() == "running");
        await Sentry.Eventually(async () => await WindowTests.Picture(sentry, "desk") is (400, 300, > 1));
        await File.WriteAllTextAsync(turn, "");
        // The one that became one is the first that is seen.
        await sentry.Until(
            "desk",
            view =>
                Asks(view) is { } title && (title == "Withdrawn" ? true : throw new InvalidOperationException(title))
        );
    }

    [Fact]
    public async Task The_last_picture_is_kept_with_its_run_whoever_is_killed()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, Desk(sentry, ""), "--pause", "50ms", "--hold-ends", "0");
        for (var run = 1; run <= 4; run++)
        {
            var view = await Running(sentry, run);
            await Kept(sentry, run);
            switch (run)
            {
                case 1:
                    Sentry.Kill(view.GetProperty("pid").GetInt32());
                    break;
                case 2:
                    Sentry.Kill(WindowTests.Displays(sentry).Single());
                    break;
                case 3:
                    await sentry.KillServer();
                    Sentry.Kill(view.GetProperty("pid").GetInt32());
                    await sentry.Serve();
                    break;
                default:
                    await sentry.Ok("stop", "desk");
                    break;
            }
        }

        for (var run = 1; run <= 4; run++)
        {
            Assert.True(await Past(sentry, run) is (400, 300, > 1));
            Assert.Contains(
                $"calm window desk --run {run} --to FILE.png",
                (await sentry.Ok("runs", "desk", "--run", $"{run}")).Output,
                StringComparison.Ordinal
            );
        }

        // One display fell. That the program fell while no server was there is its own failure.
        var logbook = (await sentry.Ok("logbook", "desk", "--last", "200")).Output;
        Assert.True(
            logbook.Split("The display that it shows its windows on is gone (it was killed by signal KILL").Length == 2
                && logbook.Split("The display that it shows").Length == 2,
            logbook
        );

        // Only the sentry's own account reads them, and none is left of a service that is no more.
        var id = await sentry.Id("desk");
        Assert.NotEqual(0, (await Sentry.As("daemon", "ls", sentry.Places.Pictures)).Exit);
        var none = await sentry.Calm("window", "desk", "--run", "99", "--to", "/dev/null");
        Assert.Contains("No picture is kept of run 99 of desk", none.All, StringComparison.Ordinal);
        Assert.Contains("calm window desk --run 4 --to FILE.png", none.All, StringComparison.Ordinal);
        await sentry.Ok("unwrap", "desk", "--yes");
        Assert.False(Directory.Exists(Path.Combine(sentry.Places.Pictures, id)));
    }

    private static Task<JsonElement> Running(Sentry sentry, int run) =>
        sentry.Until(
            "desk",
            view => view.GetProperty("state").GetString() == "running" && view.GetProperty("run").GetInt64() == run
        );

    private static Task Kept(Sentry sentry, int run) =>
        Sentry.Eventually(async () => await Past(sentry, run) is (400, 300, > 1));

    private static async Task<(int Width, int Height, int Colours)?> Past(Sentry sentry, int run)
    {
        var file = Path.Combine(sentry.Places.Root, "past.png");
        return (await sentry.Calm("window", "desk", "--run", $"{run}", "--to", file)).Exit == 0
            ? WindowTests.Read(await File.ReadAllBytesAsync(file))
            : null;
    }

    [Fact]
    public async Task A_window_that_stays_as_it_is_is_poor_and_well_again_once_it_changes()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        var turn = Path.Combine(sentry.Places.Root, "turn");
        await Wrap(
            sentry,
            Desk(
                sentry,
                $$"""proc look {} { if {[file exists {{{turn}}}]} { .l configure -text [clock milliseconds] }; after 300 look }; look"""
            ),
            "--watch",
            "still-for:3s,beat=500ms,follows=note"
        );
        var poor = await sentry.Until("desk", view => view.GetProperty("health").GetString() == "poor");
        Assert.Contains(
            "what its window shows has not changed",
            poor.GetProperty("why").GetString()!,
            StringComparison.Ordinal
        );
        await File.WriteAllTextAsync(turn, "");
        await sentry.Until("desk", view => view.GetProperty("health").GetString() == "good");
        var said = await sentry.Calm(
            "wrap",
            "plain",
            "--account",
            Sentry.Account,
            "--watch",
            "still-for:3s",
            "--",
            "/bin/sleep",
            "600"
        );
        Assert.Equal(2, said.Exit);
        Assert.Contains("set program.window", said.All, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_rehearsal_shows_what_it_drew_and_finds_the_dialog_it_opened()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        var (program, file) = (
            Desk(sentry, "after 300 { tk_messageBox -title Paper -message {No paper is left.} }"),
            Path.Combine(sentry.Places.Root, "seen.png")
        );
        var said = await sentry.Ok(
            "rehearse",
            "--account",
            Sentry.Account,
            "--window",
            "400x300",
            "--for",
            "3s",
            "--picture",
            file,
            "--",
            "/usr/bin/wish",
            program
        );
        Assert.Contains("It probably asks in a window: 'Paper'; nobody answers.", said.All, StringComparison.Ordinal);
        Assert.Contains("asks-for: 2 min", said.All, StringComparison.Ordinal);
        Assert.True(WindowTests.Read(await File.ReadAllBytesAsync(file)) is (400, 300, > 2));
        Assert.Empty(WindowTests.Displays(sentry));

        // Whoever rehearses goes away in the middle: nothing is left of it.
        using var client = sentry.Open(
            "rehearse",
            "--account",
            Sentry.Account,
            "--window",
            "400x300",
            "--for",
            "600s",
            "--",
            "/usr/bin/wish",
            program
        );
        await Sentry.Eventually(() => WindowTests.Displays(sentry).Count == 1);
        client.Kill();
        await Sentry.Eventually(() =>
            WindowTests.Displays(sentry).Count == 0 && WindowTests.Of(sentry, "/usr/bin/wish").Count == 0
        );
        await Sentry.Eventually(() =>
            Directory.GetDirectories(Path.Combine(sentry.Places.RunDirectory, "rehearsals")).Length == 0
        );
    }

    [Fact]
    public async Task A_window_manager_runs_beside_it_and_falls_with_the_display()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        var missing = await sentry.Calm(
            "check",
            "--account",
            Sentry.Account,
            "--window",
            "400x300",
            "--window-manager",
            "/usr/bin/no-manager",
            "--",
            "/usr/bin/wish"
        );
        Assert.Contains("its window manager /usr/bin/no-manager is not there", missing.All, StringComparison.Ordinal);
        Assert.Contains("apt-get install lwm", missing.All, StringComparison.Ordinal);
        // It frames the dialog, which is seen in its frame, too.
        await Wrap(
            sentry,
            Desk(sentry, "after 300 { tk_messageBox -title Paper -message {No paper is left.} }"),
            "--window-manager",
            "/usr/bin/lwm",
            "--pause",
            "50ms"
        );
        var view = await sentry.Until("desk", one => Asks(one) == "Paper");
        var manager = Managers(sentry).Single();
        // A server that returns finds it as well.
        await sentry.KillServer();
        await sentry.Serve();
        await sentry.Until("desk", one => one.GetProperty("state").GetString() == "running");
        Assert.Equal(manager, Managers(sentry).Single());
        Assert.Equal(view.GetProperty("pid").GetInt32(), (await sentry.Show("desk")).GetProperty("pid").GetInt32());
        Sentry.Kill(manager);
        await Running(sentry, 2);
        Assert.NotEqual(manager, Managers(sentry).Single());
        Assert.DoesNotContain("Failed", (await sentry.Ok("logbook", "desk")).Output, StringComparison.Ordinal);
        await sentry.Ok("stop", "desk");
        Assert.Empty(Managers(sentry));
        Assert.Empty(WindowTests.Displays(sentry));
    }

    private static List<int> Managers(Sentry sentry) => WindowTests.Of(sentry, "/usr/bin/lwm");
}
