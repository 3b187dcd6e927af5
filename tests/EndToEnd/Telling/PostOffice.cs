using System.Buffers;
using System.Collections.Concurrent;
using System.Net;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using MimeKit;
using SmtpServer;
using SmtpServer.Authentication;
using SmtpServer.Mail;
using SmtpServer.Protocol;
using SmtpServer.Storage;
using ServiceProvider = SmtpServer.ComponentModel.ServiceProvider;

namespace CalmSentry.Tests.EndToEnd.Telling;

/// <summary>A mail server for tests, with STARTTLS and sign-in, that can be told to behave badly.</summary>
internal sealed class PostOffice : IAsyncDisposable
{
    public const string User = "quay",
        Password = "kelp-and-brine-4711";

    private readonly CancellationTokenSource over = new();
    private readonly Task serving;

    private PostOffice(string directory, int port)
    {
        Port = port;
        using var key = RSA.Create(2048);
        var asked = new CertificateRequest("CN=localhost", key, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
        var names = new SubjectAlternativeNameBuilder();
        names.AddDnsName("localhost");
        asked.CertificateExtensions.Add(names.Build());
        asked.CertificateExtensions.Add(new X509BasicConstraintsExtension(true, false, 0, true));
        using var made = asked.CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(30));
        Trust = Path.Combine(directory, "mail-ca.pem");
        File.WriteAllText(Trust, made.ExportCertificatePem());
        var certificate = X509CertificateLoader.LoadPkcs12(made.Export(X509ContentType.Pfx), null);
        var services = new ServiceProvider();
        services.Add(new Box(this));
        services.Add((IMailboxFilter)new Door(this));
        services.Add(
            (IUserAuthenticator)
                new DelegatingUserAuthenticator((user, password) => user == User && password == Password)
        );
        var server = new SmtpServer.SmtpServer(
            new SmtpServerOptionsBuilder()
                .ServerName("localhost")
                .Endpoint(endpoint =>
                    endpoint.Endpoint(new IPEndPoint(IPAddress.Loopback, port)).Certificate(certificate)
                )
                .Build(),
            services
        );
        serving = server.StartAsync(over.Token);
    }

    public static PostOffice Open(Sentry sentry) =>
        new(Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "post")).FullName, Sentry.FreePort());

    public int Port { get; }

    /// <summary>A file with the certificate that its own goes back to.</summary>
    public string Trust { get; }

    /// <summary>What it has taken, in its order.</summary>
    public ConcurrentQueue<MimeMessage> Taken { get; } = new();

    /// <summary>What it answers to a mail instead of taking it; null: it takes it.</summary>
    public Func<MimeMessage, SmtpResponse?> Answers { get; set; } = _ => null;

    /// <summary>What it answers to a recipient; null: it is fine.</summary>
    public Func<SmtpResponse?> AnswersRecipient { get; set; } = () => null;

    /// <summary>How the sentry's settings name it.</summary>
    public string Settings =>
        $"mail: {{ server: localhost:{Port}, from: sentry@quay.skerry.example, user: {User}, password: MAIL_PASSWORD, trust: {Trust} }}\n";

    public async Task<MimeMessage> Next(Func<MimeMessage, bool> wanted)
    {
        await Sentry.Eventually(() => Taken.Any(wanted));
        return Taken.First(wanted);
    }

    public async ValueTask DisposeAsync()
    {
        await over.CancelAsync();
        await serving.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        over.Dispose();
    }

    private sealed class Box(PostOffice office) : MessageStore
    {
        public override async Task<SmtpResponse> SaveAsync(
            ISessionContext context,
            IMessageTransaction transaction,
            ReadOnlySequence<byte> buffer,
            CancellationToken cancellationToken
        )
        {
            var mail = await MimeMessage.LoadAsync(new MemoryStream(buffer.ToArray()), cancellationToken);
            if (office.Answers(mail) is { } answer)
                return answer;
            office.Taken.Enqueue(mail);
            return SmtpResponse.Ok;
        }
    }

    private sealed class Door(PostOffice office) : MailboxFilter
    {
        public override Task<bool> CanDeliverToAsync(
            ISessionContext context,
            IMailbox to,
            IMailbox from,
            CancellationToken cancellationToken
        ) =>
            office.AnswersRecipient() is { } answer
                ? throw new SmtpResponseException(answer)
                : Task.FromResult(context.Authentication.IsAuthenticated);
    }
}
