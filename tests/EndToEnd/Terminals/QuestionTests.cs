using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd.Terminals;

/// <summary>A program that asks somebody at its terminal: noticed by what the kernel says of it, told, and answered where it is known.</summary>
[Needs("nano", "python3", "python3-pyte")]
public class QuestionTests
{
    private static Task<JsonElement> Asks(Sentry sentry, string name, string? what) =>
        sentry.Until(name, view => (view.TryGetProperty("asks", out var asks) ? asks.GetString() : null) == what);

    /// <summary>Each way to wait for a key, and each not to: whoever wrote these knows which is which.</summary>
    [Fact]
    public async Task It_is_noticed_however_the_program_waits_and_not_where_it_does_not()
    {
        await using var sentry = await Sentry.Start();
        const string begin = "import sys, os, select, time, threading, socket\n";
        const string ask = "sys.stdout.write('which berth? '); sys.stdout.flush()\n";
        (string Name, string Program, bool Asks)[] all =
        [
            ("read", ask + "sys.stdin.readline()", true),
            ("tty", "t = open('/dev/tty', 'r+b', buffering=0); t.write(b'which berth? '); t.read(1)", true),
            ("poll", ask + "p = select.poll(); p.register(0, select.POLLIN); p.poll()", true),
            ("select", ask + "select.select([0], [], [])", true),
            ("epoll", ask + "e = select.epoll(); e.register(0, select.EPOLLIN); e.poll()", true),
            ("readv", ask + "os.readv(0, [bytearray(10)])", true),
            ("thread", ask + "threading.Thread(target=sys.stdin.readline).start(); time.sleep(600)", true),
            ("child", "os.system(\"bash -c 'read -rp \\\"which berth? \\\" x'\")", true),
            ("apart", ask + "os.fork() and sys.exit(time.sleep(600)); os.setsid(); sys.stdin.readline()", true),
            (
                "codes",
                "sys.stdout.write('tide\\r\\n\\x1b[1mwhich \\x1b[31mberth? \\x1b[0m'); sys.stdout.flush(); sys.stdin.readline()",
                true
            ),
            ("ended", "print('which berth? '); sys.stdin.readline()", false),
            ("sleeps", ask + "time.sleep(600)", false),
            (
                "works",
                ask + "threading.Thread(target=sys.stdin.readline, daemon=True).start()\nwhile True: pass",
                false
            ),
            ("elsewhere", ask + "s = socket.socket(); s.bind(('127.0.0.1', 0)); s.listen(); s.accept()", false),
            (
                "writes",
                "threading.Thread(target=sys.stdin.readline, daemon=True).start()\nwhile True:\n  sys.stdout.write('.'); sys.stdout.flush(); time.sleep(0.2)",
                false
            ),
        ];
        foreach (var (name, program, _) in all)
        {
            var file = sentry.Script($"{name}.py", "#!/usr/bin/python3\n" + begin + program + "\ntime.sleep(600)\n");
            await sentry.Wrap(name, "--terminal", name.Length % 2 == 0 ? "true" : "80x24", "--start", "--", file);
        }

        foreach (var (name, _, _) in all.Where(one => one.Asks))
            await Asks(sentry, name, "which berth? ");
        // By now the others have been looked at as often.
        foreach (var (name, _, asks) in all)
            Assert.Equal(
                (name, asks),
                (
                    name,
                    (await sentry.Show(name))
                        .GetProperty("why")
                        .GetString()!
                        .Contains("which berth?", StringComparison.Ordinal)
                )
            );
        var board = (await sentry.Ok("board", "--once")).Output;
        Assert.Contains("Probably asking at their terminals:", board, StringComparison.Ordinal);
        Assert.DoesNotContain("sleeps", board, StringComparison.Ordinal);
        Assert.Contains(
            "It probably asks at its terminal: 'which berth?'",
            (await sentry.Ok("why", "read")).Output,
            StringComparison.Ordinal
        );
        Assert.Contains("It probably asks", (await sentry.Ok("list", "read")).Output, StringComparison.Ordinal);

        // It is over when somebody answers, also where a server came between.
        await sentry.KillServer();
        await sentry.Serve();
        await Asks(sentry, "read", "which berth? ");
        await sentry.Ok("terminal", "read", "--send", "7\\n");
        await Asks(sentry, "read", null);
        Assert.Contains(
            "It no longer asks at its terminal, after ",
            (await sentry.Ok("logbook", "read")).Output,
            StringComparison.Ordinal
        );
    }

    /// <summary>What somebody types is on record nowhere, also where it stands behind a question.</summary>
    [Fact]
    public async Task What_was_typed_and_not_sent_is_in_no_record()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script("quay", "#!/bin/bash\nread -rp 'which berth? ' x\nsleep 600\n");
        await sentry.Wrap("quay", "--terminal", "80x24", "--start", "--", program);
        using (var joined = Screens.Joining(sentry, "80x24", "quay"))
        {
            joined.Until("which berth?");
            joined.Keys("kelp-and");
            joined.Until("which berth? kelp-and");
            joined.Leave();
        }

