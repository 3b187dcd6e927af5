using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Wording;

/// <summary>
/// The one sentence (or two) that says why a service is as it is. Times are in the given zone, with the day unless it is
/// the day on which the state began.
/// </summary>
public static class Explanation
{
    public static string Of(Definition definition, Situation now, TimeZoneInfo zone)
    {
        string At(DateTimeOffset time) => Clock(time, now.Since, zone);
        var quiet = now.Quiet is { } still
            ? $" Quiet until {At(still.Until)}{(still.Reason is { } reason ? $" ({reason})" : "")}: no alert is raised"
                + $"{(still.NoRestarts ? ", and nothing is restarted" : "")}."
            : "";
        return Stands(definition, now, At) + Asking(definition, now, At) + quiet;
    }

    private static string Asking(Definition definition, Situation now, Func<DateTimeOffset, string> at)
    {
        if (now.Run?.Asks is not var (question, place))
            return "";
        var so = $" It probably {Asked.InWords(question.Text, place)} (since {at(question.Since)});";
        return (place, definition.Program.Screen) switch
        {
            (AskedAt.Window, _) =>
                $"{so} the console answers it, and 'calm window {definition.Name} --to FILE.png' shows it.",
            (_, null) => $"{so} 'calm terminal {definition.Name} --send TEXT' answers it.",
            _ => $"{so} 'calm terminal {definition.Name}' joins it.",
        };
    }

    private static string Stands(Definition definition, Situation now, Func<DateTimeOffset, string> At) =>
        now.Phase switch
        {
            Phase.Running => Running(definition, now, At),
            Phase.Starting => Starting(definition, now, now.Run!, At),
            Phase.Waiting when now.Awaited is { } awaited => Waiting(definition, awaited, now, At),
            Phase.Waiting =>
                $"Run {now.LastEnd?.Run} {Outcome(now)} at {At(now.LastEnd?.At ?? now.Since)}; {Again(definition)} at {At(now.WakeAt ?? now.Since)}.",
            Phase.Stopping => Stopping(definition, now, At),
            Phase.Held => Held(definition, now, At),
            Phase.Resting => Resting(now, At),
            _ when definition.IsJob => AtRest(definition, now, At),
            _ => Stopped(definition, now, At),
        };

    private static string Running(Definition definition, Situation now, Func<DateTimeOffset, string> at)
    {
        var poor = Health.Of(definition, now) is { Level: HealthLevel.Poor, Since: { } ill, Evidence: var evidence }
            ? $" Health poor since {at(ill)}: {evidence}."
            : "";
        if (now.WatchesPausedUntil is { } until)
            poor = $" Its watches are paused until {at(until)}.";
        var back = now is { Restarts: > 0, LastEnd: { } end }
            ? $" Calm Sentry restarted it: run {end.Run} {OutcomeWords.Of(end.Outcome)} at {at(end.At)}."
            : "";
        if (now.Run!.Switch == Switch.On)
        {
            return $"On since {at(now.Since)}: its start command succeeded; it has no process of its own. "
                + $"'calm stop {definition.Name}' switches it off.{poor}{back}";
        }

        var lost = now.Lost.IsEmpty
            ? ""
            : $" {string.Join(" and ", now.Lost)}, which it needs, is gone; it is restarted once that is back.";
        return $"Running since {at(now.Run.Launched ?? now.Since)} as pid {now.Run.Pid}.{poor}{back}{lost}{Due(now, at)}";
    }

    private static string Due(Situation now, Func<DateTimeOffset, string> at) =>
        now.Rhythm?.Restart switch
        {
            { Busy: { } busy, Goes: false, Latest: var latest } =>
                $" Its planned restart is put off: {busy}; {at(latest)} at the latest.",
            { Goes: true } => " Its planned restart waits for others that need it.",
            _ => "",
        };

    private static string Again(Definition definition) => definition.IsJob ? "tried again" : "restarting";

