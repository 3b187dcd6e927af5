using System.Globalization;

namespace CalmSentry.Core.Definitions;

/// <summary>
/// A host and a TCP port as a definition writes them: <c>127.0.0.1:5432</c>, <c>db.quay:5432</c>, <c>[::1]:5432</c>.
/// </summary>
public static class NetworkAddress
{
    public const string Allowed = "a host and a port, such as 127.0.0.1:5432, db.quay:5432 or [::1]:5432";

    public static (string Host, int Port)? Read(string text)
    {
        var colon = text.LastIndexOf(':');
        if (
            colon < 1
            || !int.TryParse(text.AsSpan(colon + 1), NumberStyles.None, CultureInfo.InvariantCulture, out var port)
            || port is 0 or > 65535
        )
            return null;
        var host = text[..colon];
        if (host.StartsWith('[') && host.EndsWith(']'))
            return Uri.CheckHostName(host[1..^1]) == UriHostNameType.IPv6 ? (host[1..^1], port) : null;
        return Uri.CheckHostName(host) is UriHostNameType.Dns or UriHostNameType.IPv4 ? (host, port) : null;
    }
}
