namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// A machine that really boots: the sentry is installed, comes up with it, brings services up and down in order, and is
/// removed.
/// </summary>
[Needs("iproute2", "mmdebstrap")]
public class BootTests
{
    /// <summary>Says in /var/tmp/order when it has come up and when it has closed, which takes it a moment.</summary>
    private static string Program(string name) =>
        $$"""
            #!/usr/bin/perl
            sub say_it { open my $f, '>>', '/var/tmp/order'; print $f "{{name}} $_[0]\n"; close $f }
            $SIG{TERM} = sub { select undef, undef, undef, 0.2; say_it('closed'); exit 0 };
            say_it('open');
            $| = 1; print "{{name}} is open\n";
            sleep 1 while 1;
            """;

    [Fact]
    public async Task What_somebody_planted_where_it_is_installed_is_neither_run_nor_written_through()
    {
        Assert.SkipUnless(Environment.UserName == "root", "a machine within this one takes root");
        await using var machine = BootedMachine.Make();
        await machine.Boot();
        foreach (
            var folder in (string[])
                ["/usr/local", "/usr/local/lib", "/etc/calm-sentry", "/usr/local/lib/calm-sentry", "/etc/init.d"]
        )
        {
            await machine.Ok("sh", "-c", $"mkdir -p {folder}; stat -c %a {folder} >/root/mode; chmod 777 {folder}");
            var refused = await machine.Run("/opt/calm/calm", "host", "install");
            Assert.NotEqual(0, refused.Exit);
            Assert.Contains($"{folder} can be changed by others", refused.Error, StringComparison.Ordinal);
            Assert.False(machine.Has("/usr/local/lib/calm-sentry/calm-sentry"));
            await machine.Ok("sh", "-c", $"chmod $(cat /root/mode) {folder}");
        }

        // What was put there while somebody could: a folder of theirs, links where something is written beside, a program of theirs.
        await machine.Ok("sh", "-c", "chown nobody /usr/local/lib/calm-sentry");
        Assert.Contains(
            "/usr/local/lib/calm-sentry belongs to 65534",
            (await machine.Run("/opt/calm/calm", "host", "install")).Error,
            StringComparison.Ordinal
        );
        await machine.Ok(
            "sh",
            "-c",
            "chown root /usr/local/lib/calm-sentry; cd /usr/local/lib/calm-sentry; echo mine >/root/mine; ln -s /root/mine calm-sentry.new; "
                + "ln -s /root/mine calm-keeper; ln -s /root/mine calm-keeper.before; cp /opt/calm/calm calm; chown nobody calm; "
                + "ln -s /root/mine /etc/init.d/calm-sentry.new; ln -s /root/mine /usr/local/bin/calm"
        );
        await machine.Ok("/opt/calm/calm", "host", "install");
        Assert.Equal("mine\n", machine.Read("/root/mine"));
        Assert.Equal(
            "0 755\n0 755\n0 755\n",
            (
                await machine.Ok(
                    "sh",
                    "-c",
                    "cd /usr/local/lib/calm-sentry; stat -c '%u %a' calm calm-keeper calm-sentry; [ ! -L calm-keeper ] && [ ! -L calm ]"
                )
            ).Output
        );
        // The same for an upgrade over it.
        await machine.Ok(
            "sh",
            "-c",
            "cp -r /opt/calm /opt/next && echo next >>/opt/next/calm-keeper; cd /usr/local/lib/calm-sentry; "
                + "ln -sf /root/mine calm-keeper.new; ln -sf /root/mine calm-keeper.before"
        );
        await machine.Ok("/opt/next/calm", "host", "install");
        Assert.Equal("mine\n", machine.Read("/root/mine"));
        await machine.Ok("calm", "host", "remove", "--with-definitions");
    }