    private static string Resting(Situation now, Func<DateTimeOffset, string> at)
    {
        var next = now.Rhythm?.Next is { Due: { } due }
            ? $"its next run is at {at(due)}"
            : "no run is planned any more";
        var last = now.LastEnd is { } end ? $" Run {end.Run} {OutcomeWords.Of(end.Outcome)} at {at(end.At)}." : "";
        return $"Resting: {next}.{last}";
    }

    private static string AtRest(Definition definition, Situation now, Func<DateTimeOffset, string> at)
    {
        var by = now.Asked is { What: AskedFor.Stop } stop ? $", as {stop.By} asked at {at(stop.At)}" : "";
        var last = now.LastEnd is { } end ? $" Run {end.Run} {OutcomeWords.Of(end.Outcome)} at {at(end.At)}." : "";
        return $"Its rhythm is at rest{by}: 'calm start {definition.Name}' runs it, and puts it in force again.{last}";
    }

    private static string Starting(Definition definition, Situation now, LiveRun run, Func<DateTimeOffset, string> at)
    {
        if (run.Launched is not { } launched)
            return $"Starting run {run.Number}.";
        if (definition.Program.Kind == ProgramKind.Toggles && run.Switch == Switch.Off)
            return $"Its start command is running as pid {run.Pid}.";
        if (definition.Program.Kind == ProgramKind.Detaches && !run.Detached)
            return $"Started at {at(launched)}; waits for it to put itself into the background.";
        var proof = definition.Begin.Proof;
        var begun = run.Pid is { } pid ? $"Started as pid {pid}" : "Switched on";
        var so = run.Missing is { } missing ? $" (so far: {missing})" : "";
        var limit =
            run.Overdue ? $". That was expected within {Duration.Write(proof.Within)}: it needs attention."
            : proof is UpForProof || now.WakeAt is not { } latest ? "."
            : $", at {at(latest)} at the latest.";
        return $"{begun} at {at(launched)}; ready once {proof.InWords}{so}{limit}";
    }

    private static string Waiting(
        Definition definition,
        Awaited awaited,
        Situation now,
        Func<DateTimeOffset, string> at
    )
    {
        var since = $"Waiting since {at(awaited.Since)}";
        if (awaited.Step == AwaitStep.Boot)
        {
            return $"{since} until everything that starts at boot is ready, "
                + $"until {at(now.WakeAt ?? now.Since)} at the latest.";
        }

        if (awaited.Step == AwaitStep.Turn)
            return definition.IsJob
                ? $"{since} for its turn: as many jobs are at work as may be at once (jobs-at-once in the settings)."
                : $"{since} for its turn: the machine is busy starting others.";
        var open = awaited
            .Needs.Select((state, i) => (state, need: definition.Begin.Needs[i]))
            .Where(one => one.state.Open)
            .Select(one =>
                $"for {one.need.InWords} ({one.state.Missing}), "
                + (
                    one.state.Told
                        ? $"which was expected within {Duration.Write(one.need.Within)}: it needs attention"
                        : $"until {at(one.state.Limit)}, then {Outlook.Follows(one.need)}"
                )
            );
        return $"{since} {string.Join("; ", open)}.";
    }

