using System.Globalization;
using System.Text;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Text;

namespace CalmSentry.Engine.Logbook;

/// <summary>Entries as comma-separated values with a header line (RFC 4180): lines end with CR LF.</summary>
internal static class LogCsv
{
    private static readonly (string Name, Func<LogEntry, object?> Value)[] Columns =
    [
        ("id", entry => entry.Id),
        (
            "at",
            entry =>
                WallClock
                    .In(entry.At, TimeZoneInfo.Local)
                    .ToString("yyyy-MM-ddTHH:mm:ss.ffffffzzz", CultureInfo.InvariantCulture)
        ),
        ("service", entry => entry.Service),
        ("kind", entry => entry.Code),
        ("by", entry => Foreign(entry.By)),
        ("text", entry => Foreign(entry.Text)),
        ("tells", entry => entry.Tells ? "yes" : null),
        ("run", entry => entry.Run),
        ("pid", entry => entry.Pid),
        ("outcome", entry => entry.Outcome is { } outcome ? Words.Of(outcome) : null),
        ("exit-code", entry => entry.ExitCode),
        ("about", entry => Foreign(entry.About)),
        ("seen", entry => Foreign(entry.Seen)),
        ("from", entry => Foreign(entry.From)),
        ("severity", entry => entry.Severity is { } severity ? Words.Of(severity) : null),
    ];

    /// <summary>Text that others may have had a word in: a spreadsheet takes it for text, and a terminal shows it.</summary>
    private static string? Foreign(string? text) => text is null ? null : Shown.Cell(text);

    public static string Of(IEnumerable<LogEntry> entries)
    {
        var text = new StringBuilder();
        Line(Columns.Select(column => column.Name));
        foreach (var entry in entries)
            Line(Columns.Select(column => Convert.ToString(column.Value(entry), CultureInfo.InvariantCulture) ?? ""));
        return text.ToString();

        void Line(IEnumerable<string> fields) => text.AppendJoin(',', fields.Select(Quoted)).Append("\r\n");
    }

    private static string Quoted(string field) =>
        field.AsSpan().IndexOfAny("\",\r\n") < 0
            ? field
            : $"\"{field.Replace("\"", "\"\"", StringComparison.Ordinal)}\"";
}