    [Fact]
    public async Task Installed_it_comes_up_with_the_machine_and_goes_down_with_it_in_order()
    {
        Assert.SkipUnless(Environment.UserName == "root", "a machine within this one takes root");
        await using var machine = BootedMachine.Make();
        foreach (var name in new[] { "tide", "ledger", "late" })
            machine.Write($"/opt/{name}", Program(name));
        await machine.Boot();
        var installed = await machine.Ok("/opt/calm/calm", "host", "install");
        Assert.Contains("put       /etc/init.d/calm-sentry", installed.Output, StringComparison.Ordinal);
        Assert.Contains("Calm Sentry 0.1.0 serves this machine", installed.Output, StringComparison.Ordinal);
        var again = await machine.Ok("calm", "host", "install");
        Assert.DoesNotContain("put  ", again.Output, StringComparison.Ordinal);
        Assert.Contains("as it is  /usr/local/lib/calm-sentry/calm-sentry", again.Output, StringComparison.Ordinal);
        Assert.Contains(
            "and starts with the machine.",
            (await machine.Ok("calm", "host", "status")).Output,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "tide",
            (
                await machine.Ok(
                    "sh",
                    "-c",
                    "chmod 1777 /var/tmp; calm account permit nobody && calm wrap tide --account nobody --at boot "
                        + "--proof 'output:tide is open' -- /opt/tide && calm '[suggest:11]' 'calm start '"
                )
            ).Output,
            StringComparison.Ordinal
        );
        await machine.Ok(
            "calm",
            "wrap",
            "ledger",
            "--account",
            "nobody",
            "--at",
            "boot",
            "--need",
            "service:tide",
            "--proof",
            "output:ledger is open",
            "--",
            "/opt/ledger"
        );
        await machine.Ok(
            "calm",
            "wrap",
            "late",
            "--account",
            "nobody",
            "--at",
            "boot-late",
            "--proof",
            "output:late is open",
            "--",
            "/opt/late"
        );
        Assert.All(
            (await machine.Ok("calm", "list", "--json")).Json.EnumerateArray(),
            view => Assert.Equal("stopped", view.GetProperty("state").GetString())
        ); // registered is not running

        const int restarted = 1,
            poweredOff = 2;
        await machine.Run("/sbin/reboot");
        Assert.Equal(restarted, await machine.Down());

        await machine.Boot();
        var report = await Report(machine);
        Assert.True(report.GetProperty("came-true").GetBoolean(), report.GetRawText());
        Assert.Equal(
            ["tide", "ledger", "late"],
            report.GetProperty("services").EnumerateArray().Select(view => view.GetProperty("name").GetString())
        );
        Assert.Empty(report.GetProperty("logged-in").EnumerateArray());
        Assert.True(
            report.GetProperty("began").GetDateTimeOffset() >= report.GetProperty("booted").GetDateTimeOffset()
        );
        Assert.Contains(
            "Nobody was logged in.",
            (await machine.Ok("calm", "drill", "--last-boot")).Output,
            StringComparison.Ordinal
        );
        Assert.Equal(["tide open", "ledger open", "late open"], Order(machine));

        // A network and a mount that come late, in a machine that has neither.
        await machine.Ok(
            "calm",
            "wrap",
            "far",
            "--account",
            "nobody",
            "--need",
            "network",
            "--need",
            "path:/mnt,mounted",
            "--proof",
            "up-for:0s",
            "--",
            "/bin/sleep",
            "600"
        );
        var asked = machine.Run("calm", "start", "far");
        await Missing(machine, "this host has no address but loopback's", "nothing is mounted there");
        await machine.PlugIn();
        await Missing(machine, "nothing is mounted there");
        await machine.Ok("mount", "-t", "tmpfs", "tmpfs", "/mnt");
        Assert.Equal(0, (await asked).Exit);
        await machine.Ok("calm", "stop", "far");

        // The sentry's own restart leaves programs as they are.
        var pid = (await machine.Ok("calm", "show", "tide", "--json")).Json.GetProperty("pid").GetInt32();
        await machine.Ok("/etc/init.d/calm-sentry", "restart");
        Assert.Equal(pid, (await machine.Ok("calm", "show", "tide", "--json")).Json.GetProperty("pid").GetInt32());

        await Renewed(machine, pid);

        await machine.Run("/sbin/poweroff");
        Assert.Equal(poweredOff, await machine.Down());
        var closed = Order(machine)[3..];
        Assert.Equal(3, closed.Length);
        Assert.True(
            Array.IndexOf(closed, "ledger closed") < Array.IndexOf(closed, "tide closed"),
            string.Join(", ", closed)
        );

        // Boot, cut the power, boot: what was lost is known, and all of it is back.
        await machine.Boot();
        await Report(machine);
        await machine.Cut();
        await machine.Boot();
        await Report(machine);
        var shown = (await machine.Ok("calm", "show", "ledger", "--json")).Json;
        Assert.Equal("running", shown.GetProperty("state").GetString());
        Assert.Equal("machine-lost", shown.GetProperty("runs")[1].GetProperty("outcome").GetString());
        Assert.Equal("boot", shown.GetProperty("runs")[0].GetProperty("cause").GetString());

        // Guard and server gone, programs left behind: what takes the sentry away still winds them down.
        await machine.Ok("sh", "-c", "kill -9 $(cat /run/calm-sentry/guard.pid) $(cat /run/calm-sentry/server.pid)");
        var removed = await machine.Ok("/opt/calm/calm", "host", "remove");
        Assert.Contains("3 services wound down", removed.Output, StringComparison.Ordinal);
        foreach (
            var gone in new[]
            {
                "/etc/init.d/calm-sentry",
                "/etc/rc2.d/S01calm-sentry",
                "/usr/local/lib/calm-sentry",
                "/usr/local/bin/calm",
                "/usr/local/share/man/man1/calm.1",
            }
        )
            Assert.False(machine.Has(gone), gone);
        Assert.True(machine.Has("/var/lib/calm-sentry/sentry.db"));
        machine.Write("/etc/calm-sentry/sentry.yaml", "# ours\nshutdown-within: 20 s\nport: 7373\n");
        await machine.Ok("/opt/calm/calm", "host", "install", "--port", "7390");
        Assert.Equal("# ours\nshutdown-within: 20 s\nport: 7390\n", machine.Read("/etc/calm-sentry/sentry.yaml"));
        Assert.Contains(
            "http://127.0.0.1:7390/",
            (await machine.Ok("calm", "host", "status", "--json")).Output,
            StringComparison.Ordinal
        );
        await Sentry.Eventually(async () =>
            (await machine.Ok("calm", "list", "--json"))
                .Json.EnumerateArray()
                .Count(view => view.GetProperty("state").GetString() == "running") == 3
        );
        await machine.Ok("/opt/calm/calm", "host", "remove");
        Assert.Contains(
            "not there /usr/local/bin/calm",
            (await machine.Ok("/opt/calm/calm", "host", "remove", "--with-definitions")).Output,
            StringComparison.Ordinal
        );
        Assert.False(machine.Has("/var/lib/calm-sentry"));
        await machine.Run("/sbin/poweroff");
        Assert.Equal(poweredOff, await machine.Down());
    }

