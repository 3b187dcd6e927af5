using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Wording;

/// <summary>Something that will happen by itself.</summary>
/// <param name="At">When; null: when its condition comes true.</param>
public sealed record Coming(DateTimeOffset? At, string Text);

/// <summary>Something a person could do about it.</summary>
/// <param name="Command">The command that does it, as typed.</param>
public sealed record Possible(string Text, string Command);

/// <summary>
/// From where a service stands: what comes next by itself, and what a person could do. Both follow from the decisions of
/// <see cref="ServiceLife"/>.
/// </summary>
public static class Outlook
{
    public static IReadOnlyList<Coming> Next(Definition definition, Situation now)
    {
        var next = new List<Coming>(
            now.Phase switch
            {
                Phase.Running => WhileRunning(definition, now),
                Phase.Starting when now is { WakeAt: { } limit, Run.Launched: not null } =>
                [
                    WhileStarting(definition.Begin.Proof, limit),
                ],
                Phase.Waiting when now.Awaited is null => [new(now.WakeAt, "Calm Sentry tries it again.")],
                Phase.Waiting => WhileWaiting(definition, now.Awaited),
                Phase.Stopping => WhileStopping(definition, now),
                Phase.Held when now.WakeAt is { } retry =>
                [
                    new(retry, "Calm Sentry tries it again; one more failure puts it back on hold."),
                ],
                Phase.Held => [new(null, "Nothing happens automatically: it needs attention.")],
                Phase.Stopped when definition.IsJob =>
                [
                    new(null, "Its rhythm is at rest: nothing runs it until somebody starts it."),
                ],
                Phase.Stopped => [new(null, WhileStopped(definition.Begin.At))],
                _ => [],
            }
        );
        if (now.Rhythm is { Next: { } place })
            next.Add(
                new(place.Due, $"{(definition.IsJob ? "Its next run" : "Its next planned restart")} ({place.Of}).")
            );
        if (now.Rhythm is { Restart: { Goes: false, Busy: not null } due })
            next.Add(new(due.Latest, "Its planned restart is done, busy or not."));
        if (now.Lost.Length > 0)
            next.Add(new(null, $"Once {string.Join(" and ", now.Lost)} is ready again, it is restarted."));
        return next;
    }

    /// <summary>What follows when a need is still missing at its limit, as a clause.</summary>
    public static string Follows(Need need) =>
        need.Follows switch
        {
            NeedFollow.GoAhead => "it starts without it",
            NeedFollow.Hold => "it is put on hold",
            _ => "an alert is raised and it keeps waiting",
        };

    private static IEnumerable<Coming> WhileRunning(Definition definition, Situation now)
    {
        for (var i = 0; i < now.Run!.Watched.Length; i++)
        {
            var (watched, watch) = (now.Run.Watched[i], definition.Watch[i]);
            if (watched is not { Bad: > 0, PoorSince: null })
                continue;
            yield return new(
                watched.Since + (watch.Lasting > TimeSpan.Zero ? watch.Lasting : watch.Beat * (watch.Patience - 1)),
                $"{watched.Seen}: if that continues ({watched.Bad} of {watch.Patience} looks), {Follows(watch.Follows)}."
            );
        }

        if (definition.IsJob)
        {
            if (now.WakeAt is { } limit)
                yield return new(limit, "If it is still at work then, it is stopped: a failed run.");
            yield break;
        }

        // What is on cannot fail: it has no process.
        if (now.Run.Switch != Switch.On)
            yield return new(null, IfItFails(definition, now));
    }

    private static Coming WhileStarting(Proof proof, DateTimeOffset limit) =>
        proof is UpForProof
            ? new(limit, "It counts as running.")
            : new(
                limit,
                $"If it is not ready by then ({proof.InWords}), "
                    + (proof.OnlyTell ? "an alert is raised and it keeps running." : "it is stopped: a failed start.")
            );

    private static IEnumerable<Coming> WhileWaiting(Definition definition, Awaited awaited)
    {
        yield return new(null, "It starts as soon as what it waits for is there.");
        for (var i = 0; i < awaited.Needs.Length; i++)
        {
            if (awaited.Needs[i] is { Open: true, Told: false } state)
            {
                var need = definition.Begin.Needs[i];
                yield return new(state.Limit, $"If {need.InWords} is still missing, {Follows(need)}.");
            }
        }
    }

