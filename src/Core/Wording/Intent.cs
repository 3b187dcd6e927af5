using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Wording;

/// <summary>What a command would do, in words, where it is only to be said.</summary>
public static class Intent
{
    private const string Nothing = "Nothing was done.";

    /// <summary>The end of a sentence about something that is registered: when it starts by itself.</summary>
    public static string StartsBy(Definition definition) =>
        definition.Begin.At switch
        {
            _ when definition is { IsJob: true, BeginsWithMachine: true } => "; it runs at its moments from now on.",
            _ when definition.IsJob => "; its rhythm is at rest until it is started.",
            BeginAt.Boot => "; it starts with the machine.",
            BeginAt.BootLate => "; it starts after everything that starts at boot.",
            _ => ".",
        };

    /// <param name="command">Program and arguments, as one line.</param>
    public static string Wrap(Definition definition, string command) =>
        $"'{definition.Title}' would be wrapped as {definition.Name}, to run as {definition.Account}: {command}. It would be "
        + $"registered, not running{StartsBy(definition)} {Nothing}";

    /// <param name="dependents">Services whose needs would name it anew.</param>
    public static string Rename(Definition before, Definition after, IReadOnlyCollection<string> dependents) =>
        $"{before.Name} would be called {after.Name}"
        + (after.Title == before.Title || after.Title == after.Name ? "" : $", with the title '{after.Title}'")
        + ". Its record, output, state directory and secrets would come along."
        + (dependents.Count == 0 ? "" : $" {string.Join(", ", dependents)} would need it by its new name.")
        + $" {Nothing}";

    /// <param name="command">Program and arguments, as one line.</param>
    public static string Start(
        Definition definition,
        Situation now,
        string command,
        string directory,
        bool withoutNeeds
    ) =>
        now switch
        {
            { Phase: Phase.Running, Run: { } run } =>
                $"{definition.Title} is running already (run {run.Number}): a start would change nothing. {Nothing}",
            { Phase: Phase.Stopping } =>
                $"{definition.Title} is being stopped: once it is, it would be started. {Launch(definition, command, directory, withoutNeeds)} {Nothing}",
            { Phase: Phase.Starting } =>
                $"{definition.Title} is starting already: a start would change nothing. {Nothing}",
            _ =>
                $"{definition.Title} would be started. {Launch(definition, command, directory, withoutNeeds)} {Nothing}",
        };

    private static string StopJob(Definition definition, Situation now, bool thisRun)
    {
        var run = now.Run is { } live
            ? $"Run {live.Number} of {definition.Title} would be stopped. {Steps(definition)}"
            : "";
        var rhythm = thisRun
            ? now.Run is null
                ? $"{definition.Title} is not at work: nothing would change."
                : "Its rhythm would go on."
            : $"Its rhythm would be at rest until somebody starts it.";
        return $"{run} {rhythm} {Nothing}".TrimStart();
    }

    /// <param name="first">Services that need it and would be stopped before it.</param>
    public static string Stop(
        Definition definition,
        Situation now,
        IReadOnlyCollection<string> first,
        bool thisRun = false
    ) =>
        definition.IsJob ? StopJob(definition, now, thisRun)
        : now.Run is null
            ? now.Phase == Phase.Stopped ? $"{definition.Title} is not running: a stop would change nothing. {Nothing}"
                : $"{definition.Title} is not running; it would not be tried again. {Nothing}"
        : $"{First(first, "stopped")}{definition.Title} would be stopped. {Steps(definition)} {Nothing}";

    /// <param name="command">Program and arguments, as one line.</param>
    public static string Release(Definition definition, string command, string directory) =>
        $"{definition.Title} would be released from its hold, and started. "
        + $"{Launch(definition, command, directory, withoutNeeds: false)} {Nothing}";

    public static string Reload(Definition definition) =>
        $"{definition.Title} would be told to read its settings anew: "
        + $"{string.Join("; ", definition.Reload.Select(step => step.What))}. Then its proof would be looked at. {Nothing}";

    /// <param name="with">Services that need it and would be restarted, too.</param>
    public static string Restart(
        Definition definition,
        Situation now,
        IReadOnlyCollection<string> with,
        string command,
        string directory
    ) =>
        now.Run is null
            ? Start(definition, now, command, directory, withoutNeeds: false)
            : $"{First(with, "stopped")}{definition.Title} would be stopped, and started again. {Steps(definition)} "
                + $"{Launch(definition, command, directory, withoutNeeds: false)}"
                + (
                    with.Count == 0
                        ? ""
                        : $" Then {string.Join(", ", with.Order(StringComparer.Ordinal))} again, in order."
                )
                + $" {Nothing}";

    /// <param name="remains">What would be left in place.</param>
    public static string Unwrap(Definition definition, Situation now, IReadOnlyCollection<string> remains) =>
        (now.Run is null ? "" : $"{definition.Title} would be stopped. {Steps(definition)} ")
        + $"{definition.Title} would be unwrapped: its definition, its revisions and its history would be gone. "
        + (remains.Count == 0 ? "" : $"Left in place: {string.Join(" and ", remains)}. ")
        + Nothing;

    private static string Launch(Definition definition, string command, string directory, bool withoutNeeds)
    {
        var needs = definition.Begin.Needs;
        var waits =
            needs.IsEmpty ? ""
            : withoutNeeds ? " What it needs would be passed over."
            : $" Before that it would wait for what it needs: {string.Join("; ", needs.Select(need => need.InWords))}.";
        return $"It would be launched as {definition.Account} in {directory}: {command}.{waits}";
    }

    private static string Steps(Definition definition)
    {
        if (definition.Program.Kind == ProgramKind.Toggles)
            return "Its stop command would be run.";
        if (definition.WindDown.IsEmpty)
            return "It would be killed at once, for its wind-down has no steps.";
        var steps = definition.WindDown.Select(step => $"{step.What} (waits {Duration.Write(step.Wait)})");
        return $"Its wind-down: {string.Join(", then ", steps)}; what is left then would be killed.";
    }

    private static string First(IReadOnlyCollection<string> names, string done) =>
        names.Count == 0
            ? ""
            : $"{string.Join(", ", names.Order(StringComparer.Ordinal))}, which {(names.Count == 1 ? "needs" : "need")} it, would be {done} first. ";
}