    /// <summary>
    /// Another version over the one that serves comes into force at once; one that does not serve is taken back. Programs
    /// keep their pids through both.
    /// </summary>
    private static async Task Renewed(BootedMachine machine, int pid)
    {
        async Task<(int Server, int Program, string File)> Seen() =>
            (
                (await machine.Ok("calm", "host", "status", "--json")).Json.GetProperty("pid").GetInt32(),
                (await machine.Ok("calm", "show", "tide", "--json")).Json.GetProperty("pid").GetInt32(),
                (await machine.Ok("sh", "-c", "readlink /proc/$(cat /run/calm-sentry/server.pid)/exe")).Output.Trim()
            );

        var before = await Seen();
        Assert.Equal(pid, before.Program);
        // What follows a program's end in its file is nothing to the kernel, and yet it is another file.
        await machine.Ok("sh", "-c", "cp -r /opt/calm /opt/next && echo next >>/opt/next/calm-sentry");
        var renewed = await machine.Ok("/opt/next/calm", "host", "install");
        Assert.Contains("renewed   /usr/local/lib/calm-sentry/calm-sentry", renewed.Output, StringComparison.Ordinal);
        var after = await Seen();
        Assert.Equal(("/usr/local/lib/calm-sentry/calm-sentry", pid), (after.File, after.Program));
        Assert.NotEqual(before.Server, after.Server);

        await machine.Ok("sh", "-c", "printf '#!/bin/sh\\necho it is broken\\nexit 1\\n' >/opt/next/calm-sentry");
        var broken = await machine.Run("/opt/next/calm", "host", "install");
        Assert.Equal(1, broken.Exit);
        Assert.Contains("was taken back: the one before is in force again", broken.Error, StringComparison.Ordinal);
        var back = await Seen();
        Assert.Equal((after.File, pid), (back.File, back.Program));
        Assert.False(machine.Has("/usr/local/lib/calm-sentry/calm-sentry.before"));
        await machine.Ok("/opt/calm/calm", "host", "install");
    }

    /// <summary>The report of this boot, once all have come to rest.</summary>
    private static async Task<System.Text.Json.JsonElement> Report(BootedMachine machine)
    {
        Said said = new(1, "", "");
        await Sentry.Eventually(async () =>
            (said = await machine.Run("calm", "drill", "--last-boot", "--json")) is { Exit: 0 or 1, Output.Length: > 0 }
            && said.Json.GetProperty("booted").GetDateTimeOffset()
                > DateTimeOffset.UtcNow - await UpFor(machine) - TimeSpan.FromSeconds(3)
        );
        return said.Json;
    }

    /// <summary>Waits until exactly this is missing.</summary>
    private static Task Missing(BootedMachine machine, params string[] words) =>
        Sentry.Eventually(async () =>
            (await machine.Ok("calm", "show", "far", "--json")).Json.GetProperty("awaits")
                is { ValueKind: System.Text.Json.JsonValueKind.Array } waits
            && words.SequenceEqual(waits.EnumerateArray().Select(wait => wait.GetProperty("missing").GetString()))
        );

    /// <summary>How long process 1 has lived.</summary>
    private static async Task<TimeSpan> UpFor(BootedMachine machine) =>
        TimeSpan.FromSeconds(
            int.Parse(
                (
                    await machine.Ok(
                        "sh",
                        "-c",
                        "echo $(($(cut -d. -f1 /proc/uptime) - $(cut -d' ' -f22 /proc/1/stat) / 100))"
                    )
                ).Output,
                System.Globalization.CultureInfo.InvariantCulture
            )
        );

    private static string[] Order(BootedMachine machine) =>
        machine.Read("/var/tmp/order").Split('\n', StringSplitOptions.RemoveEmptyEntries);
}
