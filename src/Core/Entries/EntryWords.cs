using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;

namespace CalmSentry.Core.Entries;

/// <summary>The sentence an entry is shown as.</summary>
public static class EntryWords
{
    /// <summary>One that somebody changed behind the sentry's back keeps nobody from reading the rest.</summary>
    public static string Of(Entry entry)
    {
        try
        {
            // What is somebody else's in it can neither begin a line nor be obeyed by whatever shows it.
            return Shown.Line(Sentence(entry));
        }
        catch (Exception error) when (error is NullReferenceException or InvalidOperationException)
        {
            return $"An entry '{Words.Of(entry.Code)}' whose fields do not fit it.";
        }
    }

    private static string Sentence(Entry entry) =>
        entry.Text
        ?? (
            entry.Code switch
            {
                EntryCode.Wrapped => $"Wrapped: {entry.Seen}, to run as {entry.Name}.",
                EntryCode.Adjusted =>
                    $"Revision {entry.Revision}: {entry.Seen ?? (entry.Changes.IsEmpty ? "no effective change" : string.Join("; ", entry.Changes))}.",
                EntryCode.Renamed => $"Renamed, revision {entry.Revision}: until now it was called {entry.Name}.",
                EntryCode.Accepted => $"{entry.Name} was accepted: {entry.Seen}",
                EntryCode.StartAsked => entry switch
                {
                    { Next: EntryNext.GoesAhead } => "Start requested, without waiting for its needs.",
                    { Next: EntryNext.KeepsWaiting } => "Start requested; it follows as soon as the stop is done.",
                    _ => "Start requested.",
                },
                EntryCode.StartRefused => entry.Seen is { } why
                    ? $"Not started: {why}"
                    : "Not started: starting is disabled (begin.at: never).",
                EntryCode.StopAsked => entry.Run is null ? "Stop requested; it was not running." : "Stop requested.",
                EntryCode.RestartAsked => "Restart requested.",
                EntryCode.Released => "Released from its hold; it is started again.",
                EntryCode.ForceAsked => "Its time to stop is over: what is left of it is killed.",
                EntryCode.UnwrapAsked => entry.Run is null
                    ? "Unwrap requested; it was not running."
                    : "Unwrap requested; it is stopped first.",
                EntryCode.Unwrapped => "Unwrapped: nothing of it is registered any more.",
                EntryCode.Rehearsed => $"Rehearsed as {entry.Name}, for at most {Duration.Write(entry.Limit!.Value)}.",
                EntryCode.CopyEnding => $"A copy outside the sentry is asked to end: {entry.Seen}.",
                EntryCode.CopyEnded => $"The copy outside the sentry (pid {entry.Pid}) has ended.",
                EntryCode.BootBegan => "The machine came up.",
                EntryCode.BootHeldBack =>
                    "The machine came up, and nothing was to be started with it: it stays stopped until somebody starts it.",
                EntryCode.DrillBegan => "A drill starts it as a boot would.",
                EntryCode.BootNotSettled =>
                    $"Not everything that starts at boot was ready within {Duration.Write(entry.Limit!.Value)}; it starts anyway.",
                EntryCode.Lost => $"Run {entry.Run} {OutcomeWords.Of(entry.Outcome!)}.",
                EntryCode.NumbersPassedOver =>
                    $"What was done last may have been lost with the machine, or with the run directory: numbers of runs up to {entry.Run} are left out.",
                EntryCode.NeedMissing or EntryCode.NeedPassedOver =>
                    $"{entry.Name} did not come within {Duration.Write(entry.Limit!.Value)}: {entry.Seen}. {After(entry)}",
                EntryCode.Launched => entry.Pid is { } pid
                    ? $"Run {entry.Run} started as pid {pid}."
                    : $"Its start command is still running after {Duration.Write(entry.Limit!.Value)}.",
                EntryCode.NeverLaunched => $"Run {entry.Run} failed to start: {entry.Outcome!.Detail}.",
                EntryCode.TakenUp =>
                    $"Run {entry.Run} (pid {entry.Pid}) was found running and taken up again; nothing was restarted.",
                EntryCode.Detached => $"It put itself into the background: pid {entry.Pid} is the program.",
                EntryCode.NotDetached => entry.Pid is { } stayed
                    ? $"It has not put itself into the background within {Duration.Write(entry.Limit!.Value)}: pid {stayed} is taken to be the program."
                    : "None of the processes it left in the background could be identified as the program"
                        + $"{(entry.Seen is { } seen ? $": {seen}" : "")}. They are stopped.",
                EntryCode.SwitchedOn =>
                    $"Run {entry.Run}: its start command {OutcomeWords.Of(entry.Outcome!)}; it is on until its off command switches it off.",
                EntryCode.Proven => $"Run {entry.Run} is ready{Readily(entry)}: {entry.Seen}.",
                EntryCode.NotProven =>
                    $"Run {entry.Run} was not ready within {Duration.Write(entry.Limit!.Value)} ({entry.Seen}). {After(entry)}",
                EntryCode.Recovered => "It runs again after having been on hold.",
                EntryCode.Unwell => $"Health poor: {Found(entry)}. {After(entry)}".TrimEnd(),
                EntryCode.WellAgain => $"Healthy again: {entry.Seen}.",
                EntryCode.NeededLost => $"{entry.Name}, which it needs, is gone; "
                    + entry.Next switch
                    {
                        EntryNext.StopAndRestart => "it is restarted once that is ready again.",
                        EntryNext.KeepsWaiting => "it is stopped too, and starts again with it.",
                        _ => "it keeps running.",
                    },
                EntryCode.NeededBack => $"{entry.Name}, which it needs, is ready again; it is restarted.",
                EntryCode.OutputStuck =>
                    $"Its output cannot be written: {entry.Seen}. Nothing is dropped; the program waits when it prints more.",
                EntryCode.OutputDropped =>
                    $"Its output cannot be written: {entry.Seen}. The program goes on; what it prints is lost, and how much is written in its place once there is room.",
                EntryCode.OutputFlows => "Its output is written again.",
                EntryCode.OutputLost =>
                    $"The last {entry.Count} bytes of run {entry.Run}'s output found no room on the disk and are lost.",
                EntryCode.OutputLetGo =>
                    $"{entry.Count} of its oldest files of output went, {entry.Seen}: more is not to be kept.",
                EntryCode.OutputUnkept =>
                    $"What was turned over of its output cannot be packed or let go: {entry.Seen}. It is tried again each minute.",
                EntryCode.ReopenFailed =>
                    $"It was to open its log files anew: {entry.Seen}. What it writes to the one moved aside is still kept.",
                EntryCode.SaysTooOften =>
                    $"It speaks of itself more than {entry.Count} times a second; what is more than that is not heard.",
                EntryCode.Noted =>
                    $"It {(entry.Name == "asks" ? "asks for a person" : entry.Name)}: {entry.Seen}{(entry.Names.IsEmpty ? "" : $" ({string.Join(", ", entry.Names)})")}",
                EntryCode.WatchesPaused =>
                    $"Its watches are paused for {Duration.Write(entry.Limit!.Value)}: nothing is done about what they find.",
                EntryCode.WatchesResumed => "Its watches count again.",
                EntryCode.Reloaded => $"It was told to read its settings anew: {entry.Name}. After that: {entry.Seen}.",
                EntryCode.ReloadFailed => $"It was to read its settings anew: {entry.Seen}.",
                EntryCode.MomentsMissed => $"{Moments(entry.Count ?? 1)} missed, the last at {At(entry)}"
                    + (entry.Next == EntryNext.GoesAhead ? "; it is made up for once, now." : "."),
                EntryCode.MomentPassed => $"What was planned for {At(entry)} is left out: {StillAt(entry)}.",
                EntryCode.MomentQueued => $"What was planned for {At(entry)} waits: {StillAt(entry)}.",
                EntryCode.MomentTakesOver =>
                    $"What was planned for {At(entry)} takes its place: {StillAt(entry)}{(entry.Run is null ? "" : ", and is stopped")}.",
                EntryCode.MomentSkipped => $"What is planned for {At(entry)} is skipped, as requested.",
                EntryCode.MomentAdvanced => $"What is planned for {At(entry)} is done now, as requested.",
                EntryCode.RestartNeedless when entry.Seen is { } quiet =>
                    $"The restart planned for {At(entry)} is left out: {quiet}.",
                EntryCode.QuietBegan =>
                    $"Quiet for {Length.Of(entry.Limit!.Value)}{(entry.Seen is { } reason ? $" ({reason})" : "")}: "
                        + $"no alert is raised{(entry.Forced ? ", and nothing is restarted" : "")}.",
                EntryCode.QuietOver => $"No longer quiet, after {Length.Of(entry.Took!.Value)}. {Withheld(entry)}",
                EntryCode.SwapBegan =>
                    $"Version {entry.Count} of its files, from {entry.Name}, is put in; until now it has version {entry.Seen}.",
                EntryCode.Swapped => $"It has version {entry.Count} of its files"
                    + (entry.Limit is { } well ? $", and stayed well for {Length.Of(well)}" : "")
                    + $"; version {entry.Name} is kept.",
                EntryCode.SwapReturned when entry.Run is null =>
                    $"It keeps version {entry.Name} of its files, and does not get version {entry.Count}: {entry.Seen}.",
                EntryCode.SwapReturned =>
                    $"It keeps version {entry.Name} of its files: with version {entry.Count} {entry.Seen}.",
                EntryCode.SwapDown => entry.Count is { } version
                    ? $"It has version {version} of its files, but does not run: {entry.Seen}."
                    : $"It does not run, and its files are not known to be of one version: {entry.Seen}.",
                EntryCode.RestartNeedless =>
                    $"The restart planned for {At(entry)} is not needed: it was started {Length.Of(entry.Took!.Value)} before.",
                EntryCode.RestartSpared =>
                    $"The restart planned for {At(entry)} is not needed: {entry.Seen} ({entry.Count} saved since the last one).",
                EntryCode.RestartPutOff =>
                    $"The restart planned for {At(entry)} is put off, for {Length.Of(entry.Limit!.Value)} at most: {entry.Seen}.",
                EntryCode.RestartDue => entry.Seen is { } busy
                    ? $"The restart planned for {At(entry)} has been put off as long as it may ({busy}): it is restarted."
                    : $"The restart planned for {At(entry)}: it is stopped and restarted.",
                EntryCode.RestartFailed =>
                    $"The restart planned for {At(entry)} failed: run {entry.Run} {OutcomeWords.Of(entry.Outcome!)}.",
                EntryCode.JobLate =>
                    $"The run planned for {At(entry)} is not done {Duration.Write(entry.Limit!.Value)} after it was due: {entry.Seen}.",
                EntryCode.JobOverdue =>
                    $"No run has succeeded within {Duration.Write(entry.Limit!.Value)}, since {At(entry)}.",
                EntryCode.TooLong =>
                    $"Run {entry.Run} takes longer than {Duration.Write(entry.Limit!.Value)}: it is stopped.",
                EntryCode.MainEnded =>
                    $"The main process {OutcomeWords.Of(entry.Outcome!)}; the rest of its processes are stopped.",
                EntryCode.StepAnswered => $"{entry.Name}: {entry.Seen}.",
                EntryCode.StepFailed => $"{entry.Name} failed: {entry.Seen}. {After(entry)}",
                EntryCode.StepOver =>
                    $"{entry.Name} did not stop it within {Duration.Write(entry.Limit!.Value)}. {After(entry)}",
                EntryCode.WindDownAnew => "Its wind-down was adjusted: it starts over.",
                EntryCode.OffFailed => entry.Outcome is { } off
                    ? $"Its off command {OutcomeWords.Of(off)}; whether all of it is off is not known."
                    : $"Its off command has not ended within {Duration.Write(entry.Limit!.Value)}; it is killed.",
                EntryCode.StillThere =>
                    "Killed, yet something of it is still there: the kernel holds it (a disk or network that does not answer).",
                EntryCode.Stopped => $"Run {entry.Run} {OutcomeWords.Of(entry.Outcome!)}{By(entry)}",
                EntryCode.Ended or EntryCode.Fell => $"{Failed(entry)}{Then(entry)}",
                EntryCode.Held => entry.Next == EntryNext.HoldAgain
                    ? $"Back on hold.{Retry(entry)}"
                    : (
                        entry.Seen is { } because
                            ? $"Held because {because}."
                            : $"Held after {entry.Count} failure{(entry.Count == 1 ? "" : "s")} within {Duration.Write(entry.Limit!.Value)}."
                    ) + Retry(entry),
                EntryCode.Retried => $"Tried again after {Duration.Write(entry.Pause!.Value)} on hold.",
                EntryCode.RemainsEnded =>
                    $"Run {entry.Run} had lost its keeper; {entry.Count} of its processes lived on without one and were killed.",
                EntryCode.SecretSet => $"The secret {entry.Name} was given a value.",
                EntryCode.SecretRemoved => $"The secret {entry.Name} was removed.",
                EntryCode.AccountMade =>
                    $"The account {entry.Name} (uid {entry.Count}) was made and permitted to run services.",
                EntryCode.AccountRemoved => $"The account {entry.Name} was removed."
                    + (
                        entry.Names.IsEmpty ? "" : $" What {string.Join(", ", entry.Names)} kept is set apart for root."
                    ),
                EntryCode.AccountPermitted => $"The account {entry.Name} may run services now.",
                EntryCode.AccountForbidden => $"The account {entry.Name} may no longer run services.",
                EntryCode.StateSetApart =>
                    $"What {string.Join(", ", entry.Names)} kept belonged to an earlier account with the number {entry.Count}; it is set apart for root.",
                EntryCode.DiskWillFill =>
                    $"The disk of {entry.Name} will be full in {Hours(entry)} at the rate of the last day: {entry.Seen} are left.",
                EntryCode.MemoryWillFill =>
                    $"This machine's memory will run out in {Hours(entry)} at the rate of the last day: {entry.Seen} are left.",
                EntryCode.Found => $"A check finds {entry.Name}: {entry.Seen}",
                EntryCode.CopySeen => $"A copy of it runs outside the sentry: {entry.Seen}.",
                EntryCode.SignedIn => $"Signed in to the console: {entry.Seen} (session {entry.Name}).",
                EntryCode.SignedOut => $"Signed out of the console (session {entry.Name}).",
                EntryCode.SignInRefused => $"A sign-in was refused: {entry.Seen}.",
                EntryCode.Refused => $"Refused, for the account may not: {entry.Seen}.",
                EntryCode.SessionEnded => $"The session {entry.Name} of {entry.Seen} was ended.",
                EntryCode.ForwardStuck =>
                    $"The logbook has not been forwarded to {entry.Name} for {Duration.Write(entry.Limit!.Value)}: {entry.Seen}. What comes meanwhile waits.",
                EntryCode.ForwardedAgain => $"The logbook is forwarded to {entry.Name} again, with all that waited.",
                EntryCode.NotForwarded =>
                    $"{entry.Count} entries were dropped before they could be forwarded to {entry.Name}.",
                EntryCode.TellStuck =>
                    $"Nobody at {entry.Name} can be told for {Duration.Write(entry.Limit!.Value)}: {entry.Seen}. What there is to tell waits.",
                EntryCode.ToldAgain => $"Messages get to {entry.Name} again, with all that waited.",
                EntryCode.NotTold => $"Message {entry.Count} to {entry.Name} was refused for good: {entry.Seen}.",
                EntryCode.SignalMissed => $"The sign of life did not get to {entry.Name}: {entry.Seen}.",
                EntryCode.SignalArrives =>
                    $"The sign of life gets to {entry.Name} again; {entry.Count} {(entry.Count == 1 ? "was" : "were")} missed.",
                EntryCode.Acknowledged =>
                    $"Alert {entry.Count} ({entry.Name}) is acknowledged{(entry.Seen is { } word ? $": {word.TrimEnd('.')}" : "")}.",
                EntryCode.LogbookCut =>
                    $"Entries up to number {entry.Count} are dropped as too old or too many; the last of them had the hash {entry.Seen}.",
                EntryCode.LogbookBroken => $"The logbook is not as it was written: {entry.Seen}.",
                EntryCode.Serving => $"calm-sentry {entry.Name} serves {entry.Seen} as pid {entry.Pid}.",
                EntryCode.Drill when entry.Count is { } drilled =>
                    $"Drill: {Services(drilled)} stopped, then started as a boot would start them.",
                EntryCode.Drill => $"The drill: {entry.Seen}",
                EntryCode.Boot => $"After the machine came up: {entry.Seen}",
                EntryCode.Start => $"After the start: {entry.Seen}",
                EntryCode.WindingDown =>
                    $"All services are stopped in order, within {Duration.Write(entry.Limit!.Value)}.",
                EntryCode.TimeOver =>
                    $"The {Duration.Write(entry.Limit!.Value)} for stopping all services are over; what is left is killed.",
                EntryCode.NotWoundDown => entry.Names.IsEmpty
                    ? "The machine went down after all was wound down, before that was on record."
                    : $"The machine went down before all was wound down: {string.Join(", ", entry.Names)} had not ended.",
                EntryCode.PlanTakenUp =>
                    $"The server before was lost in the middle of a {entry.Name}; this one goes on with it.",
                EntryCode.WoundDown =>
                    $"{Services(entry.Count ?? 0)} stopped{(entry.Names.IsEmpty ? "" : $", in this order: {string.Join(", ", entry.Names)}")}.",
                // Trouble, what the guard saw, and folders that were granted are told by what was seen.
                _ => entry.Seen ?? "",
            }
        );

