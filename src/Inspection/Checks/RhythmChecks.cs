using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Rhythms;

namespace CalmSentry.Inspection.Checks;

/// <summary>What is set for moments, or for log files, and leads to nothing, or to alerts without end.</summary>
internal static class RhythmChecks
{
    public static IEnumerable<Finding> Look(Subject subject)
    {
        var (definition, now) = (subject.Definition, subject.Clocks.Now);
        foreach (var run in definition.Rhythm.OfType<PlannedRun>())
        {
            if (run.SuccessWithin is { } within && Gap(run, now) is { } gap && within < gap)
                yield return new(
                    FindingCode.SuccessTooSoon,
                    Severity.Risk,
                    $"A success is wanted within {Duration.Write(within)}, and {Duration.Write(gap)} lie between two of its moments ({run.When}).",
                    "A person would be told of it again and again, though every run succeeds.",
                    "Make success-within longer than that."
                );
            if (run is { LateAfter: { } late, Longest: { } longest } && late >= longest)
                yield return new(
                    FindingCode.LateNever,
                    Severity.Note,
                    $"It would be late after {Duration.Write(late)}, and a run is wound down after {Duration.Write(longest)}.",
                    "Nobody is ever told that it is late.",
                    "Make late-after shorter than longest, or leave it out."
                );
        }

        if (!definition.Output.Reopen.IsEmpty && definition.Output.Files.IsEmpty)
            yield return new(
                FindingCode.ReopenUnused,
                Severity.Note,
                "output.reopen says how it is told to open its log files anew, and output.files names none.",
                "It is never told so.",
                "Name its log files in output.files, or leave output.reopen out."
            );
    }

    /// <summary>Files with days that are left out, which say nothing: it would run on all of them.</summary>
    public static async Task<IReadOnlyList<Finding>> Days(Subject subject)
    {
        var found = new List<Finding>();
        foreach (var file in DaysLook.FilesOf(subject.Definition))
            if (
                (
                    await DaysLook
                        .Read(file, subject.Definition, subject.AsAccount, CancellationToken.None)
                        .ConfigureAwait(false)
                ).Wrong is
                { } wrong
            )
                found.Add(
                    new(
                        FindingCode.DaysUnreadable,
                        Severity.Blocks,
                        $"The days to leave out cannot be read from {file}: {wrong}.",
                        "It would run on those days as well.",
                        $"Put the file there, a day such as 2026-12-24 a line, for {subject.Definition.Account} to read."
                    )
                );
        return found;
    }

    /// <summary>What lies between the next two moments; null: there are no two.</summary>
    private static TimeSpan? Gap(PlannedRun run, DateTimeOffset now) =>
        run.After(now) is { } next && run.After(next) is { } second ? second - next : null;
}
