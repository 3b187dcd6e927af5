using CalmSentry.Contract.Api;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Wording;
using CalmSentry.Store;

namespace CalmSentry.Server.Logbook;

/// <summary>Entries as the API shows them: the data, and the sentence made of it.</summary>
internal static class EntryViews
{
    public static LogEntry Of(StoredEntry stored)
    {
        var entry = stored.Entry;
        return new(
            stored.Number,
            stored.At,
            stored.Service,
            Words.Of(entry.Code),
            EntryWords.Of(entry),
            stored.By,
            stored.Tells
        )
        {
            From = entry.From,
            Severity = Words.Of(Severities.Of(entry, stored.Tells)),
            Run = entry.Run,
            Pid = entry.Pid,
            Outcome = entry.Outcome is { } outcome ? Words.Of(outcome.Kind) : null,
            ExitCode = entry.Outcome?.Code,
            TookMs = entry.Took?.TotalMilliseconds,
            LimitMs = entry.Limit?.TotalMilliseconds,
            PauseMs = entry.Pause?.TotalMilliseconds,
            Count = entry.Count,
            Revision = entry.Revision,
            About = entry.Name,
            Seen = entry.Seen,
            Next = entry.Next == default ? null : Words.Of(entry.Next),
        };
    }
}