        // When this one is noticed, the other has been looked at as long.
        await sentry.Wrap("later", "--terminal", "80x24", "--start", "--", program);
        await Asks(sentry, "later", "which berth? ");
        var all = (await sentry.Ok("logbook", "quay")).Output + (await sentry.Ok("why", "quay")).Output;
        Assert.DoesNotContain("kelp", all, StringComparison.Ordinal);
    }

    [Fact]
    public async Task An_editor_waits_for_keys()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "notes",
            "--terminal",
            "80x24",
            "--environment",
            "TERM=xterm-256color",
            "--start",
            "--",
            "/usr/bin/nano",
            "-I"
        );
        await Asks(sentry, "notes", "");
        Assert.Contains(
            "It probably waits for keys at its terminal, on a screen that it draws",
            (await sentry.Ok("why", "notes")).Output,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_known_question_is_answered_so_often_and_then_told_and_its_secret_is_nowhere()
    {
        await using var sentry = await Sentry.Start();
        const string secret = "seal-of-the-quay-77";
        var program = sentry.Script(
            "seals",
            "#!/bin/bash\nread -rp 'Seal phrase: ' phrase\n[ \"$phrase\" = "
                + secret
                + " ] && echo opened || echo refused\n"
                + "for i in 1 2 3; do read -rp 'Overwrite? [y/N] ' x; echo \"got <$x>\"; done\nread -rp 'harbour> ' x\nsleep 600\n"
        );
        await sentry.Piped(secret, "secret", "set", "seals", "PHRASE");
        var file = Path.Combine(sentry.Places.Root, "seals.yaml");
        await File.WriteAllTextAsync(
            file,
            $$"""
            name: seals
            identity: { account: {{Sentry.Account}} }
            program:
              path: {{program}}
              terminal: 80x24
              answers:
                - { question: "Seal phrase: ", with: { secret: PHRASE } }
                - { question: "Overwrite? [y/N] ", with: "n\n", most: 2, each: run }
                - question: "harbour> "
            watch: [{ asks-for: 10 min }]
            """
        );
        await sentry.Ok("wrap", "--from", file, "--start");
        await Asks(sentry, "seals", "Overwrite? [y/N] ");
        var output = (await sentry.Ok("output", "seals")).Output;
        Assert.Contains("opened", output, StringComparison.Ordinal);
        Assert.Equal(2, output.Split("got <n>").Length - 1);
        var logbook = (await sentry.Ok("logbook", "seals")).Output;
        Assert.Contains(
            "It asked 'Seal phrase:' at its terminal, and was given its answer.",
            logbook,
            StringComparison.Ordinal
        );
        Assert.Contains("That was answered 2 times, as often as it may be.", logbook, StringComparison.Ordinal);
        Assert.DoesNotContain(
            secret,
            output + logbook + (await sentry.Ok("show", "seals")).Output,
            StringComparison.Ordinal
        );
        var alerts = (await sentry.Ok("tell", "--json")).Output;
        Assert.Contains(
            "probably asks for somebody at its terminal",
            (await sentry.Ok("tell")).Output + alerts,
            StringComparison.Ordinal
        );
        await sentry.Ok("terminal", "seals", "--send", "y\\n");
        await Asks(sentry, "seals", null);
        // Where it waits when all is well nothing is noticed.
        await Sentry.Eventually(async () =>
            (await sentry.Ok("output", "seals")).Output.Contains("harbour> ", StringComparison.Ordinal)
        );
        Assert.DoesNotContain(
            "harbour",
            (await sentry.Show("seals")).GetProperty("why").GetString()!,
            StringComparison.Ordinal
        );
        // What the file says reads back to the same.
        Assert.Contains(
            "secret: PHRASE",
            (await sentry.Ok("show", "seals", "--yaml")).Output,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Its_watch_tells_after_its_time_and_it_is_over_with_the_question()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script("quay", "#!/bin/bash\nread -rp 'which berth? ' x; echo noted; sleep 600\n");
        await sentry.Wrap("quay", "--terminal", "true", "--watch", "asks-for:1s", "--start", "--", program);
        await sentry.Until(
            "quay",
            view => view.TryGetProperty("attention", out var why) && why.ValueKind == JsonValueKind.String
        );
        Assert.Contains(
            "it probably asks at its terminal: 'which berth?'",
            (await sentry.Show("quay")).GetProperty("attention").GetString()!,
            StringComparison.Ordinal
        );
        await sentry.Ok("terminal", "quay", "--send", "7\\n");
        await sentry.Until("quay", view => view.GetProperty("health").GetString() == "good");
        var said = await sentry.Calm("adjust", "quay", "--watch", "asks-for:1s", "--terminal", "false");
        Assert.Equal(2, said.Exit);
        Assert.Contains("set program.terminal to true", said.All, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Answers_are_refused_where_they_cannot_be_given_or_are_none()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "quay",
            "--terminal",
            "80x24",
            "--answer",
            "question:Overwrite? [y/N] ,with=n\\n,most=5",
            "--",
            "/bin/sleep",
            "600"
        );
        var kept = (await sentry.Ok("show", "quay", "--yaml")).Output;
        Assert.Contains("n\\n", kept, StringComparison.Ordinal);
        foreach (
            var (wrong, says) in ((string, string)[])
                [
                    ("question:", "1 to 200 characters"),
                    ("question:Go? ,with=y\\n,most=0", "a whole number from 1 to 1000"),
                    ("question:Go? ,with=y\\n,each=week", "run, hour, day"),
                    ("answer:Go?", "question"),
                ]
        )
        {
            var said = await sentry.Calm("adjust", "quay", "--answer", wrong);
            Assert.Equal(2, said.Exit);
            Assert.Contains(says, said.All.Replace(" | ", ", ", StringComparison.Ordinal), StringComparison.Ordinal);
        }

        var none = await sentry.Calm("adjust", "quay", "--terminal", "false");
        Assert.Equal(2, none.Exit);
        Assert.Contains("answers to questions, for a program without a terminal", none.All, StringComparison.Ordinal);
        Assert.Equal(kept, (await sentry.Ok("show", "quay", "--yaml")).Output);
    }
}
