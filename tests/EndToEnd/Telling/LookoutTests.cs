using System.Diagnostics;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd.Telling;

/// <summary>What nobody asked about is found all the same: a second copy, what expires, and what a check finds anew.</summary>
public class LookoutTests
{
    private static async Task<Sentry> LooksOften(Func<Sentry, string>? more = null)
    {
        var sentry = await Sentry.Start();
        await sentry.KillServer();
        await TellTests.Set(
            sentry,
            "lookout: { every: 1 s, checks: every 10 s }\nalerts: { gather: 1 s }\n" + more?.Invoke(sentry)
        );
        await sentry.Serve();
        return sentry;
    }

    private static async Task<List<string>> Logged(Sentry sentry, string kind) =>
        [
            .. (await sentry.Ok("logbook", "--kind", kind, "--last", "1000"))
                .Output.Split('\n', StringSplitOptions.RemoveEmptyEntries)
                .Skip(1), // its head
        ];

    [Fact]
    public async Task A_copy_that_somebody_starts_beside_a_service_is_told_once_and_its_own_children_are_none()
    {
        await using var sentry = await LooksOften();
        // All of it sheds its environment, and looks just like a copy for that.
        var script = sentry.Script(
            "gate-counter.sh",
            "#!/bin/sh\n[ -n \"$CALM_RUN\" ] && { env -i /bin/sh \"$0\" worker & exec env -i /bin/sh \"$0\" worker; }\nsleep 671\n"
        );
        await sentry.Wrap("gate-counter", "--", script, "worker");
        await sentry.Ok("start", "gate-counter");
        using var first = new Copy(script);
        var alert = await TellTests.Alert(sentry, _ => true);
        Assert.Contains("runs twice", TellTests.Text(alert, "subject"), StringComparison.Ordinal);
        Assert.Contains($"pid {first.Id},", Assert.Single(await Logged(sentry, "copy-seen")), StringComparison.Ordinal);

        // A server that returns does not say it again; it says what is new.
        await sentry.KillServer();
        await sentry.Serve();
        using var second = new Copy(script);
        await Sentry.Eventually(async () => (await Logged(sentry, "copy-seen")).Count > 1);
        Assert.Contains($"pid {second.Id},", (await Logged(sentry, "copy-seen"))[1], StringComparison.Ordinal);
        Assert.Contains("A copy of it runs", (await sentry.Ok("report")).Output, StringComparison.Ordinal);

        // It goes on until the last of them has ended.
        Assert.Equal(
            JsonValueKind.Null,
            (await TellTests.Alert(sentry, _ => true)).GetProperty("well-since").ValueKind
        );
        first.Dispose();
        await Sentry.Eventually(async () => (await Logged(sentry, "copy-over")).Count == 1);
        second.Dispose();
        await Sentry.Eventually(async () => (await Logged(sentry, "copy-over")).Count == 2);
        await TellTests.Alert(sentry, one => one.GetProperty("well-since").ValueKind != JsonValueKind.Null);
    }

    /// <summary>The very command line, typed by hand beside it, is told whatever its interpreter; a stranger's is named and wakes nobody.</summary>
    [Fact]
    public async Task The_same_behind_an_interpreter_of_the_hosts_is_told_and_a_strangers_only_named()
    {
        if (Environment.UserName != "root" || !File.Exists("/usr/bin/python3"))
            Assert.Skip("needs root to act as other accounts, and python3");
        await using var sentry = await LooksOften();
        var script = sentry.Script("robot.py", "import time\nwhile True: time.sleep(1)\n");
        await sentry.Wrap("robot", "--proof", "up-for:50ms", "--start", "--", "/usr/bin/python3", script, "book");
        using var theirs = Sentry.Began("daemon", "/usr/bin/python3", script, "book");
        await Sentry.Eventually(async () => (await Logged(sentry, "copy-named")).Count == 1);
        Assert.Contains(
            $"pid {theirs.Id}, as daemon",
            (await Logged(sentry, "copy-named"))[0],
            StringComparison.Ordinal
        );
        Assert.Empty(await Logged(sentry, "copy-seen"));
        using var copy = Sentry.Began("root", "env", "-C", sentry.Places.Root, "/usr/bin/python3", "robot.py", "book");
        var alert = await TellTests.Alert(sentry, _ => true);
        Assert.Contains("runs twice", TellTests.Text(alert, "subject"), StringComparison.Ordinal);
        Assert.Contains(
            $"pid {copy.Id}, as root",
            Assert.Single(await Logged(sentry, "copy-seen")),
            StringComparison.Ordinal
        );
        Assert.Single(await Logged(sentry, "copy-named"));
        await Sentry.End(copy);
        await Sentry.End(theirs);
    }

