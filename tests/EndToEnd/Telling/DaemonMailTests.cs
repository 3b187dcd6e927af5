using System.Diagnostics;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using MimeKit;

namespace CalmSentry.Tests.EndToEnd.Telling;

/// <summary>Mail through a real mail server from Debian's packages: secured line, sign-in, greylisting, delivery into a box.</summary>
[Needs("exim4-daemon-light")]
public class DaemonMailTests
{
    private const string User = "Debian-exim";

    private static string Rules(string place, int port) =>
        """
            primary_hostname = localhost
            daemon_smtp_ports = PORT
            local_interfaces = 127.0.0.1
            spool_directory = PLACE/spool
            log_file_path = PLACE/%s.log
            pid_file_path = PLACE/exim.pid
            tls_advertise_hosts = *
            tls_certificate = PLACE/cert.pem
            tls_privatekey = PLACE/key.pem
            auth_advertise_hosts = ${if eq{$tls_in_cipher}{}{}{*}}
            acl_smtp_rcpt = recipient
            deliver_drop_privilege = true
            queue_run_max = 1

            begin acl
            recipient:
              deny    !authenticated = *
                      message = sign in first
              # Of whoever comes the first time it is not known whether they come again.
              defer   condition = ${if exists{PLACE/known}{0}{1}}
                      condition = ${if eq{${run{/usr/bin/touch "PLACE/known"}}}{}{1}{1}}
                      message = greylisted, come again
              accept  domains = skerry.example
              deny    message = no such place

            begin authenticators
            plain:
              driver = plaintext
              public_name = PLAIN
              server_prompts = :
              server_condition = ${if and{{eq{$auth2}{USER}}{eq{$auth3}{WORD}}}}
              server_set_id = $auth2

            begin routers
            box:
              driver = accept
              transport = box

            begin transports
            box:
              driver = appendfile
              file = PLACE/box
              user = MAILER
              envelope_to_add = true
            """.Replace("PLACE", place, StringComparison.Ordinal).Replace(
            "PORT",
            $"{port}",
            StringComparison.Ordinal
        ).Replace("MAILER", User, StringComparison.Ordinal).Replace(
            "USER",
            PostOffice.User,
            StringComparison.Ordinal
        ).Replace("WORD", PostOffice.Password, StringComparison.Ordinal);

    [Fact]
    public async Task It_is_taken_and_lies_in_the_box()
    {
        Assert.SkipUnless(Environment.UserName == "root", "a mail server takes its account only from root");
        await using var sentry = await Sentry.Start();
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "mail")).FullName;
        var port = Sentry.FreePort();
        Certificates(place);
        await File.WriteAllTextAsync(Path.Combine(place, "exim.conf"), Rules(place, port));
        Directory.CreateDirectory(Path.Combine(place, "spool"));
        await Process.Start("chown", ["-R", User, place]).WaitForExitAsync();
        await Process.Start("chown", ["root", Path.Combine(place, "exim.conf")]).WaitForExitAsync();
        File.SetUnixFileMode(Path.Combine(place, "exim.conf"), (UnixFileMode)0b110_100_100);
        using var exim = Process.Start(
            new ProcessStartInfo("exim4", ["-C", Path.Combine(place, "exim.conf"), "-bdf", "-q1m"])
            {
                RedirectStandardError = true,
            }
        )!;
        try
        {
            await sentry.Piped(PostOffice.Password, "secret", "set", "--sentry", "MAIL_PASSWORD");
            await TellTests.Set(
                sentry,
                $"mail: {{ server: localhost:{port}, from: sentry@quay.skerry.example, user: {PostOffice.User}, password: MAIL_PASSWORD, trust: {place}/cert.pem }}\n"
                    + "tell:\n  - { mail: office@skerry.example, name: quay-office }\n  - { mail: nobody@elsewhere.example, name: elsewhere }\n"
            );
            await TellTests.Known(sentry, "quay-office", "elsewhere");
            await TellTests.Faulty(sentry);
            await sentry.Calm("start", "fare-ledger");
            var box = Path.Combine(place, "box");
            await Sentry.Eventually(() => File.Exists(box) && new FileInfo(box).Length > 0);
            await Sentry.Eventually(async () =>
                (await TellTests.Messages(sentry)).All(one => TellTests.Text(one, "state") != "waiting")
            );
            var mail = await Only(box);
            Assert.EndsWith("fare-ledger is on hold", mail.Subject, StringComparison.Ordinal);
            Assert.Equal("office@skerry.example", mail.Headers["Envelope-to"]);
            Assert.Contains("calm release fare-ledger", mail.TextBody, StringComparison.Ordinal);
            var messages = (await TellTests.Messages(sentry)).ToDictionary(
                one => TellTests.Text(one, "recipient")!,
                one => one
            );
            Assert.Equal("delivered", TellTests.Text(messages["quay-office"], "state"));
            Assert.Equal("refused", TellTests.Text(messages["elsewhere"], "state"));
            Assert.Contains("no such place", TellTests.Text(messages["elsewhere"], "answer"), StringComparison.Ordinal);
            Assert.Contains(messages.Values, one => one.GetProperty("tries").GetInt32() == 2);
        }
        finally
        {
            exim.Kill(entireProcessTree: true);
            await exim.WaitForExitAsync();
        }
    }

    /// <summary>The one mail in a box of one after the other (mbox).</summary>
    private static async Task<MimeMessage> Only(string box)
    {
        await using var file = File.OpenRead(box);
        var parser = new MimeParser(file, MimeFormat.Mbox);
        var mail = await parser.ParseMessageAsync();
        Assert.True(parser.IsEndOfStream);
        return mail;
    }

    private static void Certificates(string place)
    {
        using var key = RSA.Create(2048);
        var asked = new CertificateRequest("CN=localhost", key, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
        var names = new SubjectAlternativeNameBuilder();
        names.AddDnsName("localhost");
        asked.CertificateExtensions.Add(names.Build());
        asked.CertificateExtensions.Add(new X509BasicConstraintsExtension(true, false, 0, true));
        using var made = asked.CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(30));
        File.WriteAllText(Path.Combine(place, "cert.pem"), made.ExportCertificatePem());
        File.WriteAllText(Path.Combine(place, "key.pem"), key.ExportPkcs8PrivateKeyPem());
    }
}
