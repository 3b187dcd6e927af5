using System.Buffers.Binary;
using System.IO.Compression;
using System.Text;

namespace CalmSentry.Tests.EndToEnd.Windows;

/// <summary>A program that shows its windows on a display of its own: a real one, and a real display.</summary>
[Needs("tigervnc-standalone-server", "x11-utils")]
public class WindowTests
{
    private const string Program = "/usr/bin/xmessage";

    private static Task<Said> Wrap(Sentry sentry, string name, params string[] more) =>
        sentry.Wrap(
            name,
            [
                "--window",
                "400x300",
                .. more,
                "--start",
                "--",
                Program,
                "-center",
                "-buttons",
                "open:0,leave:1",
                "Open the quay gate?",
            ]
        );

    /// <summary>The processes of displays of this sentry.</summary>
    internal static List<int> Displays(Sentry sentry) => Of(sentry, "/usr/bin/Xvnc");

    internal static List<int> Of(Sentry sentry, string program) =>
        [
            .. Directory
                .EnumerateDirectories("/proc")
                .Select(path => int.TryParse(Path.GetFileName(path), out var pid) ? pid : 0)
                .Where(pid => pid > 0 && Sentry.CommandLine(pid).StartsWith(program, StringComparison.Ordinal))
                .Where(pid =>
                    Environ(pid).Contains($"CALM_RUN={sentry.Places.RunDirectory}:", StringComparison.Ordinal)
                ),
        ];

    private static string Environ(int pid)
    {
        try
        {
            return File.ReadAllText($"/proc/{pid}/environ");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return "";
        }
    }

    /// <summary>Width, height, and how many colours, of a PNG read by its form (ISO/IEC 15948).</summary>
    internal static (int Width, int Height, int Colours) Read(byte[] png)
    {
        Assert.Equal("\u0089PNG\r\n\u001a\n", Encoding.Latin1.GetString(png, 0, 8));
        var (width, height, packed) = (0, 0, new MemoryStream());
        for (var at = 8; at < png.Length; )
        {
            var length = BinaryPrimitives.ReadInt32BigEndian(png.AsSpan(at));
            var content = png.AsSpan(at + 8, length);
            switch (Encoding.ASCII.GetString(png, at + 4, 4))
            {
                case "IHDR":
                    (width, height) = (
                        BinaryPrimitives.ReadInt32BigEndian(content),
                        BinaryPrimitives.ReadInt32BigEndian(content[4..])
                    );
                    break;
                case "IDAT":
                    packed.Write(content);
                    break;
            }

            at += length + 12;
        }

        packed.Position = 0;
        using var zlib = new ZLibStream(packed, CompressionMode.Decompress);
        var colours = new HashSet<(byte, byte, byte)>();
        var row = new byte[1 + (width * 3)];
        for (var y = 0; y < height; y++)
        {
            zlib.ReadExactly(row);
            for (var x = 1; x < row.Length; x += 3)
                colours.Add((row[x], row[x + 1], row[x + 2]));
        }

        return (width, height, colours.Count);
    }

    internal static async Task<(int Width, int Height, int Colours)> Picture(Sentry sentry, string name)
    {
        var file = Path.Combine(sentry.Places.Root, $"{name}.png");
        await sentry.Ok("window", name, "--to", file);
        return Read(await File.ReadAllBytesAsync(file));
    }