    private static IEnumerable<Coming> WhileStopping(Definition definition, Situation now)
    {
        var steps = definition.WindDown;
        if (now.WindDownStep + 1 < steps.Length)
            yield return new(now.WakeAt, $"What is left of it gets the next step: {steps[now.WindDownStep + 1].What}.");
        else if (now.WindDownStep < steps.Length)
            yield return new(now.WakeAt, "What is left of it is killed.");
        else
            yield return new(null, "Once the last of its processes is gone it is stopped.");
        if (now.Afterwards is Afterwards.StartAgain)
            yield return new(null, "Once it is stopped it is started again.");
        if (now.Afterwards is Afterwards.Leave)
            yield return new(null, "Once it is stopped it is unwrapped.");
    }

    private static string WhileStopped(BeginAt at) =>
        at switch
        {
            BeginAt.Boot => "It starts with the machine; until then only when somebody starts it.",
            BeginAt.BootLate =>
                "It starts after everything that starts at boot; until then only when somebody starts it.",
            BeginAt.Never => "It never starts: starting is disabled (begin.at: never).",
            _ => "Nothing happens automatically: it starts when somebody starts it.",
        };

    public static IReadOnlyList<Possible> Could(Definition definition, Situation now)
    {
        var name = definition.Name;
        var output = new Possible("Read what it printed last", $"calm output {name}");
        return now.Phase switch
        {
            Phase.Held =>
            [
                output,
                new("See how its runs ended", $"calm runs {name}"),
                new("Once the cause is fixed, let it try again", $"calm release {name}"),
                new("Or leave it stopped", $"calm stop {name}"),
            ],
            Phase.Waiting when now.Awaited is null =>
            [
                new("Start it now instead", $"calm start {name}"),
                output,
                new("Leave it stopped", $"calm stop {name}"),
            ],
            Phase.Waiting =>
            [
                new("Start it without what it waits for", $"calm start {name} --without-needs"),
                new("Leave it stopped", $"calm stop {name}"),
            ],
            Phase.Running when now.Run is { } run && run.Watched.Any(watched => watched.PoorSince is not null) =>
            [
                output,
                new("Restart it cleanly", $"calm restart {name}"),
            ],
            Phase.Resting =>
            [
                .. now.LastEnd is { Bad: true } ? [output] : Array.Empty<Possible>(),
                new("Run it now", $"calm start {name}"),
                new("Skip its next moment", $"calm ahead {name} --skip"),
                new("Lay its rhythm to rest", $"calm stop {name}"),
            ],
            Phase.Stopped when definition.Begin.At == BeginAt.Never =>
            [
                new("Let it be started", $"calm adjust {name} --at request"),
            ],
            Phase.Stopped =>
            [
                .. now.LastEnd is { Bad: true } ? [output] : Array.Empty<Possible>(),
                new("Start it", $"calm start {name}"),
                .. ServiceTimes.Of(now) == ServiceTime.Fallen
                    ? [new("Or leave it stopped, and off the board", $"calm stop {name}")]
                    : Array.Empty<Possible>(),
            ],
            _ => [],
        };
    }

    private static string Follows(WatchFollow follows) =>
        follows switch
        {
            WatchFollow.Note => "it is noted",
            WatchFollow.Tell => "an alert is raised and it keeps running",
            WatchFollow.Restart => "it is stopped and restarted",
            _ => "it is killed and restarted",
        };

    private static string IfItFails(Definition definition, Situation now)
    {
        var part = definition.Recover;
        if (part.After == RecoverAfter.Never || definition.Begin.At == BeginAt.Never)
            return "If it fails, it will not be restarted automatically.";
        if (now.OnTrial)
            return $"If it fails within {Duration.Write(part.SteadyAfter)} of its launch, it goes back on hold.";
        var pause = RecoveryDecision.PauseOf(part, now.Pauses);
        var hold =
            part.HoldEnds == 0
                ? ""
                : string.Create(
                    CultureInfo.InvariantCulture,
                    $"; {part.HoldEnds} failure{(part.HoldEnds == 1 ? "" : "s")} within {Duration.Write(part.HoldWithin)} {(part.HoldEnds == 1 ? "puts" : "put")} it on hold ({now.BadEnds.Length} so far)"
                );
        var then = part
            .Then.Where(then => then.After > now.FollowedUp && then.After > now.BadEnds.Length)
            .MinBy(then => then.After);
        return $"If it {(part.After == RecoverAfter.AnyEnd ? "ends" : "fails")}, Calm Sentry restarts it "
            + $"{(pause == TimeSpan.Zero ? "at once" : $"after {Duration.Write(pause)}")}{hold}"
            + (then is null ? "." : $"; after {then.After}, {then.Command[0]} is run.");
    }
}
