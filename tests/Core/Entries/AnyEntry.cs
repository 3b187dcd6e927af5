using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;

namespace CalmSentry.Tests.Core.Entries;

internal static class AnyEntry
{
    /// <summary>An entry of each kind, with all that any of them has.</summary>
    internal static Entry Of(EntryKind kind, string seen) =>
        kind.Read(
            new()
            {
                Run = new(1),
                Pid = 2,
                Outcome = new(OutcomeKind.Exited, 3),
                Took = TimeSpan.FromSeconds(2),
                Limit = TimeSpan.FromSeconds(1),
                Pause = TimeSpan.FromSeconds(1),
                Moment = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero),
                Count = 2,
                Revision = 4,
                Name =
                    kind == EntryKinds.Of<NotedEntry>() ? "warns"
                    : kind == EntryKinds.Of<GoesOnEntry>() ? "held"
                    : seen,
                Names = kind == EntryKinds.Of<LogbookEmptiedEntry>() ? ["1", "2"] : [],
                Seen = seen,
                Next = EntryNext.Restart,
            }
        );
}
