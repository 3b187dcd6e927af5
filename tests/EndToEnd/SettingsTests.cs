using System.Diagnostics;
using System.Net;
using System.Net.Sockets;

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
}