    [Fact]
    public async Task What_it_shows_can_be_seen_and_nobody_else_reaches_its_display()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, "desk");
        await sentry.Until("desk", view => view.GetProperty("state").GetString() == "running");
        await Sentry.Eventually(async () => await Picture(sentry, "desk") is (400, 300, > 1));
        var display = Assert.Single(Displays(sentry));

        // The host has no socket of it, and its own folder is closed.
        var number = Sentry.CommandLine(display);
        Assert.Contains("-nolisten", number, StringComparison.Ordinal);
        var sockets = Path.Combine(sentry.Places.RunOf((await sentry.Id("desk"))), "window", "sockets");
        var name = Path.GetFileName(Assert.Single(Directory.GetFileSystemEntries(sockets, "X*")));
        Assert.NotEqual(0, (await Sentry.As("daemon", "ls", sockets)).Exit);
        Assert.NotEqual(
            0,
            (await Sentry.As("daemon", "test", "-e", $"/proc/{display}/root/tmp/.X11-unix/{name}")).Exit
        );
        var key = Sentry.CommandLine(display).Split('\0').SkipWhile(word => word != "-auth").ElementAt(1);
        Assert.NotEqual(0, (await Sentry.As("daemon", "cat", key)).Exit);
        Assert.Equal(0, (await Sentry.As(Sentry.Account, "cat", key)).Exit);

        await sentry.Ok("stop", "desk");
        Assert.Empty(Displays(sentry));
        Assert.False(Directory.Exists(Path.GetDirectoryName(sockets)));
        Assert.False(File.Exists(key));
        var said = await sentry.Calm("window", "desk", "--to", "/dev/null");
        Assert.Equal(1, said.Exit);
        Assert.Contains("desk is not running", said.All, StringComparison.Ordinal);
    }

    [Fact]
    public async Task It_ends_with_its_run_and_the_run_with_it_whoever_is_killed()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, "desk", "--pause", "50ms");
        var view = await sentry.Until("desk", one => one.GetProperty("state").GetString() == "running");

        // The server: both go on.
        var before = (Assert.Single(Displays(sentry)), view.GetProperty("pid").GetInt32());
        await sentry.KillServer();
        await sentry.Serve();
        view = await sentry.Until("desk", one => one.GetProperty("state").GetString() == "running");
        Assert.Equal(before, (Assert.Single(Displays(sentry)), view.GetProperty("pid").GetInt32()));
        Assert.Equal((400, 300), (await Picture(sentry, "desk") is var (width, height, _) ? (width, height) : default));

        // The display: the program starts again with a new one, and did not fail.
        var run = view.GetProperty("run").GetInt64();
        Sentry.Kill(before.Item1);
        view = await Running(run);
        Assert.NotEqual(before.Item1, Assert.Single(Displays(sentry)));
        var logbook = (await sentry.Ok("logbook", "desk")).Output;
        Assert.Contains("The display that it shows its windows on is gone", logbook, StringComparison.Ordinal);
        Assert.DoesNotContain("Failed", logbook, StringComparison.Ordinal);

        // The program: it failed, and has a new display.
        var (second, pid) = (Assert.Single(Displays(sentry)), view.GetProperty("pid").GetInt32());
        Sentry.Kill(pid);
        view = await Running(view.GetProperty("run").GetInt64());
        Assert.NotEqual(second, Assert.Single(Displays(sentry)));

        // Its keeper, and that of the display.
        foreach (var of in (Func<int>[])[() => view.GetProperty("pid").GetInt32(), () => Displays(sentry).Single()])
        {
            run = view.GetProperty("run").GetInt64();
            Sentry.Kill(Sentry.Parent(of()));
            view = await Running(run);
            await Sentry.Eventually(() => Task.FromResult(Displays(sentry).Count == 1));
        }

        // All at once, while no server is there.
        await sentry.KillServer();
        foreach (var one in Displays(sentry).Append(view.GetProperty("pid").GetInt32()))
            Sentry.Kill(one);
        await sentry.Serve();
        await Running(view.GetProperty("run").GetInt64());
        Assert.Single(Displays(sentry));
        await sentry.Ok("stop", "desk");
        Assert.Empty(Displays(sentry));

        Task<System.Text.Json.JsonElement> Running(long after) =>
            sentry.Until(
                "desk",
                one => one.GetProperty("state").GetString() == "running" && one.GetProperty("run").GetInt64() > after
            );
    }

    /// <summary>A display that falls again and again has the hold of recovery for itself.</summary>
    [Fact]
    public async Task A_display_that_falls_again_and_again_is_held()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, "desk", "--pause", "50ms", "--hold-ends", "3");
        for (var run = 1; run <= 3; run++)
        {
            await sentry.Until(
                "desk",
                view => view.GetProperty("state").GetString() == "running" && view.GetProperty("run").GetInt64() == run
            );
            Sentry.Kill(Displays(sentry).Single());
        }

        var held = await sentry.Until("desk", view => view.GetProperty("state").GetString() == "held");
        Assert.Contains("its display fails", held.GetProperty("why").GetString()!, StringComparison.Ordinal);
        Assert.Empty(Displays(sentry));
        await sentry.Ok("release", "desk");
        await sentry.Until("desk", view => view.GetProperty("state").GetString() == "running");
    }

    [Fact]
    public async Task What_cannot_be_shown_says_why_and_what_to_do()
    {
        await using var sentry = await Sentry.Start();
        foreach (var size in (string[])["0x0", "100000x100000", "wide", "1280", "80x24x2"])
        {
            var wrong = await sentry.Calm("wrap", "desk", "--account", Sentry.Account, "--window", size, "--", Program);
            Assert.Equal(2, wrong.Exit);
            Assert.Contains("a size in pixels such as 1280x800", wrong.All, StringComparison.Ordinal);
        }

        var toggles = await sentry.Calm(
            "wrap",
            "lamps",
            "--window",
            "400x300",
            "--kind",
            "toggles",
            "--off-command",
            "/bin/true",
            "--",
            "/bin/true"
        );
        Assert.Equal(2, toggles.Exit);
        Assert.Contains("for a program that toggles", toggles.All, StringComparison.Ordinal);
        await sentry.Wrap("plain", "--start", "--", "/bin/sleep", "600");
        var none = await sentry.Calm("window", "plain", "--to", "/dev/null");
        Assert.Equal(1, none.Exit);
        Assert.Contains("calm adjust plain --window 1280x800", none.All, StringComparison.Ordinal);
        // One that draws windows and is to have none.
        var found = await sentry.Calm("check", "--account", Sentry.Account, "--", Program, "hello");
        Assert.Contains("draws windows, and the service has no display", found.All, StringComparison.Ordinal);
        var rehearsed = await sentry.Calm(
            "rehearse",
            "--account",
            Sentry.Account,
            "--for",
            "2s",
            "--",
            Program,
            "hello"
        );
        Assert.Contains("It asks for a display", rehearsed.All, StringComparison.Ordinal);
    }
}