    private static string Hours(Entry entry) =>
        Duration.Write(TimeSpan.FromHours(Math.Max(1, Math.Round(entry.Limit!.Value.TotalHours))));

    /// <summary>What a watch found, with how long or how often, as a clause.</summary>
    public static string Found(Entry unwell) => unwell.Seen + Lasting(unwell);

    private static string Seconds(TimeSpan length) =>
        string.Create(CultureInfo.InvariantCulture, $"{length.TotalSeconds:0.0##} s");

    private static string Readily(Entry entry) =>
        entry.Took is { } took
            ? $" {Seconds(took)} after launch" + (entry.Usual is { } usual ? $" (usually {Seconds(usual)})" : "")
            : "";

    private static string Lasting(Entry entry) =>
        entry switch
        {
            { Took: { } took } => $" for {Length.Of(took)}",
            { Count: > 1 and var looks } => $" ({looks} looks in a row)",
            _ => "",
        };

    private static string Failed(Entry entry) =>
        $"Run {entry.Run} {OutcomeWords.Of(entry.Outcome!)}"
        + (
            entry.FailedStart && entry.Outcome!.Kind != OutcomeKind.NotProven
                ? " before it was ready: a failed start"
                : ""
        );

    private static string Then(Entry entry)
    {
        var why = entry.Seen is { } seen ? $"{seen}: " : "";
        return entry.Next switch
        {
            EntryNext.Restart when entry.Pause == TimeSpan.Zero => "; Calm Sentry restarts it at once.",
            EntryNext.Restart when entry.Count is { } tries =>
                $"; it is tried again in {Length.Of(entry.Pause!.Value)} (try {tries}).",
            EntryNext.Restart => $"; Calm Sentry restarts it in {Length.Of(entry.Pause!.Value)}.",
            EntryNext.Rests => $"{(entry.Seen is { } said ? $": {said}" : "")}; it rests until its next moment.",
            EntryNext.StopsDependents =>
                $"; {why}it will not be restarted automatically, and what needs it is stopped.",
            EntryNext.StaysStopped => $"; {why}it will not be restarted automatically.",
            _ => ".",
        };
    }

