using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Probing;
using CalmSentry.Engine.Services;
using CalmSentry.Server.Http;

namespace CalmSentry.Server.Api;

/// <summary>Telling a running program to read its settings anew, and looking whether it still serves after that.</summary>
internal static class Reloading
{
    /// <summary>What is wrong with its settings mostly shows at once: so long nothing is taken for good.</summary>
    private static readonly TimeSpan Settling = TimeSpan.FromMilliseconds(500),
        LookBeat = TimeSpan.FromMilliseconds(100);

    public static IResult? Refusal(ServiceActor actor)
    {
        var (definition, now) = (actor.Definition, actor.Situation);
        if (definition.Reload.IsEmpty)
            return Problems.Of(
                409,
                ProblemCode.NoReload,
                "Not set",
                $"Nothing says how {definition.Title} is told to read its settings anew; nothing was done.",
                $"Say it, such as: calm adjust {definition.Name} --reload HUP\n"
                    + $"Or restart it: calm restart {definition.Name}"
            );
        return now is { Phase: Phase.Running, Run: not null }
            ? null
            : Problems.Of(
                409,
                ProblemCode.NotRunning,
                "Not running",
                $"{definition.Title} is not running; nothing was done. {actor.View.Why}",
                $"It reads its settings when it starts: calm start {definition.Name}"
            );
    }

    /// <summary>Its steps, one after the other, then the look at its proof.</summary>
    public static async Task<Answer> Do(
        ServiceActor actor,
        Principal by,
        RunTools tools,
        Record logbook,
        Clocks clocks,
        CancellationToken cancellation
    )
    {
        var (definition, run) = (actor.Definition, actor.Situation.Run!.Number);
        var told = new List<string>();
        foreach (var step in definition.Reload)
        {
            var effect = await actor.Perform(step, run).ConfigureAwait(false);
            if (effect.Failed)
                return Failed($"{step.What} failed: {effect.Answer}");
            told.Add(step is SignalStep ? step.Taken : $"{step.What}: {effect.Answer}");
        }

        var seen = await Look(actor, run, tools, clocks, cancellation).ConfigureAwait(false);
        if (seen.Missing is { } missing)
            return Failed($"{string.Join("; ", told)}; after that {missing}");
        logbook.Note(actor, new ReloadedEntry(run, string.Join("; ", told), seen.Seen), by);
        return new()
        {
            Code = AnswerCode.Reloaded,
            CameTrue = true,
            Said =
                $"{definition.Title} was told to read its settings anew: {string.Join("; ", told)}. After that: {seen.Seen}.",
            Service = actor.View,
        };

        Answer Failed(string why)
        {
            logbook.Note(actor, new ReloadFailedEntry(run, why), by);
            return new()
            {
                Code = AnswerCode.NotReloaded,
                CameTrue = false,
                Said = $"{definition.Title} has not read its settings anew: {why}. {actor.View.Why}",
                Service = actor.View,
            };
        }
    }

    /// <summary>What shows that the same run serves still, or what is missing, as clauses.</summary>
    private static async Task<(string? Missing, string Seen)> Look(
        ServiceActor actor,
        RunNumber run,
        RunTools tools,
        Clocks clocks,
        CancellationToken cancellation
    )
    {
        var proof = actor.Definition.Begin.Proof;
        var limit = clocks.Time.GetTimestamp();
        for (var beat = Settling; ; beat = LookBeat)
        {
            await clocks.Delay(beat, cancellation).ConfigureAwait(false);
            if (actor.Situation.Run is not { } live || live.Number != run)
                return ($"run {run} was over", "");
            if (proof is not (TcpProof or HttpProof or CommandProof))
                return (null, live.Pid is { } pid ? $"it runs on as pid {pid}" : "it is on");
            var look = await Answers.Of(proof, actor, run, tools, null, cancellation).ConfigureAwait(false);
            if (look.Missing is null || clocks.Time.GetElapsedTime(limit) > proof.Within)
                return look;
        }
    }
}