    private static string Stopping(Definition definition, Situation now, Func<DateTimeOffset, string> at)
    {
        var why =
            now.Run?.EndedFor is { Kind: OutcomeKind.NotProven }
                ? $"Stopping: it was not ready within {Duration.Write(definition.Begin.Proof.Within)}"
            : now.Run?.EndedFor is { Kind: OutcomeKind.TooLong, Detail: var longest }
                ? $"Stopping: it took longer than {longest}"
            : now.Run?.EndedFor is { } reason ? $"Stopping, to be restarted: its health was poor ({reason.Detail})"
            : now.Afterwards == Afterwards.Recover ? "Stopping: its main process ended, others are left"
            : now.Afterwards == Afterwards.ShowAgain
                ? "Stopping: its display has fallen, and it starts again with a new one"
            : now.Afterwards == Afterwards.AwaitNeeds ? $"Stopping with {now.Asked?.By}, to start again with it"
            : now.Afterwards == Afterwards.StartAgain ? $"Restarting, as {now.Asked?.By} asked"
            : now.Afterwards == Afterwards.Leave ? $"Stopping to be unwrapped, as {now.Asked?.By} asked"
            : $"Stopping, as {now.Asked?.By} asked";
        if (now.Run?.Switch == Switch.GoingOff)
            return $"{why}; its off command is running.";
        if (now.WindDownStep >= definition.WindDown.Length)
            return $"{why}; all that is left of it is being killed.";
        var answer = now.Steps is [.., { Answer: { } answered }] ? $" ({answered})" : "";
        var next = now.WindDownStep + 1 < definition.WindDown.Length ? "get the next step" : "be killed";
        return $"{why}; {definition.WindDown[now.WindDownStep].Taken}{answer}, "
            + $"what is left at {at(now.WakeAt ?? now.Since)} will {next}.";
    }

    private static string Held(Definition definition, Situation now, Func<DateTimeOffset, string> at)
    {
        var why = now.HeldFor is { } because
            ? $"because {because}"
            : $"after {now.BadEnds.Length} failure{(now.BadEnds.Length == 1 ? "" : "s")} within {Duration.Write(definition.Recover.HoldWithin)}; "
                + $"the last time it {Outcome(now)}";
        var release = $"'calm release {definition.Name}'";
        return $"On hold since {at(now.Since)} {why}. "
            + (
                now.WakeAt is { } retry
                    ? $"Calm Sentry tries again at {at(retry)}; {release} tries it now."
                    : $"{release} tries it again."
            );
    }

    private static string Stopped(Definition definition, Situation now, Func<DateTimeOffset, string> at)
    {
        var start = $"'calm start {definition.Name}'";
        if (now.LastEnd is not { } end)
        {
            return definition.Begin.At switch
            {
                BeginAt.Boot => $"Registered, not running: it starts with the machine, or now with {start}.",
                BeginAt.BootLate =>
                    $"Registered, not running: it starts after everything that starts at boot, or now with {start}.",
                BeginAt.Never =>
                    $"Registered, not running: starting is disabled. 'calm adjust {definition.Name} --at request' enables it.",
                _ => $"Registered, not running: {start} starts it.",
            };
        }

        if (end.AsAsked)
        {
            return $"Stopped at {at(end.At)}{(now.Asked is { } asked ? $" by {asked.By}" : "")}; "
                + $"run {end.Run} {OutcomeWords.Of(end.Outcome)}{(end.Forced ? ", by the last step" : "")}.";
        }

        if (now.Asked is { What: AskedFor.Stop } stop && stop.At >= end.At)
            return $"Stopped at {at(stop.At)} by {stop.By}, after run {end.Run} {OutcomeWords.Of(end.Outcome)}.";
        var tail =
            end.Outcome.IsGood && !end.FailedStart && definition.Recover.After == RecoverAfter.Failure
                ? "it is restarted only after a failure"
                : "it will not be restarted automatically";
        return $"Run {end.Run} {OutcomeWords.Of(end.Outcome)} at {at(end.At)}; {tail}.";
    }

    private static string Outcome(Situation now) => now.LastEnd is { } end ? OutcomeWords.Of(end.Outcome) : "ended";

    /// <summary>A time as a clock shows it; with its date where that is another than that of a near one.</summary>
    public static string Clock(DateTimeOffset time, DateTimeOffset near, TimeZoneInfo zone)
    {
        var local = WallClock.In(time, zone);
        var format = local.Date == WallClock.In(near, zone).Date ? "HH:mm:ss" : "yyyy-MM-dd HH:mm:ss";
        return local.ToString(format, CultureInfo.InvariantCulture);
    }
}