    /// <summary>What somebody started by hand, until the test is over.</summary>
    private sealed class Copy(string script) : IDisposable
    {
        private readonly Process process = Process.Start("/bin/sh", [script, "worker"]);

        public int Id => process.Id;

        private bool ended;

        public void Dispose()
        {
            if (ended)
                return;
            ended = true;
            process.Kill(entireProcessTree: true);
            process.Dispose();
        }
    }

    [Fact]
    public async Task What_expires_is_told_before_and_what_a_check_finds_anew_is_in_the_report()
    {
        // The sentry's own as well: what it trusts its collectors and its mail server by.
        await using var sentry = await LooksOften(sentry =>
            $"forward: [ {{ tls: localhost:1, trust: {sentry.Places.Root}/quay.pem }} ]\n"
            + $"mail: {{ server: localhost:1, from: sentry@quay.skerry.example, trust: {sentry.Places.Root}/quay.pem }}\n"
        );
        var file = Path.Combine(sentry.Places.Root, "quay.pem");
        using (var key = RSA.Create(2048))
        {
            var request = new CertificateRequest(
                "CN=quay.skerry.example",
                key,
                HashAlgorithmName.SHA256,
                RSASignaturePadding.Pkcs1
            );
            using var certificate = request.CreateSelfSigned(
                DateTimeOffset.Now.AddDays(-1),
                DateTimeOffset.Now.AddDays(5)
            );
            await File.WriteAllTextAsync(file, certificate.ExportCertificatePem());
        }

        await sentry.Wrap("departure-board", "--", "/bin/sleep", "672", $"--certificate={file}");
        var said = await sentry.Calm("check", "departure-board");
        Assert.Contains(
            $"The certificate of {file} (quay.skerry.example) expires on ",
            said.Output,
            StringComparison.Ordinal
        );
        foreach (var of in new[] { "forward.trust", "mail.trust" })
            await Sentry.Eventually(async () =>
                (await Logged(sentry, "found")).Any(line =>
                    line.Contains($"The certificate of {of}, {file} (quay.skerry.example)", StringComparison.Ordinal)
                )
            );
        var alert = await TellTests.Alert(
            sentry,
            one => one.GetProperty("affected").EnumerateArray().Any(of => TellTests.Text(of, "service") is not null)
        );
        Assert.Contains("uses something that expires", TellTests.Text(alert, "subject"), StringComparison.Ordinal);

        // Nothing else was new; now there is.
        Assert.Equal(3, (await Logged(sentry, "found")).Count);
        await sentry.Ok("adjust", "departure-board", "--environment", "GATE_PASSWORD=kelp");
        await Sentry.Eventually(async () => (await Logged(sentry, "found")).Count > 3);
        Assert.Contains("secret-in-plain", (await Logged(sentry, "found"))[3], StringComparison.Ordinal);
        var report = (await sentry.Ok("report")).Output;
        Assert.Contains("What checks found that is new", report, StringComparison.Ordinal);
        Assert.Contains("A check finds secret-in-plain", report, StringComparison.Ordinal);
        Assert.Equal(2, (await sentry.Ok("tell", "--json")).Json.GetArrayLength());
    }
}
