using CalmSentry.Core.Definitions;

namespace CalmSentry.Telling;

internal enum MailSecurity
{
    /// <summary>The line is secured before anything is said on it (RFC 8314).</summary>
    Tls,

    /// <summary>It is secured by STARTTLS (RFC 3207), or nothing is sent.</summary>
    Starttls,

    /// <summary>In the clear: for a mail server on this machine.</summary>
    None,
}

/// <summary>The mail server that messages go to.</summary>
internal sealed record MailSettings
{
    /// <summary>HOST:PORT.</summary>
    public string Server { get; init; } = "";

    public MailSecurity Security { get; init; } = MailSecurity.Starttls;

    public string? User { get; init; }

    /// <summary>Name of the sentry's secret with the password.</summary>
    public string? Password { get; init; }

    public string From { get; init; } = "";

    /// <summary>A file of certificates (PEM) that the server's must go back to; null: the host's own.</summary>
    public string? Trust { get; init; }

    /// <summary>How long a whole exchange with the server may take.</summary>
    public TimeSpan Patience { get; init; } = TimeSpan.FromSeconds(60);

    public static Shape<MailSettings> Keys { get; } =
        new(
            KeyOf<MailSettings>.Value(
                "server",
                Forms.Address,
                mail => mail.Server,
                (mail, server) => mail with { Server = server },
                "The mail server, HOST:PORT."
            ) with
            {
                Example = "mail.skerry.example:587",
            },
            KeyOf<MailSettings>.Value(
                "from",
                Forms.Text(
                    "a mail address",
                    text => text.Contains('@', StringComparison.Ordinal) && !text.Any(char.IsControl)
                ),
                mail => mail.From,
                (mail, from) => mail with { From = from },
                "The address messages come from."
            ) with
            {
                Example = "calm-sentry@quay.skerry.example",
            },
            KeyOf<MailSettings>.Value(
                "security",
                Forms.Choice(
                    ("starttls", MailSecurity.Starttls),
                    ("tls", MailSecurity.Tls),
                    ("none", MailSecurity.None)
                ),
                mail => mail.Security,
                (mail, security) => mail with { Security = security },
                "How the line is secured; none sends in the clear."
            ) with
            {
                Default = "starttls",
            },
            KeyOf<MailSettings>.Value(
                "user",
                Forms.Text("text without NUL"),
                mail => mail.User,
                (mail, user) => mail with { User = user },
                "Whom to sign in as."
            ) with
            {
                Default = "nobody signs in",
            },
            KeyOf<MailSettings>.Value(
                "password",
                Forms.Text(
                    "the name of a secret of the sentry's: letters, digits and _",
                    text => text.Length > 0 && text.All(c => char.IsAsciiLetterOrDigit(c) || c == '_')
                ),
                mail => mail.Password,
                (mail, password) => mail with { Password = password },
                "Name of the sentry's secret with the password: 'calm secret set --sentry NAME' takes its value."
            ) with
            {
                Default = "none",
                Example = "MAIL_PASSWORD",
            },
            KeyOf<MailSettings>.Value(
                "trust",
                Forms.Path,
                mail => mail.Trust,
                (mail, file) => mail with { Trust = file },
                "A file of certificates (PEM) that the server's must go back to, beside none of the host's own."
            ) with
            {
                Default = "the host's own",
            },
            KeyOf<MailSettings>.Value(
                "patience",
                Forms.LengthFrom(TimeSpan.FromSeconds(1)),
                mail => mail.Patience,
                (mail, patience) => mail with { Patience = patience },
                "How long a whole exchange with the server may take."
            ) with
            {
                Default = "60 s",
                IsHidden = true,
            }
        )
        {
            Check = (map, mail) =>
            {
                if (mail.User is null != mail.Password is null)
                    map.Contradicts(
                        mail.User is null ? "password" : "user",
                        "without the other",
                        "user and password together"
                    );
                if (mail is { User: not null, Security: MailSecurity.None } && !IsHere(mail.Server))
                    map.Contradicts("security", "none, with a password", "starttls or tls, or a server at 127.0.0.1");
            },
        };

    private static bool IsHere(string server) =>
        NetworkAddress.Read(server) is { Host: var host }
        && (
            host == "localhost"
            || (System.Net.IPAddress.TryParse(host, out var ip) && System.Net.IPAddress.IsLoopback(ip))
        );
}
