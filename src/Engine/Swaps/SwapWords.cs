using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Services;
using CalmSentry.Store;

namespace CalmSentry.Engine.Swaps;

/// <summary>Swaps in words.</summary>
internal static class SwapWords
{
    public const string Name = "swap";

    /// <summary>What is under way, as a clause.</summary>
    public static string Doing(Swap swap) =>
        swap.Step switch
        {
            SwapStep.Looking => "it is stopped, for its files change while the new ones are looked at",
            SwapStep.Stopping when swap.IsJob => $"version {swap.Version.Number} waits for the run under way to end",
            SwapStep.Stopping => "it is stopped for its new files",
            SwapStep.Exchanging => $"version {swap.Version.Number} is put in place",
            SwapStep.Beginning => $"it is started with version {swap.Version.Number}",
            SwapStep.Watching =>
                $"it is ready with version {swap.Version.Number}, and watched for {Duration.Write(swap.WatchFor)}",
            SwapStep.StoppingAgain => $"with version {swap.Version.Number} {swap.Why}: it is stopped",
            SwapStep.Returning => $"version {swap.Before.Number} is put back",
            SwapStep.BeginningAgain => $"it is started with version {swap.Before.Number} again",
            _ => "it is done",
        };

    /// <summary>A run after one that was not well, also when another has begun since; null: nothing is wrong.</summary>
    public static SwapFailure? Failed(Definition definition, Situation now, RunNumber after)
    {
        if (now.LastEnd is { AsAsked: false } end && end.Run > after)
            return new(end.Run, $"run {end.Run} {OutcomeWords.Of(end.Outcome)}");
        if (now.Run is not { } run || run.Number <= after)
            return null;
        if (run.EndedFor is { } outcome)
            return new(run.Number, $"run {run.Number} {OutcomeWords.Of(outcome)}");
        return Health.Of(definition, now) is { Level: HealthLevel.Poor } health
            ? new(run.Number, $"run {run.Number} is not well: {health.Evidence}")
            : null;
    }

    /// <summary>What came of it, with evidence of both versions, in sentences.</summary>
    public static string Said(ServiceActor actor, Swap swap, SentryStore store)
    {
        var title = actor.Definition.Title;
        var (was, now) = (swap.Before.Number, swap.Version.Number);
        // The sentry failed at it again and again, or its service was unwrapped meanwhile.
        if (swap.Step != SwapStep.Done)
            return $"The new files of {title} have not come to their end: {Doing(swap)}. 'calm logbook' says what went wrong; a sentry "
                + "that is started anew goes on with them.";
        if (swap.Stuck)
        {
            var files = swap.InPlace is { } there
                ? $"{title} still has version {there} of its files"
                : $"{swap.Directory} is not known to be of one version, and {title} is not started from it";
            var with = swap.FailedRun is null ? "" : $" With version {now} {swap.Why}.";
            return $"{files}: {swap.Down}.{with}{Printed(actor, swap.FailedRun, store)}\nPut its files right, then start it: "
                + $"calm start {actor.Definition.Name}";
        }

        if (swap.Why is { } why)
        {
            var kept = swap.Down is { } down
                ? $"Version {was} is in place again, but it does not run: {down}."
                : $"Version {was} is in place again.";
            var failed = swap.FailedRun is null ? why : $"with version {now} {why}";
            return $"{title} keeps its files of before: {failed}.{Printed(actor, swap.FailedRun, store)}"
                + $"\n{kept} {actor.View.Why}";
        }

        if (swap.Down is { } reason)
            return $"{title} has version {now} of its files, but does not run: {reason}. {actor.View.Why}"
                + (
                    swap.ProvenAt is null
                        ? $" Version {now} was not proven; calm swap {actor.Definition.Name} --back {was} brings {was} back."
                        : ""
                );
        var watched = swap is { ProvenAt: not null, WatchFor.Ticks: > 0 }
            ? $" It stayed well for {Duration.Write(swap.WatchFor)}."
            : "";
        return $"{title} has version {now} of its files. {actor.View.Why}{watched} Version {was} is kept: calm swap "
            + $"{actor.Definition.Name} --back {was}";
    }

    private static string Printed(ServiceActor actor, RunNumber? failed, SentryStore store)
    {
        if (failed is not { } number)
            return "";
        var lines =
            store.Runs(actor.Id, MostRuns).FirstOrDefault(run => run.Number == number)?.Evidence?.LastLines ?? [];
        return lines.Length == 0
            ? $" Run {number} printed nothing."
            : $" Run {number} printed last:\n{string.Join('\n', lines.Select(line => $"  {line}"))}";
    }

    private const int MostRuns = 20;
}