    private static string After(Entry entry) =>
        entry.Next switch
        {
            EntryNext.KeepsWaiting => "An alert is raised and it keeps waiting.",
            EntryNext.GoesAhead => "It starts without it.",
            EntryNext.Hold => "It is put on hold; 'calm release' or a start tries it again.",
            EntryNext.KeepsRunning => "An alert is raised and it keeps running.",
            EntryNext.StopAndRestart => "It is stopped and restarted.",
            EntryNext.KillAndRestart => "It is killed and restarted.",
            EntryNext.NextStep => "The next step follows.",
            EntryNext.Kill => "What is left of it is killed.",
            _ => "",
        };

    private static string Retry(Entry entry) =>
        entry.Pause is { } pause
            ? $" Calm Sentry tries again every {Duration.Write(pause)}; 'calm release' or a start tries it now."
            : " 'calm release' or a start tries it again.";

    /// <summary>Which step stopped it, as the end of a sentence.</summary>
    private static string By(Entry entry) =>
        entry switch
        {
            { Forced: true } => "; the steps of its wind-down did not suffice, it was killed.",
            { Name: { } step, Took: { } took } => string.Create(
                CultureInfo.InvariantCulture,
                $" {took.TotalSeconds:0.0##} s after {step}{(entry.Seen is { } answer ? $" ({answer})" : "")}."
            ),
            _ => ".",
        };

    private static string Moments(long count) =>
        count == 1 ? "A planned moment was"
        : count >= ServiceLife.MostCounted ? $"{count} planned moments or more were"
        : $"{count} planned moments were";

    private static string Withheld(Entry entry) =>
        entry.Count is null or 0
            ? "No alert was withheld."
            : $"Withheld: {string.Join("; ", entry.Names)}"
                + $"{(entry.Count > entry.Names.Length ? $"; and {entry.Count - entry.Names.Length} more" : "")}.";

    /// <summary>The planned moment, by the host's clock.</summary>
    private static string At(Entry entry) =>
        TimeZoneInfo
            .ConvertTime(entry.Moment!.Value, TimeZoneInfo.Local)
            .ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture);

    private static string StillAt(Entry entry) =>
        entry.Run is { } run ? $"run {run} is still at work" : "the run before still waits";

    private static string Services(long count) => count == 1 ? "1 service was" : $"{count} services were";
}
