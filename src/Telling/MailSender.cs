using System.Globalization;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Text;
using CalmSentry.Store;
using MailKit;
using MailKit.Net.Smtp;
using MailKit.Security;
using MimeKit;

namespace CalmSentry.Telling;

/// <summary>Mail (RFC 5321, RFC 5322): text and HTML, an alert's messages in one thread.</summary>
internal sealed class MailSender(MailWay way, string recipient, SenderHouse house) : ISender
{
    /// <summary>Bytes of a whole exchange that a server may say.</summary>
    private const long MostHeard = 256 << 10;

    private static readonly TimeSpan PatienceForOne = TimeSpan.FromSeconds(20),
        PatienceAtLeaving = TimeSpan.FromSeconds(1);

    public async Task<string> Send(StoredMessage one, Message message, Exchange? seen, CancellationToken cancellation)
    {
        if (house.Mail is not { } settings || NetworkAddress.Read(settings.Server) is not var (host, port))
            throw new NotTakenException("no mail server is set");
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(settings.Patience);
        using var log = new SeenLogger(seen);
        using var client = new SmtpClient(log);
        client.Timeout = (int)PatienceForOne.TotalMilliseconds;
        client.CheckCertificateRevocation = false;
        client.LocalDomain = LocalDomain();
        string? misfit = null;
        client.ServerCertificateValidationCallback = (_, certificate, _, errors) =>
        {
            var fits = settings.Trust is { } file
                ? IsTrusted(certificate, errors, Roots(file))
                : errors == SslPolicyErrors.None;
            misfit = fits ? null : Misfit(certificate as X509Certificate2, errors, host, settings.Trust);
            return fits;
        };
        try
        {
            using var mail = Make(one, message, settings);
            await client.ConnectAsync(
                await Line(host, port, limit.Token),
                host,
                port,
                settings.Security switch
                {
                    MailSecurity.Tls => SecureSocketOptions.SslOnConnect,
                    MailSecurity.None => SecureSocketOptions.None,
                    _ => SecureSocketOptions.StartTls,
                },
                limit.Token
            );
            if (settings is { User: { } user, Password: { } password })
                await client.AuthenticateAsync(user, house.Secret(password), limit.Token);
            var answer = await client.SendAsync(mail, limit.Token);
            await Leave(client, limit.Token);
            return $"{settings.Server} took it: {Shown.Line(answer)}";
        }
        // Whatever comes after the mail was taken, it was: sent again it would be there twice.
        catch (Exception) when (log.Taken is not null)
        {
            return $"{settings.Server} took it: {Shown.Line(log.Taken)}";
        }
        catch (SmtpCommandException error)
        {
            await Leave(client, cancellation);
            // A refusal of this mail is for good when the server says so (RFC 5321, section 4.2.1).
            throw new NotTakenException(
                $"{settings.Server} refused: {(int)error.StatusCode} {Shown.Line(error.Message.TrimEnd('.'))}",
                forGood: (int)error.StatusCode >= 500 && error.ErrorCode != SmtpErrorCode.UnexpectedStatusCode
            );
        }
        catch (AuthenticationException error)
        {
            await Leave(client, cancellation);
            throw new NotTakenException($"{settings.Server} did not let {settings.User} sign in: {Clause(error)}");
        }
        catch (SslHandshakeException error)
        {
            throw new NotTakenException(
                $"the line to {settings.Server} could not be secured: "
                    + Shown.Line(misfit ?? (error.InnerException?.Message ?? error.Message.Split('\n')[0]).TrimEnd('.'))
            );
        }
        catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
        {
            throw new NotTakenException($"{settings.Server} did not answer within {Duration.Write(settings.Patience)}");
        }
        catch (Exception error) when (error is not (OperationCanceledException or NotTakenException))
        {
            throw new NotTakenException($"{settings.Server}: {Clause(error)}");
        }
    }

