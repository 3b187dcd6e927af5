using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Core.Wording;

/// <summary>The one sentence (or two) that says why a service is as it is. Times are in the given zone.</summary>
public static class Explanation
{
    public static string Of(Definition definition, Situation now, TimeZoneInfo zone)
    {
        string At(DateTimeOffset time) => Clock(time, now.Since, zone);
        switch (now.Phase)
        {
            case Phase.Running:
                var back = now is { Restarts: > 0, LastEnd: { } end }
                    ? $" It came back by itself: run {end.Run} {OutcomeWords.Of(end.Outcome)} at {At(end.At)}."
                    : "";
                var poor = Health.Of(definition, now)
                    is { Level: HealthLevel.Poor, Since: { } ill, Evidence: var evidence }
                    ? $" In a poor state since {At(ill)}: {evidence}."
                    : "";
                if (now.Run!.Switch == Switch.On)
                    return $"On since {At(now.Since)}: its start command succeeded, nothing of its own runs between. "
                        + $"'calm stop {definition.Name}' switches it off.{poor}{back}";
                return $"Running since {At(now.Run.Launched ?? now.Since)} as pid {now.Run.Pid}."
                    + poor
                    + back
                    + (
                        now.Lost.IsEmpty
                            ? ""
                            : $" {string.Join(" and ", now.Lost)}, which it needs, is gone; it is restarted "
                                + $"once that is back."
                    );
            case Phase.Starting when now.Run!.Launched is null:
                return $"Being launched (run {now.Run.Number}).";
            case Phase.Starting when definition.Program.Kind == ProgramKind.Toggles && now.Run.Switch == Switch.Off:
                return $"Its start command is at work as pid {now.Run.Pid}.";
            case Phase.Starting when definition.Program.Kind == ProgramKind.Detaches && !now.Run.Detached:
                return $"Launched at {At(now.Run.Launched ?? now.Since)}; it is to put itself into the background, "
                    + $"and is then known by what it leaves there.";
            case Phase.Starting:
                return $"{(now.Run.Pid is { } pid ? $"Launched as pid {pid}" : "Switched on")} at "
                    + $"{At(now.Run.Launched.Value)}; it counts as running once {definition.Begin.Proof.InWords}"
                    + (now.Run.Missing is { } missing ? $" (so far: {missing})" : "")
                    + (
                        now.Run.Overdue
                            ? $". That was to be within {Duration.Write(definition.Begin.Proof.Within)}: "
                                + $"somebody should look."
                        : definition.Begin.Proof is UpForProof || now.WakeAt is not { } limit ? "."
                        : $", at {At(limit)} at the latest."
                    );
            case Phase.Waiting when now.Awaited is { } awaited:
                return Waiting(definition, awaited, now, At);
            case Phase.Waiting:
                return $"Run {now.LastEnd?.Run} {Outcome(now)} at {At(now.LastEnd?.At ?? now.Since)}; next try at "
                    + $"{At(now.WakeAt ?? now.Since)}.";
            case Phase.Stopping:
                return Stopping(definition, now, At);
            case Phase.Held:
                return $"On hold since {At(now.Since)}: "
                    + $"{now.HeldFor ?? $"{now.BadEnds.Length} bad ends within {Duration.Write(definition.Recover.HoldWithin)}, the last time it {Outcome(now)}"}. "
                    + (
                        now.WakeAt is { } retry
                            ? $"It is tried again by itself at {At(retry)}; 'calm release {definition.Name}' "
                                + $"tries it now."
                            : $"'calm release {definition.Name}' tries it again."
                    );
            default:
                return Stopped(definition, now, At);
        }
    }

    private static string Waiting(
        Definition definition,
        Awaited awaited,
        Situation now,
        Func<DateTimeOffset, string> at
    )
    {
        var since = $"To begin since {at(awaited.Since)}";
        if (awaited.Step == AwaitStep.Boot)
            return $"{since}, and begins late: it waits until all that begins with the machine is proven, until "
                + $"{at(now.WakeAt ?? now.Since)} at the latest.";
        if (awaited.Step == AwaitStep.Turn)
            return $"{since}; it waits for its turn, the machine is busy with others that begin.";
        var open = awaited
            .Needs.Select((state, i) => (state, need: definition.Begin.Needs[i]))
            .Where(one => one.state.Open)
            .Select(one =>
                $"for {one.need.InWords} ({one.state.Missing}), "
                + (
                    one.state.Told
                        ? $"which was to come within {Duration.Write(one.need.Within)}: somebody should look"
                        : $"until {at(one.state.Limit)}, then it "
                            + $"{one.need.Follows switch { NeedFollow.GoAhead => "goes ahead without", NeedFollow.Hold => "is put on hold", _ => "is said and it waits on" }}"
                )
            )
            .ToList();
        return $"{since}; waits {string.Join("; ", open)}.";
    }

