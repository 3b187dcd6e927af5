using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>A real collector, restarted again and again, has every entry of the logbook in order once doubles are dropped.</summary>
[Needs("rsyslog", "rsyslog-openssl")]
public class ForwardTests
{
    [Fact]
    public async Task A_collector_that_comes_and_goes_has_every_entry_in_order()
    {
        await using var sentry = await Sentry.Start();
        await sentry.EndServer();
        var (tcp, tls, udp) = (Sentry.FreePort(), Sentry.FreePort(), Sentry.FreePort());
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "collector")).FullName;
        Certificates(place);
        await File.WriteAllTextAsync(
            Path.Combine(place, "rsyslog.conf"),
            $$"""
            global(workDirectory="{{place}}" maxMessageSize="8k" defaultNetstreamDriverCAFile="{{place}}/ca.pem"
                   defaultNetstreamDriverCertFile="{{place}}/cert.pem" defaultNetstreamDriverKeyFile="{{place}}/key.pem")
            module(load="imtcp") module(load="imudp")
            template(name="fields" type="list" option.jsonf="on") {
              property(outname="app" name="app-name" format="jsonf") property(outname="kind" name="msgid" format="jsonf")
              property(outname="at" name="timereported" dateFormat="rfc3339" format="jsonf")
              property(outname="host" name="hostname" format="jsonf") property(outname="level" name="syslogseverity" format="jsonf")
              property(outname="data" name="structured-data" format="jsonf") property(outname="text" name="msg" format="jsonf")
            }
            ruleset(name="tcp") { action(type="omfile" file="{{place}}/tcp.log" template="fields") }
            ruleset(name="tls") { action(type="omfile" file="{{place}}/tls.log" template="fields") }
            ruleset(name="udp") { action(type="omfile" file="{{place}}/udp.log" template="fields") }
            input(type="imtcp" address="127.0.0.1" port="{{tcp}}" ruleset="tcp")
            input(type="imtcp" address="127.0.0.1" port="{{tls}}" ruleset="tls"
                  streamDriver.name="ossl" streamDriver.mode="1" streamDriver.authMode="anon")
            input(type="imudp" address="127.0.0.1" port="{{udp}}" ruleset="udp")
            """
        );
        Directory.CreateDirectory(Path.GetDirectoryName(sentry.Places.Settings)!);
        await File.WriteAllTextAsync(
            sentry.Places.Settings,
            $$"""
            forward:
              - { tcp: 127.0.0.1:{{tcp}} }
              - { tls: localhost:{{tls}}, trust: {{place}}/ca.pem }
              - { udp: 127.0.0.1:{{udp}} }
            """
        );
        await sentry.Serve();
        await sentry.Wrap("tide", "--title", "Tide 0", "--", "/bin/sleep", "600");
        var first = (await sentry.Ok("logbook", "--kind", "wrapped", "--json")).Json[0].GetProperty("id").GetInt64();

        var title = 0;
        for (var round = 0; round < 10; round++)
        {
            using var collector = Collect(place);
            for (var i = 0; i < 4; i++)
                await Title($"Tide {++title}, <å> [high]");
            if (round == 4)
            {
                await sentry.KillServer();
                await sentry.Serve();
            }

            // Each time at another moment: at once, while it is being told, or when it has got all.
            if (round % 3 == 1)
                await Sentry.Eventually(() => Read(place, "tcp").Count > round, () => Broken(place));
            if (round % 3 == 2)
                await Sentry.Eventually(() => Has(place, "tls", $"Tide {title},"), () => Broken(place));
            await collector.End();
            await Title($"Tide {++title}, nobody there");
        }

        using var last = Collect(place);
        await Title("Tide last");
        foreach (var by in (string[])["tcp", "tls", "udp"])
            await Sentry.Eventually(() => Has(place, by, "'Tide last'"), () => Broken(place));
        // While it is there, nothing is said to wait.
        await Sentry.Eventually(async () =>
            !(await sentry.Ok("host", "status")).Output.Contains("is not forwarded", StringComparison.Ordinal)
        );
        await last.End();

        var entries = (await sentry.Ok("logbook", "--last", "1000", "--json"))
            .Json.EnumerateArray()
            .Where(entry => entry.GetProperty("id").GetInt64() >= first)
            .ToList();
        var end = entries.FindIndex(entry =>
            entry.GetProperty("text").GetString()!.Contains("'Tide last'", StringComparison.Ordinal)
        );
        foreach (var by in (string[])["tcp", "tls"])
        {
            var got = Read(place, by).DistinctBy(Sequence).Where(one => Sequence(one) >= first).ToList();
            Assert.Equal(Enumerable.Range(0, got.Count).Select(i => first + i), got.Select(Sequence));
            Assert.True(got.Count > end);
            for (var i = 0; i <= end; i++)
            {
                var entry = entries[i];
                Assert.Equal("calm-sentry", got[i].GetProperty("app").GetString());
                Assert.Equal(entry.GetProperty("code").GetString(), got[i].GetProperty("kind").GetString());
                Assert.Equal(
                    entry.GetProperty("at").GetDateTimeOffset(),
                    got[i].GetProperty("at").GetDateTimeOffset(),
                    TimeSpan.FromMilliseconds(1)
                );
                Assert.Equal(Dns.GetHostName(), got[i].GetProperty("host").GetString());
                Assert.Contains(
                    entry.GetProperty("text").GetString()!,
                    got[i].GetProperty("text").GetString(),
                    StringComparison.Ordinal
                );
            }
        }

        Assert.True(Read(place, "udp").Count > 0);
        // The hash that went along proves the logbook later.
        var hash = Read(place, "tcp").Last().GetProperty("data").GetString()!.Split("hash=\"")[1][..64];
        await sentry.Ok("logbook", "--prove", "--head", hash);

        async Task Title(string title) =>
            Assert.Equal(
                "adjusted",
                (await sentry.Call(HttpMethod.Patch, "services/tide", $$"""{"title": "{{title}}"}"""))
                    .GetProperty("code")
                    .GetString()
            );
    }

    [Fact]
    public async Task Whoever_is_not_who_it_should_be_gets_nothing_and_that_is_said()
    {
        await using var sentry = await Sentry.Start();
        await sentry.EndServer();
        var (real, other) = (Path.Combine(sentry.Places.Root, "real"), Path.Combine(sentry.Places.Root, "other"));
        foreach (var place in (string[])[real, other])
            Certificates(Directory.CreateDirectory(place).FullName);
        var port = Sentry.FreePort();
        await File.WriteAllTextAsync(
            Path.Combine(other, "rsyslog.conf"),
            $$"""
            global(workDirectory="{{other}}" defaultNetstreamDriverCAFile="{{other}}/ca.pem"
                   defaultNetstreamDriverCertFile="{{other}}/cert.pem" defaultNetstreamDriverKeyFile="{{other}}/key.pem")
            module(load="imtcp" streamDriver.name="ossl" streamDriver.mode="1" streamDriver.authMode="anon")
            action(type="omfile" file="{{other}}/tls.log")
            input(type="imtcp" address="127.0.0.1" port="{{port}}")
            """
        );
        using var collector = Collect(other);
        Directory.CreateDirectory(Path.GetDirectoryName(sentry.Places.Settings)!);
        await File.WriteAllTextAsync(
            sentry.Places.Settings,
            $"forward: [ {{ tls: localhost:{port}, trust: {real}/ca.pem }} ]\n"
        );
        await sentry.Serve();
        await sentry.Wrap("tide", "--", "/bin/sleep", "600");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("host", "status")).Output.Contains(
                $"The logbook is not forwarded to tls localhost:{port}: ",
                StringComparison.Ordinal
            )
        );
        Assert.Contains("entries wait", (await sentry.Ok("board", "--once")).Output, StringComparison.Ordinal);
        Assert.False(
            File.Exists(Path.Combine(other, "tls.log"))
                && (await File.ReadAllTextAsync(Path.Combine(other, "tls.log"))).Contains(
                    "wrapped",
                    StringComparison.Ordinal
                )
        );
        await collector.End();
    }

    /// <summary>A collector at work; it goes with the test.</summary>
    private sealed class Collector(Process process) : IDisposable
    {
        public async Task End()
        {
            Sentry.Kill(process.Id, "TERM");
            await process.WaitForExitAsync().InTime();
        }

        public void Dispose()
        {
            if (!process.HasExited)
                process.Kill();
            process.Dispose();
        }
    }

    private static Collector Collect(string place) =>
        new(
            Process.Start(
                new ProcessStartInfo(
                    "/bin/sh",
                    [
                        "-c",
                        $"exec rsyslogd -n -f {place.Quoted()}/rsyslog.conf -i {place.Quoted()}/pid >>{place.Quoted()}/said 2>&1",
                    ]
                )
            )!
        );

    /// <summary>What the collector says of a configuration it cannot use (a module that is not installed, say); null: nothing.</summary>
    private static string? Broken(string place) =>
        File.ReadLines(Path.Combine(place, "said"))
            .FirstOrDefault(line =>
                line.Contains("could not load module", StringComparison.Ordinal)
                || line.Contains("error during parsing", StringComparison.Ordinal)
            );

    private static List<JsonElement> Read(string place, string by)
    {
        var file = Path.Combine(place, by + ".log");
        return File.Exists(file)
            ? [.. File.ReadAllText(file).Split('\n').SkipLast(1).Select(line => JsonDocument.Parse(line).RootElement)]
            : [];
    }

    private static bool Has(string place, string by, string text) =>
        Read(place, by).Exists(one => one.GetProperty("text").GetString()!.Contains(text, StringComparison.Ordinal));

    private static long Sequence(JsonElement message) =>
        long.Parse(
            message.GetProperty("data").GetString()!.Split("sequenceId=\"")[1].Split('"')[0],
            CultureInfo.InvariantCulture
        );

    /// <summary>A certificate for localhost, and that of the authority it goes back to.</summary>
    private static void Certificates(string place)
    {
        using var authorityKey = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var authority = new CertificateRequest("CN=Skerry Line collectors", authorityKey, HashAlgorithmName.SHA256);
        authority.CertificateExtensions.Add(new X509BasicConstraintsExtension(true, false, 0, true));
        using var root = authority.CreateSelfSigned(
            DateTimeOffset.UtcNow.AddDays(-1),
            DateTimeOffset.UtcNow.AddDays(9)
        );
        var request = new CertificateRequest("CN=localhost", key, HashAlgorithmName.SHA256);
        var names = new SubjectAlternativeNameBuilder();
        names.AddDnsName("localhost");
        request.CertificateExtensions.Add(names.Build());
        using var certificate = request.Create(
            root,
            DateTimeOffset.UtcNow.AddDays(-1),
            DateTimeOffset.UtcNow.AddDays(8),
            [1, 2, 3]
        );
        File.WriteAllText(Path.Combine(place, "ca.pem"), root.ExportCertificatePem());
        File.WriteAllText(Path.Combine(place, "cert.pem"), certificate.ExportCertificatePem());
        File.WriteAllText(Path.Combine(place, "key.pem"), key.ExportPkcs8PrivateKeyPem());
    }
}