    private static async Task<Stream> Line(string host, int port, CancellationToken cancellation)
    {
        var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        try
        {
            await socket.ConnectAsync(host, port, cancellation);
            return new BoundedStream(new NetworkStream(socket, ownsSocket: true), MostHeard);
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    private static string Clause(Exception error) => Shown.Line(error.Message.Split('\n')[0].TrimEnd('.'));

    /// <summary>It has the mail already: how it takes the farewell does not matter.</summary>
    private static async Task Leave(SmtpClient client, CancellationToken cancellation)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(PatienceAtLeaving);
        try
        {
            await client.DisconnectAsync(quit: true, limit.Token);
        }
        catch (Exception error)
            when (error is IOException or SmtpProtocolException or OperationCanceledException or NotTakenException)
        {
            // It hung up, says nothing, or does not stop saying.
        }
    }

    private MimeMessage Make(StoredMessage one, Message message, MailSettings settings)
    {
        var domain = LocalDomain();
        var mail = new MimeMessage
        {
            Subject = message.Headline,
            Date = WallClock.In(message.At, TimeZoneInfo.Local),
            MessageId = $"{one.Id}@{domain}",
            Importance = message.Urgency == Urgency.Urgent ? MessageImportance.High : MessageImportance.Normal,
        };
        mail.From.Add(new MailboxAddress($"Calm Sentry on {Shown.Line(message.Host)}", settings.From));
        mail.To.Add(new MailboxAddress(recipient, way.Address));
        // Nobody's absence is to answer it, and no list to pass it on (RFC 3834).
        mail.Headers.Add("Auto-Submitted", "auto-generated");
        if (message.Alert > 0)
        {
            // All messages of an alert hang at one that never was, so that the order in which they come does not matter.
            var thread = string.Create(
                CultureInfo.InvariantCulture,
                $"alert-{message.Alert}.{house.Identity}@{domain}"
            );
            mail.References.Add(thread);
            mail.InReplyTo = thread;
        }

        var text = new MultipartAlternative(
            new TextPart("plain") { Text = MessageText.Plain(message) },
            new TextPart("html") { Text = MessageText.Html(message) }
        );
        mail.Body =
            message is { WithPicture: true, Service: { } service }
            && house.Picture(service) is ({ Length: <= LargestPicture } png, var at)
                ? new Multipart("mixed") { text, Attached(png, $"{service} {at:yyyy-MM-dd HHmmss}Z.png") }
                : text;
        mail.Prepare(EncodingConstraint.SevenBit, 78);
        return mail;
    }

    /// <summary>In bytes: many servers take no mail of more than 10 MB.</summary>
    private const int LargestPicture = 4 << 20;

    private static MimePart Attached(byte[] png, string name) =>
        new("image", "png")
        {
            Content = new MimeContent(new MemoryStream(png)),
            ContentDisposition = new(ContentDisposition.Attachment) { FileName = name },
            ContentTransferEncoding = ContentEncoding.Base64,
        };

    private string LocalDomain()
    {
        var name = string.Concat(house.Host.Where(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '.'));
        return name.Length == 0 ? "localhost" : name;
    }

    private const int MostNames = 5;

    /// <summary>What about a certificate did not fit, as a clause.</summary>
    private static string Misfit(X509Certificate2? theirs, SslPolicyErrors errors, string host, string? trust)
    {
        if (theirs is null)
            return "it showed no certificate";
        if ((errors & SslPolicyErrors.RemoteCertificateNameMismatch) != 0)
        {
            var names = theirs.Extensions.OfType<X509SubjectAlternativeNameExtension>().ToList();
            var all = names
                .SelectMany(one => one.EnumerateDnsNames())
                .Concat(names.SelectMany(one => one.EnumerateIPAddresses()).Select(address => address.ToString()))
                .DefaultIfEmpty(theirs.GetNameInfo(X509NameType.SimpleName, forIssuer: false));
            return $"its certificate is for {string.Join(", ", all.Take(MostNames))}, and not for {host}";
        }

        var (from, to) = (theirs.NotBefore.ToUniversalTime(), theirs.NotAfter.ToUniversalTime());
        if (DateTime.UtcNow < from || DateTime.UtcNow > to)
            return string.Create(
                CultureInfo.InvariantCulture,
                $"its certificate is valid from {from:yyyy-MM-dd HH:mm} to {to:yyyy-MM-dd HH:mm} UTC"
            );
        var issuer = theirs.GetNameInfo(X509NameType.SimpleName, forIssuer: true);
        return $"its certificate was issued by {issuer}, which is not trusted by "
            + (
                trust is null
                    ? "this host; mail.trust names a file with authorities of your own"
                    : $"what is in {trust}"
            );
    }

    private static X509Certificate2Collection Roots(string file)
    {
        var roots = new X509Certificate2Collection();
        roots.ImportFromPemFile(file);
        return roots;
    }

    private static bool IsTrusted(
        X509Certificate? certificate,
        SslPolicyErrors errors,
        X509Certificate2Collection roots
    )
    {
        if (certificate is not X509Certificate2 theirs || (errors & ~SslPolicyErrors.RemoteCertificateChainErrors) != 0)
            return false;
        using var chain = new X509Chain();
        chain.ChainPolicy.TrustMode = X509ChainTrustMode.CustomRootTrust;
        chain.ChainPolicy.RevocationMode = X509RevocationMode.NoCheck;
        chain.ChainPolicy.CustomTrustStore.AddRange(roots);
        return chain.Build(theirs);
    }

    /// <summary>What goes to and fro, with the password left out.</summary>
    private sealed class SeenLogger(Exchange? seen) : IProtocolLogger
    {
        private const int MostLines = 400;

        private const string EndOfMail = "\r\n.\r\n";

        private int lines;

        public IAuthenticationSecretDetector? AuthenticationSecretDetector { get; set; }

        public void LogConnect(Uri uri) => Say($"— connects to {uri.Host}:{uri.Port}");

        /// <summary>The first line of the answer by which the server took the mail; null: it has not.</summary>
        public string? Taken { get; private set; }

        private bool wasGiven;
        private string tail = "";

        public void LogServer(byte[] buffer, int offset, int count)
        {
            var text = Encoding.UTF8.GetString(buffer, offset, count);
            // A mail is given by a line with a full stop alone, and taken by a reply of the second hundred (RFC 5321, 4.1.1.4).
            if (wasGiven && Taken is null && text.StartsWith('2'))
                Taken = text.Split('\n')[0].Trim();
            wasGiven = false;
            Lines("< ", text);
        }

        public void LogClient(byte[] buffer, int offset, int count)
        {
            var sent = Encoding.ASCII.GetString(buffer, offset, count);
            tail = tail.Length + sent.Length > EndOfMail.Length ? (tail + sent)[^EndOfMail.Length..] : tail + sent;
            wasGiven = tail == EndOfMail;
            if (seen is null)
                return;
            var text = Encoding.UTF8.GetBytes(Encoding.UTF8.GetString(buffer, offset, count));
            var secrets = AuthenticationSecretDetector?.DetectSecrets(buffer, offset, count) ?? [];
            foreach (var secret in secrets)
                for (
                    var i = secret.StartIndex - offset;
                    i < secret.StartIndex - offset + secret.Length && i < text.Length;
                    i++
                )
                    text[i] = (byte)'*';
            Lines("> ", Encoding.UTF8.GetString(text));
        }

        private void Lines(string mark, string text)
        {
            foreach (var line in text.Split('\n', StringSplitOptions.RemoveEmptyEntries))
                Say(mark + Shown.Line(line.TrimEnd('\r')));
        }

        private void Say(string line)
        {
            if (seen is not null && ++lines <= MostLines)
                seen(line);
        }

        public void Dispose() { }
    }
}