    private static string Stopping(Definition definition, Situation now, Func<DateTimeOffset, string> at)
    {
        var why =
            now.Run?.EndedFor is { Kind: OutcomeKind.NotProven }
                ? $"It was not proven ready within {Duration.Write(definition.Begin.Proof.Within)}; it is "
                    + $"being wound down"
            : now.Run?.EndedFor is { } reason
                ? $"It was found in a poor state ({reason.Detail}); it is being ended, to be begun again"
            : now.Afterwards == Afterwards.Recover ? "Its main process ended; the rest of it is being wound down"
            : now.Afterwards == Afterwards.AwaitNeeds ? $"It goes down with {now.Asked?.By}, and begins again with it"
            : $"Asked to {(now.Afterwards == Afterwards.StartAgain ? "restart" : now.Afterwards == Afterwards.Leave ? "leave" : "stop")} "
                + $"by {now.Asked?.By}";
        if (now.Run?.Switch == Switch.GoingOff)
            return $"{why}; its stop command is at work.";
        return now.WindDownStep < definition.WindDown.Length
            ? $"{why}; {definition.WindDown[now.WindDownStep].Taken}{(now.Steps is [.., { Answer: { } answer }] ? $" ({answer})" : "")}, "
                + $"what is left at {at(now.WakeAt ?? now.Since)} "
                + $"{(now.WindDownStep + 1 < definition.WindDown.Length ? "gets the next step" : "is ended by force")}."
            : $"{why}; all that is left of it is being ended by force.";
    }

    private static string Stopped(Definition definition, Situation now, Func<DateTimeOffset, string> at)
    {
        if (now.LastEnd is not { } end)
            return definition.Begin.At switch
            {
                BeginAt.Boot =>
                    $"Registered, not running: it begins with the machine, or now with 'calm start {definition.Name}'.",
                BeginAt.BootLate =>
                    $"Registered, not running: it begins after all that begins with the machine, or now with "
                        + $"'calm start {definition.Name}'.",
                BeginAt.Never =>
                    $"Registered, not running: it is set never to begin. 'calm adjust {definition.Name} --at "
                        + $"request' lets it.",
                _ => $"Registered, not running: it begins with 'calm start {definition.Name}'.",
            };
        if (end.AsAsked)
            return $"Stopped at {at(end.At)}{(now.Asked is { } asked ? $" as {asked.By} asked" : "")}; run {end.Run} "
                + $"{OutcomeWords.Of(end.Outcome)}{(end.Forced ? ", by the last step" : "")}.";
        if (now.Asked is { What: "stop" } stop && stop.At >= end.At)
            return $"Stopped at {at(stop.At)} as {stop.By} asked, after run {end.Run} {OutcomeWords.Of(end.Outcome)}.";
        var tail =
            end.FailedStart && !end.Outcome.IsGood ? "a failed start; nothing is tried again by itself"
            : definition.Recover.After == RecoverAfter.Never ? "it is never begun again by itself"
            : end.Outcome.IsGood ? "it is begun again only after a failure"
            : "nothing is tried again by itself";
        return $"Run {end.Run} {OutcomeWords.Of(end.Outcome)} at {at(end.At)}; {tail}.";
    }

    private static string Outcome(Situation now) => now.LastEnd is { } end ? OutcomeWords.Of(end.Outcome) : "ended";

    /// <summary>The time of day, with the date when it is not the day of <paramref name="near"/>.</summary>
    private static string Clock(DateTimeOffset time, DateTimeOffset near, TimeZoneInfo zone)
    {
        var local = TimeZoneInfo.ConvertTime(time, zone);
        var format = local.Date == TimeZoneInfo.ConvertTime(near, zone).Date ? "HH:mm:ss" : "yyyy-MM-dd HH:mm:ss";
        return local.ToString(format, CultureInfo.InvariantCulture);
    }
}
