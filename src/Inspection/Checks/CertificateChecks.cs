using System.Globalization;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Authentication;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Rhythms;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Inspection.Checks;

/// <summary>
/// Certificates that end soon: files that its arguments and environment name, and what it shows where its proof or a watch asks it by
/// https.
/// </summary>
internal static class CertificateChecks
{
    private static readonly TimeSpan Soon = TimeSpan.FromDays(14),
        Patience = TimeSpan.FromSeconds(3);

    private const int Longest = 1 << 20,
        MostFiles = 50;

    public static async Task<IReadOnlyList<Finding>> Look(Subject subject)
    {
        var (definition, now) = (subject.Definition, subject.Clocks.Now);
        var seen = Files(definition.Program).Take(MostFiles).Select(file => Expiring("of", file, now)).ToList();
        if (subject.Runs)
            foreach (var address in Addresses(definition).Distinct())
                if (await Shown(address).ConfigureAwait(false) is { } shown)
                    using (shown)
                        seen.Add(Expiring($"that {address.Authority} shows", shown, now));
        return
        [
            .. seen.OfType<Finding>()
                .Select(one =>
                    one with
                    {
                        Why = "From then on whoever connects refuses it.",
                        Mend = "Have it renewed, and see to it that the program takes the new one.",
                    }
                ),
        ];
    }

    /// <param name="whose">Words before the file's name.</param>
    /// <returns>That the certificate in a file (PEM, the first) ends soon; null: it does not, or there is none.</returns>
    public static Finding? Expiring(string whose, string file, DateTimeOffset now)
    {
        try
        {
            var text = Encoding.ASCII.GetString(Held.Head(Ground.Certificate, file, Longest));
            if (!text.Contains("-----BEGIN CERTIFICATE-----", StringComparison.Ordinal))
                return null;
            using var certificate = X509Certificate2.CreateFromPem(text);
            return Expiring($"{whose} {file}", certificate, now);
        }
        catch (Exception error)
            when (error is IOException or UnauthorizedAccessException or CryptographicException or ArgumentException)
        {
            return null; // what cannot be read is another check's to find
        }
    }

    private static Finding? Expiring(string whose, X509Certificate2 certificate, DateTimeOffset now)
    {
        var end = new DateTimeOffset(certificate.NotAfter);
        if (end - now > Soon)
            return null;
        var name = Shown(certificate.GetNameInfo(X509NameType.SimpleName, forIssuer: false));
        var when = WallClock.In(end, TimeZoneInfo.Local).ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);
        return new(
            FindingCode.CertificateExpires,
            Severity.Risk,
            $"The certificate {whose} ({name}) {(end <= now ? "expired" : "expires")} on {when}.",
            "",
            "",
            Subject: $"{certificate.Thumbprint} {end.ToUniversalTime():u}{(end <= now ? " over" : "")}"
        );
    }

    /// <summary>A certificate's name is whatever its maker wrote.</summary>
    private static string Shown(string name) =>
        Core.Text.Shown.Line(name is { Length: > 100 } ? name[..100] + "…" : name);

    private static IEnumerable<string> Files(ProgramPart program) =>
        program
            .Arguments.Concat(program.Environment.Values)
            .Select(text =>
                text.StartsWith('-') && text.IndexOf('=', StringComparison.Ordinal) is > 0 and var at
                    ? text[(at + 1)..]
                    : text
            )
            .Where(text => text.Length is > 1 and < 4096 && !text.Contains('\0', StringComparison.Ordinal))
            .Select(text =>
                Path.IsPathRooted(text) ? text
                : program.Directory is { } directory ? Path.Combine(directory, text)
                : null
            )
            .OfType<string>()
            .Distinct()
            .Where(File.Exists);

    private static IEnumerable<Uri> Addresses(Definition definition) =>
        definition
            .Watch.OfType<AnswerWatch>()
            .Select(watch => watch.Look)
            .Append(definition.Begin.Proof)
            .OfType<HttpProof>()
            .Select(proof => Uri.TryCreate(proof.Url, UriKind.Absolute, out var address) ? address : null)
            .OfType<Uri>()
            .Where(address => address.Scheme == Uri.UriSchemeHttps);

    /// <summary>What an address shows as its certificate, whoever may trust it; null: it shows none in time.</summary>
    private static async Task<X509Certificate2?> Shown(Uri address)
    {
        using var patience = new CancellationTokenSource(Patience);
        X509Certificate2? shown = null;
        try
        {
            using var line = new TcpClient();
            await line.ConnectAsync(address.Host, address.Port, patience.Token).ConfigureAwait(false);
            var stream = new SslStream(line.GetStream());
            await using (stream.ConfigureAwait(false))
                await stream
                    .AuthenticateAsClientAsync(
                        new SslClientAuthenticationOptions
                        {
                            TargetHost = address.Host,
                            // It is only looked at, whoever may trust it: nothing is said to whoever that is.
                            RemoteCertificateValidationCallback = (_, certificate, _, _) =>
                            {
                                shown = certificate is null
                                    ? null
                                    : X509CertificateLoader.LoadCertificate(certificate.GetRawCertData());
                                return false;
                            },
                        },
                        patience.Token
                    )
                    .ConfigureAwait(false);
        }
        catch (Exception error)
            when (error
                    is IOException
                        or SocketException
                        or AuthenticationException
                        or OperationCanceledException
                        or CryptographicException
            )
        {
            // What it has shown by then counts; else it shows none.
        }

        return shown;
    }
}
