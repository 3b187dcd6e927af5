using CalmSentry.Core.Definitions;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Forwarding;

/// <summary>How entries of the logbook get to a collector of syslog.</summary>
public enum ForwardBy
{
    /// <summary>A datagram an entry (RFC 5426): what is lost on the way is lost.</summary>
    Udp,

    /// <summary>A stream with counted lengths (RFC 6587).</summary>
    Tcp,

    /// <summary>The same through TLS (RFC 5425).</summary>
    Tls,

    /// <summary>The host's own log socket.</summary>
    Unix,
}

/// <summary>Where entries of the logbook are forwarded.</summary>
/// <param name="To">HOST:PORT, or a path.</param>
/// <param name="Trust">With TLS: a file of certificates (PEM) that the collector's must go back to; null: the host's own.</param>
public sealed record ForwardTarget(ForwardBy By, string To, string? Trust = null)
{
    /// <summary>It is asked what has arrived; so what is sent is sent again until that is known.</summary>
    public bool IsConfirmed => By is ForwardBy.Tcp or ForwardBy.Tls;

    /// <summary>As settings and messages name it: <c>tls collector.quay:6514</c>.</summary>
    public override string ToString() => $"{Words.Of(By)} {To}";

    /// <summary>As settings have it: <c>{ tls: collector.quay:6514, trust: /etc/calm-sentry/collector.pem }</c>.</summary>
    public static Union<ForwardTarget> Settings { get; } =
        new(
            "{ tls: collector.quay:6514 } or { udp: 127.0.0.1:514 }",
            [
                Kind(
                    "tcp",
                    Forms.Address,
                    ForwardBy.Tcp,
                    "A collector of syslog over TCP, lengths counted (RFC 6587)."
                ),
                Kind("tls", Forms.Address, ForwardBy.Tls, "The same through TLS (RFC 5425)."),
                Kind(
                    "udp",
                    Forms.Address,
                    ForwardBy.Udp,
                    "A datagram an entry (RFC 5426); nobody knows whether it arrives."
                ),
                Kind("unix", Forms.Path, ForwardBy.Unix, "The host's own log socket, as a rule /dev/log."),
            ],
            [
                UnionOf<ForwardTarget>.Attribute(
                    "trust",
                    Forms.Path,
                    target => target.Trust,
                    (target, file) => target with { Trust = file },
                    "With tls: a file of certificates (PEM) that the collector's must go back to, beside none of the host's own."
                ) with
                {
                    Only = ["tls"],
                    Default = "the host's own",
                },
            ]
        );

    private static Kind<ForwardTarget> Kind(string name, Form<string> form, ForwardBy by, string about) =>
        UnionOf<ForwardTarget>.Kind(
            name,
            form,
            to => new ForwardTarget(by, to),
            target => target.By == by ? target.To : null,
            about
        );
}
