using System.Globalization;
using System.Text;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Forwarding;

/// <summary>An entry of the logbook as it is forwarded.</summary>
/// <param name="Number">Its number in the logbook.</param>
/// <param name="Hash">Its hash in the chain, in hexadecimal.</param>
/// <param name="Tells">A person is to hear of it.</param>
public sealed record Forwarded(
    long Number,
    DateTimeOffset At,
    string? Service,
    Entry Entry,
    string? By,
    bool Tells,
    string Hash
);

/// <summary>Entries as syslog messages (RFC 5424).</summary>
public static class SyslogMessage
{
    /// <summary>Longest message, in bytes: what a receiver ought to take at least (RFC 5424, section 6.1).</summary>
    public const int Longest = 2048;

    private const int Daemon = 3,
        LongestValue = 255;

    /// <summary>The enterprise number set aside for examples (RFC 5612): this project has none of its own.</summary>
    private const string OwnElement = "calm@32473";

    /// <param name="host">The name of this machine.</param>
    public static byte[] Of(Forwarded entry, string host)
    {
        var severity = entry.Entry.SeverityIf(entry.Tells);
        var head = new StringBuilder()
            .Append(CultureInfo.InvariantCulture, $"<{(Daemon * 8) + (int)severity}>1 ")
            .Append(entry.At.ToString("yyyy-MM-ddTHH:mm:ss.ffffffzzz", CultureInfo.InvariantCulture))
            .Append(CultureInfo.InvariantCulture, $" {Name(host, 255)} calm-sentry ")
            .Append(entry.Entry.Fields.Pid is { } pid ? pid.ToString(CultureInfo.InvariantCulture) : "-")
            .Append(CultureInfo.InvariantCulture, $" {Name(entry.Entry.Kind.Word, 32)} ")
            .Append(CultureInfo.InvariantCulture, $"[meta sequenceId=\"{SequenceOf(entry.Number)}\"]")
            .Append(CultureInfo.InvariantCulture, $"[{OwnElement} id=\"{entry.Number}\" hash=\"{entry.Hash}\"");
        Field(head, "service", entry.Service);
        Field(head, "by", entry.By);
        Field(head, "from", entry.Entry.From);
        Field(head, "run", entry.Entry.Fields.Run?.Value.ToString(CultureInfo.InvariantCulture));
        Field(head, "tells", entry.Tells ? "yes" : null);
        head.Append("] ");
        var text = $"{(entry.Service is { } service ? service + ": " : "")}{entry.Entry.Text.ReplaceLineEndings(" ")}";
        byte[] first = [.. Encoding.UTF8.GetBytes(head.ToString()), .. Encoding.UTF8.Preamble];
        return [.. first, .. Cut(Printable(text), Longest - first.Length)];
    }

    /// <summary>A message to a person.</summary>
    /// <param name="id">By which a reader drops a double.</param>
    public static byte[] Of(Telling.Message message, string id, string host)
    {
        var severity =
            message.Urgency == Urgency.Urgent ? EntrySeverity.Alert
            : message.Kind == Telling.MessageKind.Over ? EntrySeverity.Notice
            : EntrySeverity.Warning;
        var head = new StringBuilder()
            .Append(CultureInfo.InvariantCulture, $"<{(Daemon * 8) + (int)severity}>1 ")
            .Append(message.At.ToString("yyyy-MM-ddTHH:mm:ss.ffffffzzz", CultureInfo.InvariantCulture))
            .Append(CultureInfo.InvariantCulture, $" {Name(host, 255)} calm-sentry - told ")
            .Append(CultureInfo.InvariantCulture, $"[{OwnElement} id=\"{id}\" alert=\"{message.Alert}\"");
        Field(head, "kind", Words.Of(message.Kind));
        Field(head, "service", message.Service);
        head.Append("] ");
        byte[] first = [.. Encoding.UTF8.GetBytes(head.ToString()), .. Encoding.UTF8.Preamble];
        return [.. first, .. Cut(Printable(message.Lead), Longest - first.Length)];
    }

    /// <summary>A number by which a reader drops doubles: from 1 to 2147483647, and then from 1 again.</summary>
    public static long SequenceOf(long number) => ((number - 1) % int.MaxValue) + 1;

    /// <summary>Of a value a quotation mark, a backslash and a closing bracket are escaped (section 6.3.3).</summary>
    private static void Field(StringBuilder text, string name, string? value)
    {
        if (value is null)
            return;
        text.Append(' ').Append(name).Append("=\"");
        foreach (var c in Printable(value.Length > LongestValue ? value[..LongestValue] : value))
        {
            if (c is '"' or '\\' or ']')
                text.Append('\\');
            text.Append(c);
        }

        text.Append('"');
    }

    /// <summary>A field of the header: printable ASCII without blanks.</summary>
    private static string Name(string name, int longest)
    {
        var plain = string.Concat(name.Where(c => c is > ' ' and < '\x7f').Take(longest));
        return plain.Length == 0 ? "-" : plain;
    }

    private static string Printable(string text) => Text.Shown.Line(text);

    /// <summary>So many bytes at most, and no half of a character.</summary>
    private static ReadOnlySpan<byte> Cut(string text, int most)
    {
        const string more = "…";
        var bytes = Encoding.UTF8.GetBytes(text);
        if (bytes.Length <= most)
            return bytes;
        var end = most - Encoding.UTF8.GetByteCount(more);
        while (end > 0 && (bytes[end] & 0xC0) == 0x80)
            end--;
        return (byte[])[.. bytes.AsSpan(0, end), .. Encoding.UTF8.GetBytes(more)];
    }
}
