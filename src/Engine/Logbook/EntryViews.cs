using CalmSentry.Contract.Api;
using CalmSentry.Store;

namespace CalmSentry.Engine.Logbook;

/// <summary>Entries as the API shows them: the data, and the sentence made of it.</summary>
internal static class EntryViews
{
    public static LogEntry Of(StoredEntry stored)
    {
        var (entry, fields) = (stored.Entry, stored.Entry.Fields);
        return new(stored.Number, stored.At, stored.Service, entry.Kind.Word, entry.Text, stored.By, stored.Tells)
        {
            From = entry.From,
            Severity = entry.SeverityIf(stored.Tells),
            Run = fields.Run,
            Pid = fields.Pid,
            Outcome = fields.Outcome?.Kind,
            ExitCode = fields.Outcome?.Code,
            TookMs = fields.Took?.TotalMilliseconds,
            LimitMs = fields.Limit?.TotalMilliseconds,
            PauseMs = fields.Pause?.TotalMilliseconds,
            Count = fields.Count,
            Revision = fields.Revision,
            About = fields.Name,
            Seen = fields.Seen,
            Next = fields.Next == default ? null : fields.Next,
        };
    }
}
