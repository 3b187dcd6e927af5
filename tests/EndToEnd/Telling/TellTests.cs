using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Text;
using System.Text.Json;
using MimeKit;
using SmtpServer.Protocol;

namespace CalmSentry.Tests.EndToEnd.Telling;

/// <summary>A person is told of what needs one, by mail, webhook, command and syslog, and of its end.</summary>
public class TellTests
{
    /// <summary>Settings as they are saved while it runs.</summary>
    internal static async Task Set(Sentry sentry, string settings)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(sentry.Places.Settings)!);
        await File.WriteAllTextAsync(sentry.Places.Settings, settings);
    }

    internal static async Task Known(Sentry sentry, params string[] recipients) =>
        await Sentry.Eventually(async () =>
            (await sentry.Ok("tell", "--recipients", "--json"))
                .Json.EnumerateArray()
                .Select(one => one.GetProperty("name").GetString()!)
                .SequenceEqual(recipients)
        );

    internal static async Task<Sentry> With(Func<Sentry, string> settings, params string[] recipients)
    {
        var sentry = await Sentry.Start();
        await Set(sentry, settings(sentry));
        await Known(sentry, recipients);
        return sentry;
    }

    /// <summary>A service that fails while there is a file, and is on hold at its first failure.</summary>
    internal static async Task<string> Faulty(Sentry sentry, string name = "fare-ledger", params string[] more)
    {
        var fault = Path.Combine(sentry.Places.Root, $"{name}.fault");
        await File.WriteAllTextAsync(fault, "");
        var script = sentry.Script(
            $"{name}.sh",
            $"#!/bin/sh\necho 'cannot <open> the book'\n[ -e {fault.Quoted()} ] && exit 3\nexec sleep 676\n"
        );
        await sentry.Wrap(name, ["--proof", "up-for:100ms", "--code", "3=hold", .. more, "--", script]);
        return fault;
    }

    internal static async Task<JsonElement> Alert(Sentry sentry, Func<JsonElement, bool> wanted)
    {
        JsonElement found = default;
        await Sentry.Eventually(async () =>
        {
            var all = (await sentry.Ok("tell", "--json")).Json.EnumerateArray().Where(wanted).ToList();
            found = all.FirstOrDefault();
            return all.Count > 0;
        });
        return found;
    }

    /// <summary>The quay's office is told of all by mail.</summary>
    internal static async Task ToOffice(Sentry sentry, PostOffice post, string alerts)
    {
        await sentry.Piped(PostOffice.Password, "secret", "set", "--sentry", "MAIL_PASSWORD");
        await Set(
            sentry,
            $"{post.Settings}alerts: {{ {alerts} }}\ntell:\n  - {{ mail: office@skerry.example, name: quay-office }}\n"
        );
        await Known(sentry, "quay-office");
    }

    internal static string? Text(JsonElement of, string name) =>
        of.TryGetProperty(name, out var value) ? value.GetString() : null;

    /// <summary>Only whoever asks for it by name is told that a service differs from its files, and that it does no more.</summary>
    [Fact]
    public async Task That_a_service_differs_from_its_files_is_told_to_whoever_asks_for_it()
    {
        await using var sentry = await Sentry.Start();
        await using var post = PostOffice.Open(sentry);
        await sentry.Piped(PostOffice.Password, "secret", "set", "--sentry", "MAIL_PASSWORD");
        await Set(
            sentry,
            $"{post.Settings}alerts: {{ steady: 1 s, gather: 1 s }}\ntell:\n  - {{ mail: office@skerry.example, name: quay-office }}\n"
                + "  - { mail: files@skerry.example, name: files, about: [apart] }\n"
        );
        await Known(sentry, "quay-office", "files");
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "srv", "files")).FullName;
        await File.WriteAllTextAsync(
            Path.Combine(place, "lamp.yaml"),
            $"name: lamp\nprogram: {{ path: /bin/sleep, arguments: [600] }}\nidentity: {{ account: {Sentry.Account} }}\n"
        );
        await sentry.Ok("settle", place, "--yes");
        await sentry.Ok("adjust", "lamp", "--memory", "64MiB");
        var told = await post.Next(mail =>
            mail.Subject!.Contains("lamp differs from its files", StringComparison.Ordinal)
        );
        Assert.Equal("files@skerry.example", told.To.Mailboxes.Single().Address);
        Assert.Contains(
            $"It differs from its files in {place}: resources.memory",
            told.TextBody,
            StringComparison.Ordinal
        );
        await sentry.Ok("settle", place, "--yes");
        await post.Next(mail => mail.Subject!.Contains("Over: lamp differs from its files", StringComparison.Ordinal));
        Assert.All(post.Taken, mail => Assert.Equal("files@skerry.example", mail.To.Mailboxes.Single().Address));
    }

    [Fact]
    public async Task A_hold_is_told_by_mail_and_so_is_its_end()
    {
        await using var sentry = await Sentry.Start();
        await using var post = PostOffice.Open(sentry);
        await ToOffice(sentry, post, "steady: 1 s, gather: 1 s");
        var fault = await Faulty(sentry);
        await sentry.Calm("start", "fare-ledger");
        var mail = await post.Next(_ => true);

        Assert.Equal("office@skerry.example", mail.To.Mailboxes.Single().Address);
        Assert.Equal("sentry@quay.skerry.example", mail.From.Mailboxes.Single().Address);
        Assert.Matches(@"^\[.+\] fare-ledger is on hold$", mail.Subject);
        Assert.Equal("auto-generated", mail.Headers["Auto-Submitted"]);
        Assert.Contains("run 1 exited with code 3", mail.TextBody, StringComparison.Ordinal);
        Assert.Contains("| cannot <open> the book", mail.TextBody, StringComparison.Ordinal);
        Assert.Contains("calm release fare-ledger", mail.TextBody, StringComparison.Ordinal);
        Assert.Contains("cannot &lt;open&gt; the book", mail.HtmlBody, StringComparison.Ordinal);

        var alert = await Alert(sentry, _ => true);
        Assert.Equal("urgent", Text(alert, "urgency"));
        var said = await sentry.Ok("acknowledge", "fare-ledger", "--note", "the book is being mended");
        Assert.Contains("Alert 1 (fare-ledger is on hold) is yours", said.Output, StringComparison.Ordinal);
        Assert.Contains("the book is being mended", (await sentry.Ok("tell")).Output, StringComparison.Ordinal);
        Assert.Contains(
            "Alert 1 (fare-ledger is on hold) is acknowledged: the book is being mended",
            (await sentry.Ok("logbook")).Output,
            StringComparison.Ordinal
        );

        File.Delete(fault);
        await sentry.Ok("release", "fare-ledger");
        var end = await post.Next(other => other.Subject!.Contains("Over: ", StringComparison.Ordinal));
        Assert.Equal(mail.References.Single(), end.References.Single());
        Assert.NotEqual(mail.MessageId, end.MessageId);
        Assert.Contains("Nobody needs to do anything", end.TextBody, StringComparison.Ordinal);
        Assert.Equal(2, post.Taken.Count);
        Assert.Equal(4, (await sentry.Calm("acknowledge", "77")).Exit);
        Assert.Equal(1, (await sentry.Calm("acknowledge", "1")).Exit);
        Assert.Equal(4, (await sentry.Calm("acknowledge", "fare-ledger")).Exit);
    }

    [Fact]
    public async Task A_definition_can_name_who_is_told_beside_the_settings()
    {
        await using var sentry = await Sentry.Start();
        await using var post = PostOffice.Open(sentry);
        await sentry.Piped(PostOffice.Password, "secret", "set", "--sentry", "MAIL_PASSWORD");
        const string office =
            "tell:\n  - { mail: office@skerry.example, name: quay-office, services: [ticket-spooler] }\n";
        await Set(sentry, $"{post.Settings}alerts: {{ steady: 1 s, gather: 1 s }}\n{office}");
        await Known(sentry, "quay-office");
        var wrong = await sentry.Calm([
            "wrap",
            "gate",
            "--account",
            Sentry.Account,
            .. "--tell quay-ofice -- /bin/sleep 600".Split(' '),
        ]);
        Assert.Equal(1, wrong.Exit);
        Assert.Contains("did you mean quay-office?", wrong.Error, StringComparison.Ordinal);
        Assert.Equal(2, (await sentry.Calm("wrap", "gate", "--tell", "no one", "--", "/bin/sleep", "600")).Exit);

        await Faulty(sentry, "fare-ledger", "--tell", "quay-office", "--tell", "clerk@skerry.example");
        await Faulty(sentry, "tide-bell");
        await Known(sentry, "quay-office", "clerk@skerry.example");
        await sentry.Calm("start", "tide-bell");
        await sentry.Calm("start", "fare-ledger");
        foreach (var whom in (string[])["office@skerry.example", "clerk@skerry.example"])
        {
            var mail = await post.Next(one => one.To.Mailboxes.Single().Address == whom);
            Assert.Contains("fare-ledger is on hold", mail.Subject, StringComparison.Ordinal);
        }

        // The other one was told to nobody; and what a definition no longer names is nobody's.
        Assert.Equal(2, post.Taken.Count);
        await sentry.Ok("adjust", "fare-ledger", "--unset", "tell");
        await Known(sentry, "quay-office");

        // It may be that the settings lose somebody later.
        await sentry.Ok("adjust", "tide-bell", "--tell", "clerk@skerry.example");
        await Set(
            sentry,
            office.Replace("mail: office@skerry.example", "command: [/bin/true]", StringComparison.Ordinal)
        );
        await Known(sentry, "quay-office");
        Assert.Contains(
            "Nobody is told at 'clerk@skerry.example' when tide-bell needs attention",
            (await sentry.Ok("list")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "recipient-missing",
            (await sentry.Calm("check", "tide-bell")).Output,
            StringComparison.Ordinal
        );
        Assert.Equal(0, (await sentry.Calm("stop", "tide-bell")).Exit);
    }

    [Fact]
    public async Task A_trial_shows_all_that_goes_to_and_fro_but_the_password()
    {
        await using var sentry = await Sentry.Start();
        await using var post = PostOffice.Open(sentry);
        await Set(sentry, post.Settings + "tell:\n  - { mail: office@skerry.example, name: quay-office }\n");
        await Known(sentry, "quay-office");
        var without = await sentry.Calm("tell", "--test", "quay-office");
        Assert.Equal(1, without.Exit);
        Assert.Contains("calm secret set --sentry MAIL_PASSWORD", without.Output, StringComparison.Ordinal);
        await sentry.Piped("wrong", "secret", "set", "--sentry", "MAIL_PASSWORD");
        Assert.Contains(
            "did not let quay sign in",
            (await sentry.Calm("tell", "--test", "quay-office")).Output,
            StringComparison.Ordinal
        );
        await sentry.Piped(PostOffice.Password, "secret", "set", "--sentry", "MAIL_PASSWORD");
        var said = await sentry.Ok("tell", "--test", "quay-office");
        Assert.Contains("> STARTTLS", said.Output, StringComparison.Ordinal);
        Assert.Contains("> RCPT TO:<office@skerry.example>", said.Output, StringComparison.Ordinal);
        Assert.Contains("A trial went to quay-office", said.Output, StringComparison.Ordinal);
        var sealedAway = Convert.ToBase64String(Encoding.UTF8.GetBytes($"\0{PostOffice.User}\0{PostOffice.Password}"));
        Assert.DoesNotContain(sealedAway, said.Output, StringComparison.Ordinal);
        Assert.DoesNotContain(PostOffice.Password, said.Output, StringComparison.Ordinal);
        Assert.Contains("A trial: messages reach you", post.Taken.Single().Subject, StringComparison.Ordinal);
        Assert.Equal(4, (await sentry.Calm("tell", "--test", "nobody")).Exit);
        var listed = (await sentry.Ok("secret", "list", "--sentry", "--json")).Json[0];
        Assert.Equal("MAIL_PASSWORD", Text(listed, "key"));
        Assert.Equal(2, (await sentry.Calm("secret", "set", "--sentry", "A", "B")).Exit);
        Assert.Equal(2, (await sentry.Calm("secret", "set", "A")).Exit);
    }

    [Fact]
    public async Task A_server_that_cannot_be_trusted_or_secures_nothing_gets_nothing()
    {
        await using var sentry = await Sentry.Start();
        await using var post = PostOffice.Open(sentry);
        await sentry.Piped(PostOffice.Password, "secret", "set", "--sentry", "MAIL_PASSWORD");
        var tell = "tell:\n  - { mail: office@skerry.example, name: quay-office }\n";
        await Set(sentry, post.Settings.Replace($", trust: {post.Trust}", "", StringComparison.Ordinal) + tell);
        await Known(sentry, "quay-office");
        var said = await sentry.Calm("tell", "--test", "quay-office");
        Assert.Equal(1, said.Exit);
        Assert.Contains("could not be secured: its certificate was issued by", said.Output, StringComparison.Ordinal);

        using var plain = new TcpListener(IPAddress.Loopback, 0);
        plain.Start();
        var serving = Task.Run(async () =>
        {
            using var line = await plain.AcceptTcpClientAsync();
            await using var stream = line.GetStream();
            using var reader = new StreamReader(stream);
            await stream.WriteAsync("220 plain ESMTP\r\n"u8.ToArray());
            var heard = new List<string>();
            while (await reader.ReadLineAsync() is { } word)
            {
                heard.Add(word);
                await stream.WriteAsync("250 plain\r\n"u8.ToArray());
            }

            return heard;
        });
        await Set(
            sentry,
            $"mail: {{ server: 127.0.0.1:{((IPEndPoint)plain.LocalEndpoint).Port}, from: s@q.example }}\n" + tell
        );
        await Sentry.Eventually(async () =>
            (await sentry.Calm("tell", "--test", "quay-office")).Output.Contains("> EHLO", StringComparison.Ordinal)
            && serving.IsCompleted
        );
        Assert.DoesNotContain(await serving, word => word.StartsWith("MAIL", StringComparison.OrdinalIgnoreCase));
    }

    [Fact]
    public async Task A_refusal_for_now_is_tried_again_one_for_good_is_on_record()
    {
        await using var sentry = await Sentry.Start();
        await using var post = PostOffice.Open(sentry);
        await sentry.Piped(PostOffice.Password, "secret", "set", "--sentry", "MAIL_PASSWORD");
        var (greylisted, seen) = (0, new List<string>());
        post.AnswersRecipient = () =>
            Interlocked.Increment(ref greylisted) == 1
                ? new SmtpResponse((SmtpReplyCode)451, "4.7.1 greylisted, come again")
                : null;
        post.Answers = mail =>
        {
            seen.Add(mail.MessageId!);
            // It takes the mail and loses its memory of having answered.
            return seen.Count == 1 ? new SmtpResponse((SmtpReplyCode)421, "4.3.0 going down") : null;
        };
        await Set(sentry, post.Settings + "tell:\n  - { mail: office@skerry.example, name: quay-office }\n");
        await Known(sentry, "quay-office");
        await Faulty(sentry);
        await sentry.Calm("start", "fare-ledger");
        var mail = await post.Next(_ => true);
        Assert.Equal([mail.MessageId!, mail.MessageId!], seen);
        await Sentry.Eventually(async () => await StateOf(sentry, 1) == "delivered");
        Assert.Equal(3, (await Messages(sentry))[0].GetProperty("tries").GetInt32());

        post.AnswersRecipient = () => new SmtpResponse((SmtpReplyCode)550, "5.1.1 no such mailbox");
        await Faulty(sentry, "gate-counter");
        await sentry.Calm("start", "gate-counter");
        await Sentry.Eventually(async () => await StateOf(sentry, 2) == "refused");
        Assert.Contains("no such mailbox", (await sentry.Ok("logbook")).Output, StringComparison.Ordinal);
        // It stands in nobody's way.
        post.AnswersRecipient = () => null;
        await Faulty(sentry, "berth-radio");
        await sentry.Calm("start", "berth-radio");
        // The third within ten seconds is named in the alert of the first.
        await post.Next(other => other.TextBody!.Contains("berth-radio", StringComparison.Ordinal));
    }

    [Fact]
    public async Task A_server_that_says_nothing_or_never_ends_is_left_and_asked_again()
    {
        await using var sentry = await Sentry.Start();
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var port = ((IPEndPoint)listener.LocalEndpoint).Port;
        await Set(
            sentry,
            $"mail: {{ server: 127.0.0.1:{port}, security: none, from: s@q.example, patience: 3 s }}\ntell:\n  - {{ mail: office@skerry.example, name: quay-office }}\n"
        );
        await Known(sentry, "quay-office");
        await Faulty(sentry);
        await sentry.Calm("start", "fare-ledger");
        // It greets, and goes on greeting.
        using (var endless = await listener.AcceptTcpClientAsync().InTime())
        {
            var said = 0L;
            try
            {
                while (true)
                {
                    await endless.GetStream().WriteAsync(Encoding.ASCII.GetBytes($"220-{new string('x', 1000)}\r\n"));
                    said += 1006;
                }
            }
            catch (IOException)
            {
                // It has heard enough: what is on its way beside that fits into the buffers of both ends.
                Assert.InRange(said, 100_000, 20_000_000);
            }
        }

        using var silent = await listener.AcceptTcpClientAsync().InTime();
        using var last = await listener.AcceptTcpClientAsync().InTime();
        Assert.Equal(0, await silent.GetStream().ReadAsync(new byte[1]).AsTask().InTime());
        Assert.Equal("waiting", await StateOf(sentry, 1));
    }

    internal static async Task<List<JsonElement>> Messages(Sentry sentry) =>
        [.. (await sentry.Ok("tell", "--messages", "--last", "1000", "--json")).Json.EnumerateArray()];

    internal static async Task<string?> StateOf(Sentry sentry, long number) =>
        (await Messages(sentry))
            .Where(one => one.GetProperty("number").GetInt64() == number)
            .Select(one => Text(one, "state"))
            .FirstOrDefault();

    [Fact]
    public async Task While_nothing_gets_there_it_waits_over_restarts_is_said_and_arrives_in_order()
    {
        await using var sentry = await Sentry.Start();
        var post = PostOffice.Open(sentry);
        await sentry.Piped(PostOffice.Password, "secret", "set", "--sentry", "MAIL_PASSWORD");
        await Set(sentry, post.Settings + "tell:\n  - { mail: office@skerry.example, name: quay-office }\n");
        await Known(sentry, "quay-office");
        post.AnswersRecipient = () => new SmtpResponse((SmtpReplyCode)451, "4.3.0 later");
        var names = new[] { "a", "b", "c", "d" };
        foreach (var name in names)
        {
            // Each a case of its own: what happens together is told together.
            await Faulty(sentry, name, "--label", name);
            await sentry.Calm("start", name);
            await Alert(
                sentry,
                alert => alert.GetProperty("affected").EnumerateArray().Any(one => Text(one, "service") == name)
            );
            await sentry.ChangeStore(
                "UPDATE alert SET document = json_set(document, '$.joined', '2026-01-01T00:00:00Z', '$.began', '2026-01-01T00:00:00Z')"
            );
            await sentry.KillServer();
            await sentry.Serve();
        }

        await Sentry.Eventually(async () =>
            (await sentry.Ok("host", "status")).Output.Contains(
                "Messages to quay-office cannot be delivered",
                StringComparison.Ordinal
            )
        );
        Assert.Empty(post.Taken);
        post.AnswersRecipient = () => null;
        await Sentry.Eventually(() => post.Taken.Count == names.Length);
        Assert.Equal(
            names.Select(name => $"{name} is on hold"),
            post.Taken.Select(mail => mail.Subject![(mail.Subject!.IndexOf(']', StringComparison.Ordinal) + 2)..])
        );
        await post.DisposeAsync();
    }

    [Fact]
    public async Task Killed_at_any_point_of_a_delivery_nothing_is_lost_and_nothing_on_record_comes_twice()
    {
        await using var sentry = await Sentry.Start();
        await using var post = PostOffice.Open(sentry);
        await sentry.Piped(PostOffice.Password, "secret", "set", "--sentry", "MAIL_PASSWORD");
        await Set(
            sentry,
            post.Settings
                + "alerts: { gather: 0 s, most-an-hour: 1000 }\ntell:\n  - { mail: office@skerry.example, name: quay-office }\n"
        );
        await Known(sentry, "quay-office");
        await sentry.Wrap("speaker", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "677");
        var random = new Random(20261127);
        for (var round = 0; round < 15; round++)
        {
            var name = $"s{round}";
            await Faulty(sentry, name);
            var asked = sentry.Calm("start", name);
            await Task.WhenAny(asked, Task.Delay(random.Next(250)));
            await Task.Delay(random.Next(40));
            var delivered = (await Stored(sentry, "delivered")).ToHashSet();
            await sentry.KillServer();
            var taken = post.Taken.Count;
            await sentry.Serve();
            await asked;
            // One that was on record is not sent again.
            Assert.DoesNotContain(post.Taken.Skip(taken).Select(Id), delivered.Contains);
            await sentry.Calm("start", name);
        }

        await Sentry.Eventually(async () => (await Stored(sentry, "waiting")).Count == 0);
        foreach (var id in await Stored(sentry, "delivered"))
            Assert.Contains(post.Taken, mail => Id(mail) == id);
        // Everything that is on hold is in an alert of which somebody heard; what joins one later is told within an hour.
        var told = (await sentry.Ok("tell", "--json"))
            .Json.EnumerateArray()
            .Where(alert => alert.GetProperty("heard").GetArrayLength() > 0)
            .SelectMany(alert => alert.GetProperty("affected").EnumerateArray())
            .Select(one => Text(one, "service"))
            .ToHashSet();
        for (var round = 0; round < 15; round++)
            Assert.Contains($"s{round}", told);

        static string Id(MimeMessage mail) => mail.MessageId!.Split('@')[0];
    }

    [Fact]
    public async Task What_was_told_while_no_disk_took_it_is_told_again_with_the_same_id()
    {
        await using var sentry = await Sentry.Start();
        await using var post = PostOffice.Open(sentry);
        await ToOffice(sentry, post, "gather: 0 s");
        await Faulty(sentry);
        MimeMessage first;
        await using (await RecordTests.Held(sentry))
        {
            await sentry.Calm("start", "fare-ledger");
            first = await post.Next(_ => true);
            await sentry.KillServer();
        }

        await sentry.Serve();
        // That the sentry was away may be told before it.
        await Sentry.Eventually(() => post.Taken.Count(mail => mail.Subject == first.Subject) == 2);
        Assert.All(
            post.Taken.Where(mail => mail.Subject == first.Subject),
            mail => Assert.Equal(first.MessageId, mail.MessageId)
        );
    }

    /// <summary>Ids of messages that the store, as it lies on the disk, has in a state.</summary>
    private static async Task<List<string>> Stored(Sentry sentry, string state)
    {
        await using var store = new Microsoft.Data.Sqlite.SqliteConnection(
            $"Data Source={sentry.Places.Database};Pooling=False"
        );
        await store.OpenAsync();
        await using var command = store.CreateCommand();
        command.CommandText = "SELECT id FROM message WHERE state = $0";
        command.Parameters.AddWithValue("$0", state);
        await using var rows = await command.ExecuteReaderAsync();
        var ids = new List<string>();
        while (await rows.ReadAsync())
            ids.Add(rows.GetString(0));
        return ids;
    }

    [Fact]
    public async Task What_needs_another_is_named_in_its_alert()
    {
        await using var sentry = await With(
            _ => "alerts: { gather: 1 s }\ntell:\n  - { command: [/bin/sh, -c, 'cat >> /dev/null'], name: bell }\n",
            "bell"
        );
        var fault = Path.Combine(sentry.Places.Root, "fault");
        var slow = sentry.Script(
            "slow.sh",
            $"#!/bin/sh\nwhile [ ! -e {fault.Quoted()} ]; do sleep 0.1; done\nexit 3\n"
        );
        await sentry.Wrap("fare-ledger", "--proof", "output:never", "--code", "3=hold", "--", slow);
        await sentry.Wrap(
            "departure-board",
            "--proof",
            "up-for:0s",
            "--need",
            "service:fare-ledger,within=1s",
            "--",
            "/bin/sleep",
            "676"
        );
        var waits = sentry.Calm("start", "departure-board");
        // What waits is told first; then the cause shows.
        await Alert(
            sentry,
            one => Text(one, "subject") == "fare-ledger is missing: departure-board waits for something it needs"
        );
        await File.WriteAllTextAsync(fault, "");
        var alert = await Alert(
            sentry,
            one =>
                one.GetProperty("affected").GetArrayLength() == 2
                && one.GetProperty("heard")[0].GetProperty("messages").GetInt32() == 2
        );
        Assert.Equal("fare-ledger", Text(alert, "cause-name"));
        Assert.Equal("fare-ledger is on hold, and 1 more service is affected", Text(alert, "subject"));
        Assert.Single((await sentry.Ok("tell", "--json")).Json.EnumerateArray());
        await waits;
    }

    [Fact]
    public async Task A_missing_directory_is_one_cause_for_all_that_lie_in_it()
    {
        await using var sentry = await With(
            _ => "alerts: { gather: 1 s }\ntell:\n  - { command: [/bin/true], name: bell }\n",
            "bell"
        );
        var share = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "share")).FullName;
        for (var i = 0; i < 5; i++)
        {
            var home = Directory.CreateDirectory(Path.Combine(share, $"export-{i}")).FullName;
            await File.WriteAllTextAsync(Path.Combine(home, "run.sh"), "#!/bin/sh\nexec sleep 676\n");
            File.SetUnixFileMode(Path.Combine(home, "run.sh"), (UnixFileMode)0b111_101_101);
            await sentry.Wrap(
                $"export-{i}",
                "--proof",
                "up-for:0s",
                "--pause",
                "100ms",
                "--hold-ends",
                "2",
                "--start",
                "--",
                Path.Combine(home, "run.sh")
            );
        }

        foreach (var home in Directory.GetDirectories(share))
            Directory.Delete(home, recursive: true);
        for (var i = 0; i < 5; i++)
            Sentry.Kill((await sentry.Show($"export-{i}")).GetProperty("pid").GetInt32());
        var alert = await Alert(sentry, one => one.GetProperty("affected").GetArrayLength() == 5);
        Assert.Equal("path", Text(alert, "cause"));
        Assert.Equal(share, Text(alert, "cause-name"));
        Assert.Single((await sentry.Ok("tell", "--json")).Json.EnumerateArray());
        await Sentry.Eventually(async () => (await Messages(sentry)).Count == 2);
    }

    /// <summary>By default as many as a test can bear; CALM_MANY says how many.</summary>
    [Fact]
    public async Task Many_that_fall_from_one_share_are_a_message_at_the_first_and_one_at_most_that_names_all()
    {
        var many = int.Parse(Environment.GetEnvironmentVariable("CALM_MANY") ?? "40", CultureInfo.InvariantCulture);
        await using var sentry = await Sentry.Start();
        await using var post = PostOffice.Open(sentry);
        await ToOffice(sentry, post, "gather: 5 s, steady: 1 h");
        var share = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "share")).FullName;
        var program = Path.Combine(share, "export.sh");
        await File.WriteAllTextAsync(program, "#!/bin/sh\nexec sleep 677\n");
        File.SetUnixFileMode(program, (UnixFileMode)0b111_101_101);
        var names = Enumerable.Range(0, many).Select(i => $"export-{i:000}").ToList();
        foreach (var name in names)
            await sentry.Wrap(
                name,
                [
                    .. "--proof up-for:0s --pause 100ms --hold-ends 2 --accept same-program --start".Split(' '),
                    "--",
                    program,
                    name,
                ]
            );
        var running = (await sentry.Ok("list", "--json")).Json;
        Directory.Delete(share, recursive: true);
        foreach (var one in running.EnumerateArray())
            Sentry.Kill(one.GetProperty("pid").GetInt32());

        // Where all have failed by the time of the first, that one names them all.
        var all = await post.Next(mail =>
            names.All(name => mail.TextBody?.Contains(name, StringComparison.Ordinal) == true)
        );
        var first = post.Taken.First();
        Assert.Equal(first.References.Single(), all.References.Single());
        await Sentry.Eventually(async () =>
            (await sentry.Ok("list", "--json")).Json.EnumerateArray().All(one => Text(one, "state") == "held")
        );
        Assert.InRange(post.Taken.Count, 1, 2);
        Assert.Single((await sentry.Ok("tell", "--json")).Json.EnumerateArray());
    }

    [Fact]
    public async Task A_command_gets_the_message_as_its_account_a_syslog_socket_a_line()
    {
        await using var sentry = await Sentry.Start();
        var told = Path.Combine(sentry.Places.Root, "told");
        Directory.CreateDirectory(told);
        File.SetUnixFileMode(told, (UnixFileMode)0b111_111_111);
        var bell = sentry.Script(
            "bell.sh",
            $"#!/bin/sh\n[ -e {told.Quoted()}/deaf ] && {{ echo rope is torn >&2; exit 7; }}\nid -un > {told.Quoted()}/who\necho \"$CALM_SUBJECT|$CALM_ALERT|$CALM_URGENCY|$CALM_SERVICE\" > {told.Quoted()}/env\ncat > {told.Quoted()}/text\n"
        );
        using var collector = new UdpClient(new IPEndPoint(IPAddress.Loopback, 0));
        var port = ((IPEndPoint)collector.Client.LocalEndPoint!).Port;
        await File.WriteAllTextAsync(Path.Combine(told, "deaf"), "");
        await Set(
            sentry,
            $"tell:\n  - {{ command: [{bell}], name: bell, account: {Sentry.Account} }}\n  - {{ syslog: 127.0.0.1:{port}, name: tower }}\n"
        );
        await Known(sentry, "bell", "tower");
        await Faulty(sentry);
        await sentry.Calm("start", "fare-ledger");
        var line = Encoding.UTF8.GetString((await collector.ReceiveAsync().InTime()).Buffer);
        Assert.StartsWith("<25>1 ", line, StringComparison.Ordinal);
        Assert.Contains("fare-ledger is on hold, since", line, StringComparison.Ordinal);
        await Sentry.Eventually(async () =>
            (await sentry.Ok("tell")).Output.Contains("rope is torn", StringComparison.Ordinal)
        );
        File.Delete(Path.Combine(told, "deaf"));
        await Sentry.Eventually(() =>
            File.Exists(Path.Combine(told, "text")) && new FileInfo(Path.Combine(told, "text")).Length > 0
        );
        Assert.Equal(Sentry.Account, (await File.ReadAllTextAsync(Path.Combine(told, "who"))).Trim());
        Assert.EndsWith(
            "] fare-ledger is on hold|1|urgent|fare-ledger",
            (await File.ReadAllTextAsync(Path.Combine(told, "env"))).Trim(),
            StringComparison.Ordinal
        );
        Assert.Contains(
            "calm acknowledge 1",
            await File.ReadAllTextAsync(Path.Combine(told, "text")),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Recipients_can_be_tried_on_the_past()
    {
        await using var sentry = await With(_ => "tell:\n  - { command: [/bin/true], name: bell }\n", "bell");
        var fault = await Faulty(sentry);
        await sentry.Calm("start", "fare-ledger");
        await Alert(sentry, _ => true);
        File.Delete(fault);
        await Set(
            sentry,
            "alerts: { steady: 0 s }\ntell:\n  - { command: [/bin/true], name: other, services: [fare-ledger] }\n  - { command: [/bin/true], name: third, services: [berth-radio] }\n"
        );
        await Known(sentry, "other", "third");
        await sentry.Ok("release", "fare-ledger");
        var would = (await sentry.Ok("tell", "--replay", "1h", "--json")).Json.EnumerateArray().ToList();
        Assert.Equal(["begins", "over"], would.Select(one => Text(one, "kind")));
        Assert.All(would, one => Assert.Equal("other", Text(one, "recipient")));
        Assert.Equal(2, (await sentry.Calm("tell", "--replay", "90d")).Exit);
    }

    [Fact]
    public async Task A_report_is_shown_and_sent_at_its_rhythm()
    {
        await using var sentry = await With(
            _ =>
                "tell:\n  - { command: [/bin/true], name: bell }\n  - { command: [/bin/true], name: other }\nreport: { at: every 3 s, to: [bell] }\n",
            "bell",
            "other"
        );
        await sentry.Wrap("board", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "676");
        await sentry.Ok("adjust", "board", "--notes", "the screens");
        Assert.StartsWith("Report: all was well\n", (await sentry.Ok("report")).Output, StringComparison.Ordinal);
        await Faulty(sentry);
        await sentry.Calm("start", "fare-ledger");
        await Alert(sentry, _ => true);
        var text = (await sentry.Ok("report")).Output;
        Assert.StartsWith("Report: 1 service needs attention\n", text, StringComparison.Ordinal);
        Assert.Contains("fare-ledger is on hold; it goes on", text, StringComparison.Ordinal);
        Assert.Matches(@"board: Revision 2: .*notes.* \(" + Environment.UserName, text);
        Assert.StartsWith("<!DOCTYPE html>", (await sentry.Ok("report", "--html")).Output, StringComparison.Ordinal);
        var data = (await sentry.Ok("report", "--json", "--for", "1h")).Json;
        Assert.Equal(2, data.GetProperty("strips").GetArrayLength());
        Assert.Equal(2, (await sentry.Calm("report", "--for", "90d")).Exit);
        await Sentry.Eventually(async () => (await Messages(sentry)).Count(one => Text(one, "kind") == "report") >= 2);
        Assert.All(
            (await Messages(sentry)).Where(one => Text(one, "kind") == "report"),
            one => Assert.Equal("bell", Text(one, "recipient"))
        );
        await Set(sentry, "report: { at: daily at 07:00, to: [nobody] }\n");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "--last", "5")).Output.Contains("report.to", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task A_sign_of_life_that_does_not_arrive_is_on_record()
    {
        using var listener = new HttpListener();
        var port = Sentry.FreePort();
        listener.Prefixes.Add($"http://127.0.0.1:{port}/");
        await using var sentry = await Sentry.Start();
        await Set(sentry, $"signal: {{ ask: 'http://127.0.0.1:{port}/beat', every: 1 s }}\n");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("host", "status")).Output.Contains(
                "The sign of life does not get to",
                StringComparison.Ordinal
            )
        );
        listener.Start();
        for (var i = 0; i < 3; i++)
        {
            var asked = await listener.GetContextAsync().InTime();
            Assert.Equal("GET /beat", $"{asked.Request.HttpMethod} {asked.Request.RawUrl}");
            asked.Response.Close();
        }

        var kinds = (await sentry.Ok("logbook", "--kind", "signal-missed,signal-arrives", "--json"))
            .Json.EnumerateArray()
            .Select(one => Text(one, "code"));
        Assert.Equal(["signal-missed", "signal-arrives"], kinds);
        Assert.DoesNotContain("sign of life", (await sentry.Ok("host", "status")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Settings_hold_as_soon_as_they_are_saved_and_a_mistake_changes_nothing()
    {
        await using var sentry = await Sentry.Start();
        Assert.Contains(
            "Nobody is told when a service needs attention",
            (await sentry.Ok("board")).Output,
            StringComparison.Ordinal
        );
        // Beside other answers it is said once a day.
        await sentry.Wrap("gate", "--", "/bin/sleep", "600");
        Assert.Contains("Nobody is told", (await sentry.Ok("list")).Error, StringComparison.Ordinal);
        Assert.Equal("", (await sentry.Ok("list")).Error);
        Assert.DoesNotContain("Nobody is told", (await sentry.Calm("check", "gate")).Error, StringComparison.Ordinal);
        await sentry.Ok("unwrap", "gate", "--yes");
        await Set(sentry, "tell:\n  - { command: [/bin/true], name: bell }\n");
        await Known(sentry, "bell");
        Assert.DoesNotContain("Nobody is told", (await sentry.Ok("board")).Output, StringComparison.Ordinal);
        foreach (
            var (wrong, said) in new[]
            {
                ("tell:\n  - { mail: office@skerry.example, name: office }\n", "without a mail server"),
                ("tell:\n  - { command: [/bin/true], name: bell, next: nobody }\n", "tell[0].next"),
                ("tell:\n  - { command: [/bin/true], name: bell, about: [heldd] }\n", "heldd"),
                ("tell:\n  - { command: [/bin/true] }\n", "name"),
                ("tell:\n  - { mail: 'a@b.c\\nBcc: x@y.z', name: office }\n", "a mail address"),
            }
        )
        {
            await Set(sentry, wrong);
            await Sentry.Eventually(async () =>
                (await sentry.Ok("logbook", "--last", "5")).Output.Contains(said, StringComparison.Ordinal)
            );
            await Known(sentry, "bell");
        }

        File.Delete(sentry.Places.Settings);
        await Known(sentry);
    }

    [Fact]
    public async Task A_mistake_in_the_settings_silences_nobody_over_a_restart_either()
    {
        const string good = "tell:\n  - { command: [/bin/true], name: bell }\n";
        await using var sentry = await With(_ => good, "bell");
        await sentry.Wrap("quay-lamps", "--", "/bin/sleep", "683");
        await Set(sentry, good + "sever: x\n");
        var alert = await Alert(sentry, one => Text(one, "topic") == "settings");
        for (var served = 0; served < 2; served++)
        {
            await Known(sentry, "bell");
            foreach (
                var command in (string[][])
                    [
                        ["board", "--once"],
                        ["host", "status"],
                        ["list"],
                    ]
            )
                Assert.Contains("sever", (await sentry.Calm(command)).Told, StringComparison.Ordinal);
            Assert.True(alert.GetProperty("well-since").ValueKind == JsonValueKind.Null);
            await sentry.KillServer();
            await sentry.Serve();
        }

        await Set(sentry, good.Replace("bell", "gong", StringComparison.Ordinal) + "jobs-at-once: 7\nport: 0\n");
        await Known(sentry, "gong");
        Assert.DoesNotContain("sever", (await sentry.Ok("host", "status")).Output, StringComparison.Ordinal);
        await Alert(
            sentry,
            one => Text(one, "topic") == "settings" && one.GetProperty("well-since").ValueKind != JsonValueKind.Null
        );
        Assert.Contains(
            "jobs-at-once, port, tell; from the sentry's next start on: port.",
            (await sentry.Ok("logbook", "--kind", "settings-taken", "--last", "1")).Output,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task What_a_program_asks_stays_until_it_is_answered_or_somebody_has_seen_it()
    {
        await using var sentry = await With(_ => "tell:\n  - { command: [/bin/true], name: bell }\n", "bell");
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "said"));
        File.SetUnixFileMode(place.FullName, (UnixFileMode)0x1FF);
        var words = Path.Combine(place.FullName, "words");
        var till = sentry.Script(
            "till",
            $"""
            #!/bin/sh
            while sleep 0.05; do
              word=$(cat {words.Quoted()} 2>/dev/null) && rm {words.Quoted()} &&
                curl -s --unix-socket "$CALM_SAY" -d 'paper is out' "http://calm/$word"
            done
            """
        );
        await sentry.Wrap("till", "--start", "--", till);
        async Task Says(string word)
        {
            await File.WriteAllTextAsync(words + "~", word);
            File.SetUnixFileMode(words + "~", (UnixFileMode)0x1B6);
            File.Move(words + "~", words);
            await Sentry.Eventually(() => Task.FromResult(!File.Exists(words)));
        }

        await Says("asks");
        var asks = await Alert(sentry, one => Text(one, "topic") == "asks");
        Assert.Equal(JsonValueKind.Null, asks.GetProperty("well-since").ValueKind);
        await Says("answered");
        await Alert(sentry, one => one.GetProperty("well-since").ValueKind != JsonValueKind.Null);
        await Says("asks");
        await Alert(sentry, one => one.GetProperty("well-since").ValueKind == JsonValueKind.Null);
        Assert.Contains("over with that", (await sentry.Ok("acknowledge", "till")).Output, StringComparison.Ordinal);
        Assert.NotEqual(JsonValueKind.Null, (await Alert(sentry, _ => true)).GetProperty("over").ValueKind);

        // In a quiet time nobody is told; what still holds at its end is told then as what it is.
        await sentry.Ok("quiet", "till", "--for", "1h");
        await Says("asks");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "till", "--kind", "noted", "--json")).Json.GetArrayLength() == 3
        );
        await sentry.Ok("quiet", "till", "--end");
        var after = await Alert(sentry, one => one.GetProperty("over").ValueKind == JsonValueKind.Null);
        Assert.Equal(("asks", "urgent"), (Text(after, "topic"), Text(after, "urgency")));
    }

    [Fact]
    public async Task An_alert_can_be_put_aside_for_a_time_and_one_that_has_happened_be_closed()
    {
        await using var sentry = await With(_ => "tell:\n  - { command: [/bin/true], name: bell }\n", "bell");
        await Faulty(sentry);
        await sentry.Calm("start", "fare-ledger");
        var held = (await Alert(sentry, _ => true)).GetProperty("number").GetInt64();
        var past = await sentry.Calm("acknowledge", "fare-ledger", "--until", "2001-02-03");
        Assert.Equal(2, past.Exit);
        Assert.Contains("is past", past.Error, StringComparison.Ordinal);
        Assert.Contains(
            "put aside until",
            (await sentry.Ok("acknowledge", "fare-ledger", "--until", "2h")).Output,
            StringComparison.Ordinal
        );
        Assert.Contains("put aside until", (await sentry.Ok("tell")).Output, StringComparison.Ordinal);
        var goesOn = await sentry.Calm("tell", "--close", $"{held}");
        Assert.Equal(1, goesOn.Exit);
        Assert.Contains("goes on until that is not so", goesOn.Error, StringComparison.Ordinal);
        Assert.Equal(4, (await sentry.Calm("tell", "--close", "4711")).Exit);
    }
}
