using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text;
using CalmSentry.Tests.EndToEnd.Telling;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>The sentry's own settings: whatever is wrong with them is said, and keeps no service down.</summary>
public class SettingsTests
{
    [Theory]
    [InlineData("prt: 7373\n", "prt: not a key of this place")]
    [InlineData("port: PORT\n", "is taken; it is served on another one")]
    public async Task What_is_wrong_with_them_is_said_and_keeps_no_service_down(string settings, string said)
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "600");
        await sentry.KillServer();
        using var holder = new TcpListener(IPAddress.Loopback, 0);
        holder.Start();
        Directory.CreateDirectory(Path.GetDirectoryName(sentry.Places.Settings)!);
        // The wrong key leaves the default port, which this machine may have in use, too: either way it serves.
        await File.WriteAllTextAsync(
            sentry.Places.Settings,
            settings.Replace("PORT", $"{((IPEndPoint)holder.LocalEndpoint).Port}", StringComparison.Ordinal)
        );
        using var server = Process.Start(
            new ProcessStartInfo(sentry.Program("calm-sentry"), ["serve", "--root", sentry.Places.Root])
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        await sentry.Ok("host", "status", "--wait", "30s");
        Assert.Contains(said, (await sentry.Ok("logbook")).Output, StringComparison.Ordinal);
        Assert.Equal("running", (await sentry.Show("tide")).GetProperty("state").GetString());
        await sentry.Ok("open");
        Sentry.Kill(server.Id, "TERM");
        await server.WaitForExitAsync();
    }

    [Fact]
    public async Task All_but_the_port_hold_as_soon_as_they_are_saved()
    {
        await using var sentry = await Sentry.Start();
        var script = sentry.Script("tide.sh", "#!/bin/sh\nsleep 600\n");
        await Taken(sentry, "jobs-at-once: 1\nlookout: { every: 1 h }\n");
        foreach (var name in (string[])["tide-pull", "tide-push"])
            await sentry.Wrap(name, ["--kind", "periodic", "--rhythm", "run:every 10 s from 00:00", "--", script]);
        await Sentry.Eventually(async () => await States("running", "waiting"));
        using var first = new UdpClient(new IPEndPoint(IPAddress.Loopback, 0));
        await Taken(sentry, $"lookout: {{ every: 1 h }}\nforward: [ {{ udp: {first.Client.LocalEndPoint} }} ]\n");
        await Sentry.Eventually(async () => await States("running", "running"));
        Assert.Contains("calm-sentry", await Received(first), StringComparison.Ordinal);

        // Another collector in its place gets what comes, and the one before nothing more; the lookout does not wait for its hour.
        using var second = new UdpClient(new IPEndPoint(IPAddress.Loopback, 0));
        await Taken(sentry, $"lookout: {{ every: 1 s }}\nforward: [ {{ udp: {second.Client.LocalEndPoint} }} ]\n");
        using var copy = Process.Start("/bin/sh", [script]);
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "--kind", "copy-seen", "--json")).Json.GetArrayLength() > 0
        );
        while (!(await Received(second)).Contains("copy-seen", StringComparison.Ordinal)) { }
        while (first.Available > 0)
            Assert.DoesNotContain("copy-seen", await Received(first), StringComparison.Ordinal);
        copy.Kill(entireProcessTree: true);

        async Task<bool> States(params string[] states) =>
            (await sentry.Ok("list", "--json"))
                .Json.EnumerateArray()
                .Select(one => one.GetProperty("state").GetString()!)
                .Order(StringComparer.Ordinal)
                .SequenceEqual(states);
    }

    /// <summary>Settings as they are saved while it runs, once it has taken them.</summary>
    private static async Task Taken(Sentry sentry, string settings)
    {
        var before = await Count();
        await TellTests.Set(sentry, settings);
        await Sentry.Eventually(async () => await Count() > before);

        async Task<int> Count() =>
            (await sentry.Ok("logbook", "--kind", "settings-taken", "--json")).Json.GetArrayLength();
    }

    private static async Task<string> Received(UdpClient collector) =>
        Encoding.UTF8.GetString((await collector.ReceiveAsync().WaitAsync(Sentry.Limit)).Buffer);

    [Fact]
    public async Task They_are_read_before_they_are_put_in_place()
    {
        await using var sentry = await Sentry.Start();
        var file = Path.Combine(sentry.Places.Root, "new.yaml");
        await File.WriteAllTextAsync(
            file,
            """
            port: 0
            mail: { server: mail.skerry.example:587, from: sentry@quay.skerry.example, user: sentry, password: MAIL_WORD }
            tell:
              - { mail: office@skerry.example, name: office }
              - webhook: https://hooks.skerry.example/sentry
                name: hooks
                key: HOOK_KEY
              - { command: [/opt/nothing/bell], name: bell, account: nobody-knows }
            """
        );
        var said = await sentry.Calm("check", file);
        Assert.Equal(1, said.Exit);
        foreach (
            var line in (string[])
                [
                    "line 2, column 100: mail.password: the sentry has no secret MAIL_WORD with a value",
                    "line 7, column 10: tell[1].key: the sentry has no secret HOOK_KEY with a value",
                    "line 8, column 58: tell[2].account: there is no account 'nobody-knows' on this host",
                    "line 8, column 16: tell[2].command: there is no program /opt/nothing/bell",
                    "calm secret set --sentry HOOK_KEY",
                    "In place, mail and tell would hold at once, port from the sentry's next start on.",
                ]
        )
            Assert.Contains(line, said.Output, StringComparison.Ordinal);
        Assert.False(File.Exists(sentry.Places.Settings));

        // What has a mistake is said with its place; what may be either is asked about.
        await File.WriteAllTextAsync(file, "port: 0\ntell:\n  - { mail: office@skerry.example, name: office }\n");
        said = await sentry.Calm("check", file);
        Assert.Equal(2, said.Exit);
        Assert.Contains($"{file}: line 3, column 13: tell[0].mail: ", said.Output, StringComparison.Ordinal);
        foreach (
            var text in (string[])
                ["prt: 0\n", "port: 0\nname: tide\n", "# nothing\n", "{ \"port\": 0, \"name\": \"tide\" }"]
        )
        {
            await File.WriteAllTextAsync(file, text);
            said = await sentry.Calm("check", file);
            Assert.Equal(2, said.Exit);
            Assert.Contains("calm check --settings ", said.Error, StringComparison.Ordinal);
        }

        await File.WriteAllTextAsync(file, "# nothing\n");
        Assert.Equal(
            "The settings have no mistake. They say what holds already.",
            (await sentry.Ok("check", "--settings", file)).Output.Trim()
        );
        await File.WriteAllTextAsync(
            file,
            "name: tide\nprogram: { path: /bin/sleep, arguments: ['9'] }\nidentity: { account: nobody }\n"
        );
        Assert.Contains("/bin/sleep 9", (await sentry.Calm("check", file)).Output, StringComparison.Ordinal);
    }
}
