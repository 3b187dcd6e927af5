using System.Globalization;
using CalmSentry.Core.Availability;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Recovery;

namespace CalmSentry.Core.Wording;

/// <summary>Something that will happen by itself.</summary>
/// <param name="At">When; null: when its condition comes true.</param>
public sealed record Coming(DateTimeOffset? At, string Text);

/// <summary>Something a person could do about it.</summary>
/// <param name="Command">The command that does it, as typed.</param>
public sealed record Possible(string Text, string Command);

/// <summary>
/// From where a service stands: what comes next by itself, and what a person could do. Both follow from the decisions
/// of <see cref="ServiceLife"/>.
/// </summary>
public static class Outlook
{
    public static IReadOnlyList<Coming> Next(Definition definition, Situation now)
    {
        var next = new List<Coming>();
        switch (now.Phase)
        {
            case Phase.Running:
                foreach (
                    var (watched, i) in now.Run!.Watched.Select((one, i) => (one, i))
                        .Where(one => one.one is { Bad: > 0, PoorSince: null })
                )
                {
                    var watch = definition.Watch[i];
                    next.Add(
                        new(
                            watch.Lasting > TimeSpan.Zero
                                ? watched.Since + watch.Lasting
                                : watched.Since + (watch.Beat * (watch.Patience - 1)),
                            $"{watched.Seen}: if that stays so ({watched.Bad} of {watch.Patience} looks), "
                                + $"{Then(watch.Follows)}."
                        )
                    );
                }

                // What is on cannot fall: nothing of it runs.
                if (now.Run.Switch != Switch.On)
                    next.Add(new(null, IfItFalls(definition, now)));
                break;
            case Phase.Starting when now.WakeAt is { } limit:
                next.Add(
                    definition.Begin.Proof is UpForProof
                        ? new(limit, "It counts as running.")
                        : new(
                            limit,
                            $"If it is not proven by then ({definition.Begin.Proof.InWords}), "
                                + $"{(definition.Begin.Proof.OnlyTell ? "it is said, and it goes on" : "it is wound down as a failed start")}."
                        )
                );
                break;
            case Phase.Waiting when now.Awaited is null:
                next.Add(new(now.WakeAt, "It is tried again."));
                break;
            case Phase.Waiting:
                next.Add(new(null, "As soon as what it waits for is there, it is launched."));
                foreach (
                    var (state, need) in now
                        .Awaited.Needs.Select((state, i) => (state, definition.Begin.Needs[i]))
                        .Where(one => one.state is { Open: true, Told: false })
                )
                    next.Add(
                        new(
                            state.Limit,
                            $"If {need.InWords} is still missing, "
                                + $"{need.Follows switch { NeedFollow.GoAhead => "it goes ahead without", NeedFollow.Hold => "it is put on hold", _ => "it is said, and it waits on" }}."
                        )
                    );
                break;
            case Phase.Stopping:
                var steps = definition.WindDown;
                next.Add(
                    now.WindDownStep < steps.Length
                        ? new(
                            now.WakeAt,
                            now.WindDownStep + 1 < steps.Length
                                ? $"What is left of it gets the next step: {steps[now.WindDownStep + 1].What}."
                                : "What is left of it is ended by force."
                        )
                        : new(null, "Once the last of its processes is gone it is stopped.")
                );
                if (now.Afterwards is Afterwards.StartAgain)
                    next.Add(new(null, "Once it is stopped it is started again."));
                if (now.Afterwards is Afterwards.Leave)
                    next.Add(new(null, "Once it is stopped it is unwrapped."));
                break;
            case Phase.Held:
                next.Add(
                    now.WakeAt is { } retry
                        ? new(retry, "It is tried again by itself; one more bad end puts it back on hold.")
                        : new(null, "Nothing is tried by itself: a person is needed.")
                );
                break;
            case Phase.Stopped:
                next.Add(
                    new(
                        null,
                        definition.Begin.At switch
                        {
                            BeginAt.Boot => "It begins with the machine; until then only when it is started.",
                            BeginAt.BootLate =>
                                "It begins once all of boot is proven; until then only when it is started.",
                            BeginAt.Never => "It never begins: it is set so.",
                            _ => "Nothing happens by itself: it begins when it is started.",
                        }
                    )
                );
                break;
        }

        if (now.Lost.Length > 0)
            next.Add(new(null, $"Once {string.Join(" and ", now.Lost)} is proven again, it is restarted."));
        return next;
    }

    public static IReadOnlyList<Possible> Could(Definition definition, Situation now)
    {
        var name = definition.Name;
        var could = new List<Possible>();
        switch (now.Phase)
        {
            case Phase.Held:
                could.Add(new("Look at what it printed last", $"calm output {name}"));
                could.Add(new("See how its runs ended", $"calm runs {name}"));
                could.Add(new("Once the cause is mended, let it try again", $"calm release {name}"));
                could.Add(new("Or leave it down", $"calm stop {name}"));
                break;
            case Phase.Waiting when now.Awaited is null:
                could.Add(new("Try it now rather than then", $"calm start {name}"));
                could.Add(new("Look at what it printed last", $"calm output {name}"));
                could.Add(new("Leave it down", $"calm stop {name}"));
                break;
            case Phase.Waiting:
                could.Add(new("Begin without what it waits for", $"calm start {name} --without-needs"));
                could.Add(new("Leave it down", $"calm stop {name}"));
                break;
            case Phase.Running when now.Run is { } run && run.Watched.Any(watched => watched.PoorSince is not null):
                could.Add(new("Look at what it printed last", $"calm output {name}"));
                could.Add(new("Begin it again, with its wind-down", $"calm restart {name}"));
                break;
            case Phase.Stopped when definition.Begin.At == BeginAt.Never:
                could.Add(new("Let it be started", $"calm adjust {name} --at request"));
                break;
            case Phase.Stopped:
                if (now.LastEnd is { Bad: true })
                    could.Add(new("Look at what it printed last", $"calm output {name}"));
                could.Add(new("Begin it", $"calm start {name}"));
                if (ServiceTimes.Of(now) == ServiceTime.Fallen)
                    could.Add(new("Or leave it down, and off the board", $"calm stop {name}"));
                break;
        }

        return could;
    }

    private static string Then(WatchFollow then) =>
        then switch
        {
            WatchFollow.Note => "it is noted",
            WatchFollow.Tell => "it is told, and it goes on",
            WatchFollow.Restart => "it is wound down and begun again",
            _ => "it is ended by force and begun again",
        };

    private static string IfItFalls(Definition definition, Situation now)
    {
        var part = definition.Recover;
        if (part.After == RecoverAfter.Never || definition.Begin.At == BeginAt.Never)
            return "If it falls, it is not begun again by itself.";
        if (now.OnTrial)
            return $"If it falls within {Duration.Write(part.SteadyAfter)} of its launch, it goes back on hold.";
        var pause = RecoveryDecision.PauseOf(part, now.Pauses);
        var hold =
            part.HoldEnds == 0
                ? ""
                : string.Create(
                    CultureInfo.InvariantCulture,
                    $"; {part.HoldEnds} bad ends within {Duration.Write(part.HoldWithin)} put it on hold "
                        + $"({now.BadEnds.Length} so far)"
                );
        return $"If it {(part.After == RecoverAfter.AnyEnd ? "ends" : "falls")}, it is begun again "
            + $"{(pause == TimeSpan.Zero ? "at once" : $"after {Duration.Write(pause)}")}{hold}.";
    }
}
