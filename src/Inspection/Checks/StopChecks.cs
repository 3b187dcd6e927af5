using System.Globalization;
using System.Text.Json;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Services;
using CalmSentry.Store;

namespace CalmSentry.Inspection.Checks;

/// <summary>Whether its wind-down waits as long as its stops really take, by its own history.</summary>
internal static class StopChecks
{
    /// <summary>A stop that takes more than this part of the wait is cut off on a busy day.</summary>
    private const double Tight = 0.7;

    /// <summary>A wait that is over may be measured so much shorter.</summary>
    private static readonly TimeSpan Slack = TimeSpan.FromMilliseconds(50);

    public static IEnumerable<Finding> Look(Subject subject)
    {
        var definition = subject.Definition;
        if (
            Stops(definition, subject.Tools.Store).Select(stop => stop.Took).DefaultIfEmpty().Max() is var longest
            && longest > subject.ShutdownWithin * Tight
        )
            yield return new(
                FindingCode.ShutdownShort,
                Severity.Risk,
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"Of its latest stops the longest took {longest.TotalSeconds:0.0} s; when the machine goes "
                        + $"down all services together have {Duration.Write(subject.ShutdownWithin)}."
                ),
                "What is left after that is killed, and what it has not written is lost.",
                "Set shutdown-within in etc/calm-sentry/sentry.yaml to twice as long; it holds at once."
            );
        if (NotPossible(definition, subject.Self) is { } step)
            yield return new(
                FindingCode.StepNotPossible,
                Severity.Risk,
                $"Its run {subject.Self!.Situation.Run!.Number} was launched {(step is KeyStep ? "without a terminal" : "with no input that could be written")}: "
                    + $"{step.What} cannot be sent to it.",
                "A stop of this run passes over that step, and goes on with the next.",
                $"Restart it when that suits: calm restart {definition.Name}"
            );
        if (Short(definition, subject.Tools.Store) is var (seen, advice))
            yield return new(
                FindingCode.WindDownShort,
                Severity.Risk,
                seen,
                "What it has not written by then is lost: the kill cuts its work in half.",
                advice
            );
    }

    /// <summary>A step by a channel that the live run does not have, for it was launched before the step was set.</summary>
    private static WindDownStep? NotPossible(Definition definition, ServiceActor? self) =>
        self?.LaunchedBy is not { } by
            ? null
            : definition.WindDown.FirstOrDefault(step =>
                step switch
                {
                    KeyStep => !by.Program.Terminal,
                    CloseInputStep or SendStep { To.Kind: SendKind.Input } => !by.KeepsInput && !by.Program.Terminal,
                    _ => false,
                }
            );

    /// <summary>The same, as the end of an answer to a stop; empty when all is well.</summary>
    public static string Advice(Definition definition, SentryStore store) =>
        Short(definition, store) is var (seen, _)
            ? $"\nFinding wind-down-short: {seen} 'calm check {definition.Name}' says what to do."
            : "";

    private static (string Seen, string Advice)? Short(Definition definition, SentryStore store)
    {
        if (definition.Program.Kind == ProgramKind.Toggles || store.IdOf(definition.Name) is not { } id)
            return null;
        var stops = store.Stops(id);
        var since = store
            .Revisions(id, 50)
            .TakeWhile(revision => WindDownIn(revision.Document) == WindDownIn(store.Document(id)!))
            .Select(revision => revision.Revision)
            .DefaultIfEmpty(int.MaxValue)
            .Min();
        // What was cut off under another wind-down says nothing against this one.
        var killed = stops.Where(stop => stop.Forced && stop.Revision >= since).ToList();
        var wait = ServiceLife.LongestStop(definition);
        if (killed.Find(stop => stop.Failed is not null) is { Failed: { } step })
            return (
                $"{Which(killed.Count, stops.Count)} killed after a step failed: {step.What}: {step.Answer}.",
                $"Longer waits mend no step that fails. See to it that it can be taken, or set other steps: "
                    + $"calm adjust {definition.Name} --wind-down STEP"
            );
        // One that was ended before its time, for all the machine's was over, says nothing of its own.
        if (killed.Count(stop => stop.Took > wait - Slack) is > 0 and var cutOff)
            return (
                $"{Which(cutOff, stops.Count)} killed: its wind-down waits {Duration.Write(wait)} in all.",
                Longer(definition, store)
            );

        var longest = stops.Where(stop => !stop.Forced).Select(stop => stop.Took).DefaultIfEmpty().Max();
        return longest > wait * Tight
            ? (
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"{(stops.Count == 1 ? "Its latest stop" : $"Of its latest {stops.Count} stops the longest")} "
                        + $"took {longest.TotalSeconds:0.0} s, and its wind-down waits {Duration.Write(wait)} in all."
                ),
                Longer(definition, store)
            )
            : null;
    }

    private static string Which(int some, int all) =>
        some < all ? $"Of its latest {all} stops {some} {(some == 1 ? "was" : "were")}"
        : some == 1 ? "Its latest stop was"
        : $"All of its latest {some} stops were";

    /// <summary>Of a service that is registered; of one that is not there are none.</summary>
    private static IReadOnlyList<StoredStop> Stops(Definition definition, SentryStore store) =>
        store.IdOf(definition.Name) is { } id ? store.Stops(id) : [];

    private static string WindDownIn(string document)
    {
        using var json = JsonDocument.Parse(document);
        return json.RootElement.TryGetProperty("wind-down", out var steps) ? steps.GetRawText() : "";
    }

    /// <summary>What to do about it: the same steps, the last with a longer wait.</summary>
    private static string Longer(Definition definition, SentryStore store)
    {
        var wait = Better(definition, store);
        var steps = definition.WindDown.IsEmpty
            ? [new SignalStep("TERM", wait)]
            : definition.WindDown.SetItem(definition.WindDown.Length - 1, definition.WindDown[^1] with { Wait = wait });
        var words = steps.Select(WindDownKeys.Steps.ToWord).ToList();
        return words.Contains(null)
            ? $"Give its last step longer in its definition, such as wait: {Duration.Write(wait)}, and bring "
                + $"that in: calm adjust {definition.Name} --from FILE"
            : $"Give it longer, such as: calm adjust {definition.Name} "
                + $"{string.Join(' ', words.Select(word => $"--wind-down {CommandLine.Typed(word!)}"))}";
    }

    private static TimeSpan Better(Definition definition, SentryStore store)
    {
        var longest = Stops(definition, store).Select(stop => stop.Took).Append(TimeSpan.FromSeconds(5)).Max();
        var last = definition.WindDown.IsEmpty ? TimeSpan.Zero : definition.WindDown[^1].Wait;
        // Longer than it is, whatever the history says.
        var seconds = Math.Max(longest.TotalSeconds * 3, last.TotalSeconds * 2);
        return TimeSpan.FromSeconds(Math.Ceiling(seconds / 10) * 10);
    }
}
