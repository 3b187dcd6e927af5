using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Begin;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Plans;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Checks;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;
using Microsoft.AspNetCore.Mvc;

namespace CalmSentry.Server.Api;

/// <summary>Start, stop, restart, release. A call answers when what it asks for has come true or failed to.</summary>
internal static class RunRoutes
{
    public static void MapRunning(this IEndpointRouteBuilder api)
    {
        var one = api.OneService();
        one.MapPost("/start", Start).Produces<Answer>().Refuses(409, 422).May(Permission.Operate);
        one.MapPost("/stop", Stop).Produces<Answer>().Refuses(409).May(Permission.Operate);
        one.MapPost("/restart", Restart).Produces<Answer>().Refuses(409, 422).May(Permission.Operate);
        one.MapPost("/reload", Reload).Produces<Answer>().Refuses(409).May(Permission.Operate);
        one.MapPost("/watches", Watches).Produces<Answer>().Refuses(400, 409).May(Permission.Operate);
        one.MapPost("/quiet", Quiet).Produces<Answer>().Refuses(400).May(Permission.Operate);
        one.MapPost("/release", Release).Produces<Answer>().May(Permission.Operate);
    }

    /// <summary>Check what could block it, start it, wait until it is ready, and answer with evidence.</summary>
    /// <param name="called">The service.</param>
    /// <param name="accept">Codes of findings to be overruled, with commas between.</param>
    /// <param name="endCopies">Copies that run outside the sentry are ended cleanly first.</param>
    /// <param name="withoutNeeds">It does not wait for its needs.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Start(
        Called called,
        string? accept,
        [FromQuery(Name = "end-copies")] bool? endCopies,
        [FromQuery(Name = "without-needs")] bool? withoutNeeds,
        bool? dry,
        Registry registry,
        Checker checker,
        SentryStore store,
        Record logbook,
        Places places,
        Clocks clocks,
        HttpContext context
    )
    {
        var (actor, caller) = (called.Service, Caller.Of(context));
        if (actor.Definition.Begin.At == BeginAt.Never)
            return Disabled(actor);
        if (dry == true)
        {
            // Copies that would be ended first stand in nobody's way; of one that runs none is.
            var isAtRest = actor.Situation.Run is null;
            var askers = caller.Askers with { EndsCopies = endCopies == true };
            var ended =
                isAtRest && endCopies == true
                    ? CopyEnding.Of(actor.Definition, caller.Askers, registry, store, places)
                    : [];
            return
                isAtRest
                && await Blocked(actor, accept, askers, null, checker, logbook).ConfigureAwait(false) is { } blocked
                ? blocked
                : WouldDo(
                    actor,
                    (ended.Count == 0 ? "" : $"Asked to end first: {Shown.Line(string.Join("; ", ended))}. ")
                        + Intent.Start(
                            actor.Definition,
                            actor.Situation,
                            CommandLine.Folded(LaunchOrder.CommandOf(actor.Definition.Program)),
                            LaunchOrder.DirectoryOf(actor.Definition, places),
                            withoutNeeds == true
                        )
                );
        }

        if (actor.Situation.Run is null)
        {
            if (
                endCopies == true
                && await CopyEnding
                    .End(actor.Definition, caller, logbook, registry, store, places, clocks)
                    .ConfigureAwait(false)
                    is { } stubborn
            )
                return stubborn;
            if (
                await Blocked(actor, accept, caller.Askers, caller, checker, logbook).ConfigureAwait(false) is
                { } refusal
            )
                return refusal;
        }

        var before = actor.Situation;
        var asked = await actor.Ask(new StartAsked(caller.Who, withoutNeeds == true)).ConfigureAwait(false);
        var already = asked.LastRun == before.LastRun && asked.Phase == Phase.Running;
        return Reply.Of(
            await Arrive(actor, asked, already, registry, store, places, clocks, context).ConfigureAwait(false)
        );
    }

    /// <summary>Lift a service's hold: it is started again, and the answer says whether it runs.</summary>
    /// <param name="called">The service.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Release(
        Called called,
        bool? dry,
        Registry registry,
        SentryStore store,
        Places places,
        Clocks clocks,
        HttpContext context
    )
    {
        var actor = called.Service;
        if (actor.Situation.Phase != Phase.Held)
        {
            return Reply.Of(
                new()
                {
                    Code = AnswerCode.NotHeld,
                    CameTrue = true,
                    Said = $"{actor.Definition.Title} is not on hold: nothing was changed. {actor.View.Why}",
                    Service = actor.View,
                }
            );
        }

        if (dry == true)
            return WouldDo(
                actor,
                Intent.Release(
                    actor.Definition,
                    CommandLine.Folded(LaunchOrder.CommandOf(actor.Definition.Program)),
                    LaunchOrder.DirectoryOf(actor.Definition, places)
                )
            );
        var asked = await actor.Ask(new ReleaseAsked(Caller.Of(context).Who)).ConfigureAwait(false);
        var answer = await Arrive(actor, asked, already: false, registry, store, places, clocks, context)
            .ConfigureAwait(false);
        return Reply.Of(answer with { Said = $"Released from its hold. {answer.Said}" });
    }

    /// <summary>
    /// Check what could block it, stop it cleanly, start it again, and answer with evidence. Refused while others need it.
    /// </summary>
    /// <param name="called">The service.</param>
    /// <param name="accept">Codes of findings to be overruled, with commas between.</param>
    /// <param name="dependents">stop: those that need it are restarted, too; leave: they keep running.</param>
    /// <param name="wait">While something else has it in hand, it is waited for; else that is refused.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Restart(
        Called called,
        string? accept,
        string? dependents,
        bool? wait,
        bool? dry,
        Registry registry,
        PlanRoom plans,
        Checker checker,
        SentryStore store,
        Places places,
        Record logbook,
        Clocks clocks,
        HttpContext context
    )
    {
        var (actor, caller) = (called.Service, Caller.Of(context));
        if (actor.Definition.Begin.At == BeginAt.Never)
            return Disabled(actor);
        // What blocks is looked for before anything is stopped.
        if (
            await Blocked(actor, accept, caller.Askers, dry == true ? null : caller, checker, logbook)
                .ConfigureAwait(false) is
            { } refusal
        )
            return refusal;
        var (needing, problem) = Needing(actor, dependents, "restart", registry);
        if (problem is not null)
            return problem;
        if (dry == true)
            return WouldDo(
                actor,
                Intent.Restart(
                    actor.Definition,
                    actor.Situation,
                    needing,
                    CommandLine.Folded(LaunchOrder.CommandOf(actor.Definition.Program)),
                    LaunchOrder.DirectoryOf(actor.Definition, places)
                )
            );
        await Busy.Free(wait, [.. needing, actor.Definition.Name], registry, clocks, context.RequestAborted)
            .ConfigureAwait(false);
        Situation asked;
        if (needing.Count == 0)
        {
            asked = await actor.Ask(new RestartAsked(caller.Who)).ConfigureAwait(false);
        }
        else
        {
            var all = needing.Append(actor.Definition.Name).ToHashSet(StringComparer.Ordinal);
            var name = actor.Definition.Name;
            await plans.Begin(plans.Restart(all, caller.Who, one => one == name)).ConfigureAwait(false);
            asked = actor.Situation;
        }

        return Reply.Of(
            await Arrive(actor, asked, already: false, registry, store, places, clocks, context).ConfigureAwait(false)
        );
    }

    /// <summary>
    /// Stop it cleanly and wait until nothing of the run is left. Refused while others need it.
    /// </summary>
    /// <param name="called">The service.</param>
    /// <param name="dependents">stop: those that need it are stopped first; leave: they keep running.</param>
    /// <param name="thisRun">Of a job: its rhythm goes on; else that is at rest until a start.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Stop(
        Called called,
        string? dependents,
        [FromQuery(Name = "this-run")] bool? thisRun,
        bool? dry,
        Registry registry,
        PlanRoom plans,
        SentryStore store,
        HttpContext context
    )
    {
        var actor = called.Service;
        if (thisRun == true && !actor.Definition.IsJob)
            return Problems.Of(
                409,
                ProblemCode.NoJob,
                "It is no job",
                $"{actor.Definition.Title} is no job (kind: periodic): there is no rhythm that would go on; nothing was stopped.",
                $"calm stop {actor.Definition.Name}"
            );
        var (needing, problem) = actor.Situation.Run is null
            ? (new HashSet<string>(), null)
            : Needing(actor, dependents, "stop", registry);
        if (problem is not null)
            return problem;
        if (dry == true)
            return WouldDo(actor, Intent.Stop(actor.Definition, actor.Situation, needing, thisRun == true));
        var first = await plans.Stop(needing, Caller.Of(context).Who).ConfigureAwait(false);
        var answer = await StopOne(actor, thisRun == true, store, context).ConfigureAwait(false);
        if (first.Count == 0)
            return Reply.Of(answer);
        var (need, were) = first.Count == 1 ? ("needs", "was") : ("need", "were");
        var names = string.Join(", ", first.Select(stop => stop.Name));
        return Reply.Of(answer with { Said = $"{names}, which {need} it, {were} stopped first. {answer.Said}" });
    }

    /// <summary>
    /// Tell it to read its settings anew, by the steps of its definition, and look whether it still serves after that.
    /// </summary>
    /// <param name="called">The service.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Reload(
        Called called,
        bool? dry,
        RunTools tools,
        Record logbook,
        Clocks clocks,
        HttpContext context
    )
    {
        var actor = called.Service;
        if (Reloading.Refusal(actor) is { } refusal)
            return refusal;
        return dry == true
            ? WouldDo(actor, Intent.Reload(actor.Definition))
            : Reply.Of(
                await Reloading
                    .Do(actor, Caller.Of(context).Who, tools, logbook, clocks, context.RequestAborted)
                    .ConfigureAwait(false)
            );
    }

    /// <summary>
    /// Pause what its watches lead to for ?for=30 min (at most 7 d); ?for=0 ends that at once. It ends by itself.
    /// </summary>
    /// <param name="called">The service.</param>
    /// <param name="length">How long.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Watches(
        Called called,
        [FromQuery(Name = "for")] string? length,
        bool? dry,
        SentryStore store,
        HttpContext context
    )
    {
        if (!Duration.TryRead(length ?? "", out var pause) || pause > LongestPause)
            return Problems.Of(
                400,
                ProblemCode.BadLength,
                "Not a length of time",
                $"for is '{length}'; allowed: {Duration.Allowed}, at most {Duration.Write(LongestPause)}; 0 ends a pause."
            );
        var actor = called.Service;
        var (title, paused) = (actor.Definition.Title, pause > TimeSpan.Zero);
        if (paused && actor.Definition.Watch.IsEmpty)
            return Problems.Of(
                409,
                ProblemCode.NothingToPause,
                "It has no watches",
                $"{title} has no watches that could be paused; nothing was changed.",
                $"calm show {actor.Definition.Name}   says what is watched; calm adjust {actor.Definition.Name} --watch … adds a watch"
            );
        if (dry == true)
            return WouldDo(
                actor,
                paused
                    ? $"The watches of {title} would be paused for {Duration.Write(pause)}. Nothing was done."
                    : $"The watches of {title} would count again. Nothing was done."
            );
        await actor.Ask(new WatchesPaused(Caller.Of(context).Who, pause)).ConfigureAwait(false);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(
            new Answer
            {
                Code = paused ? AnswerCode.WatchesPaused : AnswerCode.WatchesResumed,
                CameTrue = true,
                Said = paused
                    ? $"The watches of {title} are paused for {Duration.Write(pause)}: nothing is done about what they find. They "
                        + "count again by themselves."
                    : $"The watches of {title} count.",
                Service = actor.View,
            }
        );
    }

    /// <summary>
    /// For ?for=30 min (at most 30 d) no alert of it is raised, and, if that is wanted, nothing is restarted; ?for=0 ends that at
    /// once. It ends by itself, and what was withheld is listed then.
    /// </summary>
    /// <param name="called">The service.</param>
    /// <param name="length">How long.</param>
    /// <param name="noRestarts">What falls is started again when it is over, and not before.</param>
    /// <param name="reason">Why, in a few words.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Quiet(
        Called called,
        [FromQuery(Name = "for")] string? length,
        [FromQuery(Name = "no-restarts")] bool? noRestarts,
        string? reason,
        bool? dry,
        SentryStore store,
        Clocks clocks,
        HttpContext context
    )
    {
        if (!Duration.TryRead(length ?? "", out var quiet) || quiet > LongestQuiet)
            return Problems.Of(
                400,
                ProblemCode.BadLength,
                "Not a length of time",
                $"for is '{length}'; allowed: {Duration.Allowed}, at most {Duration.Write(LongestQuiet)}; 0 ends a quiet time."
            );
        if (reason is { Length: > LongestReason })
            return Problems.Of(
                400,
                ProblemCode.BadReason,
                "Too long a reason",
                $"The reason has {reason.Length} characters; allowed: at most {LongestReason}."
            );
        var (actor, title) = (called.Service, called.Service.Definition.Title);
        var ends = quiet <= TimeSpan.Zero;
        var none = noRestarts == true ? " and nothing is restarted" : "";
        if (dry == true)
            return WouldDo(
                actor,
                ends
                    ? $"{title} would no longer be quiet. Nothing was done."
                    : $"{title} would be quiet for {Duration.Write(quiet)}{(none.Length > 0 ? "; nothing would be restarted" : "")}. Nothing was done."
            );
        var was = actor.Situation.Quiet;
        await actor
            .Ask(
                new QuietAsked(
                    Caller.Of(context).Who,
                    clocks.Now + quiet,
                    noRestarts == true,
                    string.IsNullOrWhiteSpace(reason) ? null : reason.Trim().ReplaceLineEndings(" ")
                )
            )
            .ConfigureAwait(false);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(
            new Answer
            {
                Code = ends ? AnswerCode.QuietOver : AnswerCode.Quiet,
                CameTrue = true,
                Said =
                    !ends
                        ? $"{title} is quiet for {Duration.Write(quiet)}: no alert is raised{none}. That ends by itself, and lists what was withheld."
                    : was is null ? $"{title} was not quiet."
                    : $"{title} is no longer quiet. {(was.Count == 0 ? "No alert was withheld." : $"Withheld: {string.Join("; ", was.Withheld)}.")}",
                Service = actor.View,
            }
        );
    }

    private static readonly TimeSpan LongestQuiet = TimeSpan.FromDays(30);

    private const int LongestReason = 200;

    /// <summary>Whoever forgets a pause is not to find a service unwatched for months.</summary>
    private static readonly TimeSpan LongestPause = TimeSpan.FromDays(7);

    public static async Task<Answer> StopOne(ServiceActor actor, bool thisRun, SentryStore store, HttpContext context)
    {
        var before = actor.Situation;
        var asked = await actor.Ask(new StopAsked(Caller.Of(context).Who, thisRun)).ConfigureAwait(false);
        var now = await actor.Until(s => s.Phase != Phase.Stopping, context.RequestAborted).ConfigureAwait(false);
        await store.Kept().ConfigureAwait(false);
        return HowStopped(actor, before, now, now.LastEnd?.At - asked.Since, thisRun, store);
    }

    /// <summary>What came of a stop.</summary>
    /// <param name="took">From the word to its end.</param>
    public static Answer HowStopped(
        ServiceActor actor,
        Situation before,
        Situation now,
        TimeSpan? took,
        bool thisRun,
        SentryStore store
    )
    {
        var title = actor.Definition.Title;
        var down = now.Phase == Phase.Stopped || (thisRun && now.Phase == Phase.Resting);
        var (code, said) = (down, before.Run, now.LastEnd) switch
        {
            (true, null, _) when actor.Definition.IsJob => (
                before.Phase == now.Phase ? AnswerCode.NotRunningBefore : AnswerCode.Stopped,
                $"{title} was not at work. {actor.View.Why}"
            ),
            (false, _, _) => (AnswerCode.StartedMeanwhile, $"{title} was started again meanwhile. {actor.View.Why}"),
            (_, null, _) when ServiceTimes.Of(before) == ServiceTime.Fallen && before.Phase == Phase.Stopped => (
                AnswerCode.FailureSeen,
                $"{title} was not running; its failure is taken as seen, and it no longer needs attention."
            ),
            (_, null, _) when before.Phase == Phase.Stopped => (
                AnswerCode.NotRunningBefore,
                $"{title} was not running."
            ),
            (_, null, _) => (AnswerCode.Stopped, $"{title} is stopped; Calm Sentry does not try it again."),
            (_, _, { Forced: true } end) => (AnswerCode.Killed, Stopped(actor, end, took, store)),
            (_, _, { } end) => (AnswerCode.Stopped, Stopped(actor, end, took, store)),
            _ => (AnswerCode.Stopped, $"{title} is stopped."),
        };
        return new Answer
        {
            Code = code,
            CameTrue = down,
            Said = down && actor.Definition.IsJob && before.Run is not null ? $"{said} {actor.View.Why}" : said,
            Service = actor.View,
        };
    }

    private static string Stopped(ServiceActor actor, LastEnd end, TimeSpan? took, SentryStore store)
    {
        var forced = end.Forced ? "; the steps of its wind-down did not suffice, so it was killed" : "";
        return $"{actor.Definition.Title} is stopped: run {end.Run} {OutcomeWords.Of(end.Outcome)}"
            + (took is { } length ? $" after {Length.Tenths(length)}" : "")
            + $"{forced}.{StepsOf(end)}Nothing of it is left."
            + StopChecks.Advice(actor.Definition, store);
    }

    /// <summary>What each step that is more than a signal came to, a line each.</summary>
    private static string StepsOf(LastEnd end)
    {
        var lines = end
            .Steps.Where(step => step.Answer is not null)
            .Select(step =>
                $"\n  {step.What}: {step.Answer}"
                + (step.EndedAfter is { } after ? $"; it ended {Length.Tenths(after)} after that" : "")
            )
            .ToList();
        return lines.Count == 0 ? " " : string.Concat(lines) + "\n";
    }

    private static IResult WouldDo(ServiceActor actor, string said) => Reply.WouldDo(said, actor.View);

    /// <param name="caller">Whom the logbook names; null: nothing is done, and nothing noted.</param>
    public static async Task<IResult?> Blocked(
        ServiceActor actor,
        string? accept,
        Askers askers,
        Caller? caller,
        Checker checker,
        Record logbook
    ) =>
        InTheWay(actor, await checker.ForStart(actor.Definition, askers).ConfigureAwait(false), accept, caller, logbook)
            is { Count: > 0 } left
            ? CheckReplies.Refusal(left, "run")
            : null;

    /// <summary>Of what a check has found what stands in its way, for the logbook too.</summary>
    public static IReadOnlyList<Finding> InTheWay(
        ServiceActor actor,
        IReadOnlyList<Finding> findings,
        string? accept,
        Caller? caller,
        Record logbook
    )
    {
        IReadOnlyList<string> accepted =
        [
            .. actor.Definition.Accept,
            .. (accept ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries),
        ];
        var left = FindingViews.Left(findings, accepted, forStart: true);
        if (caller is null)
            return left;
        if (left.Count > 0)
            logbook.Note(
                actor,
                new StartRefusedEntry(string.Join(" ", left.Select(finding => finding.Seen))),
                caller.Who
            );
        else
            WrapRoutes.LogAccepted(findings, actor, accepted, caller, logbook);
        return left;
    }

    /// <summary>Waits until the run asked for is ready, or has failed.</summary>
    public static async Task<Answer> Arrive(
        ServiceActor actor,
        Situation asked,
        bool already,
        Registry registry,
        SentryStore store,
        Places places,
        Clocks clocks,
        HttpContext context
    )
    {
        var came = await Arrived(actor, asked, registry, store, context).ConfigureAwait(false);
        await store.Kept().ConfigureAwait(false);
        return Came(actor, came, already, registry, store, places, clocks);
    }

    /// <summary>How it stands once the run asked for is ready, or has failed.</summary>
    public static async Task<(RunNumber Run, Situation Now)> Arrived(
        ServiceActor actor,
        Situation asked,
        Registry registry,
        SentryStore store,
        HttpContext context
    )
    {
        // A wait may be long: that it was asked for must outlive the sentry.
        if (OnItsWay(asked))
            await store.Kept().ConfigureAwait(false);
        // A run that waits for its needs has no number yet.
        var run = new RunNumber(asked.Phase == Phase.Stopping || OnItsWay(asked) ? asked.LastRun + 1 : asked.LastRun);
        var now = await actor
            .Until(
                s =>
                    s.LastRun > run
                    || (s.Phase is not (Phase.Starting or Phase.Stopping) && !OnItsWay(s))
                    || s.Run?.Overdue == true
                    || NeedLook.FirstOutOfReach(actor, registry) is not null,
                context.RequestAborted
            )
            .ConfigureAwait(false);
        return (run, now);
    }

    /// <summary>The same in words, with evidence.</summary>
    public static Answer Came(
        ServiceActor actor,
        (RunNumber Run, Situation Now) arrived,
        bool already,
        Registry registry,
        SentryStore store,
        Places places,
        Clocks clocks
    )
    {
        var (run, now) = arrived;
        // A job may be done before it counts as running.
        var done = actor.Definition.IsJob && now.LastEnd is { Bad: false, AsAsked: false } end && end.Run == run;
        var came = done || (now.LastRun == run && now.Phase == Phase.Running);
        var title = actor.Definition.Title;
        var process = now.Run?.Pid is { } pid ? $"pid {pid}" : "switched on";
        return new Answer
        {
            Code =
                !came ? AnswerCode.NotRunning
                : done ? AnswerCode.Done
                : already ? AnswerCode.RunningAlready
                : AnswerCode.Started,
            CameTrue = came,
            Said =
                !came ? $"{title} is not running: {Why(actor, now, registry)}"
                : done ? $"{title} is done: run {run} {OutcomeWords.Of(now.LastEnd!.Outcome)}. {actor.View.Why}"
                : already ? $"{title} was already running: run {run}, {process}."
                : $"{title} is running: run {run}, {process}.",
            Service = actor.View,
            Evidence = EvidenceFinder.Of(actor, now, store, places, clocks.Time),
        };
    }

    /// <summary>It waits for its needs, and nobody has to look yet.</summary>
    private static bool OnItsWay(Situation now) => now.Awaited is { Overdue: false };

    private static string Why(ServiceActor actor, Situation now, Registry registry) =>
        now switch
        {
            { Awaited: not null } when NeedLook.FirstOutOfReach(actor, registry) is var (name, why) =>
                $"it waits for {name}, which will not be ready by itself: {why}. It starts once {name} is ready.",
            { Phase: Phase.Stopped, LastEnd.Outcome: { Kind: OutcomeKind.NeverLaunched, Detail: { } detail } } => detail
                + ".",
            _ => char.ToLowerInvariant(actor.View.Why[0]) + actor.View.Why[1..],
        };

    public static IResult Disabled(ServiceActor actor) =>
        Problems.Of(
            409,
            ProblemCode.StartingDisabled,
            "Starting is disabled",
            $"Starting {actor.Definition.Title} is disabled (begin.at: never); nothing was started.",
            $"To enable it: calm adjust {actor.Definition.Name} --at request"
        );

    /// <summary>
    /// Whoever needs it and is running is to be stopped first, if that is wanted; what is wanted must be said.
    /// </summary>
    public static (IReadOnlySet<string> Needing, IResult? Problem) Needing(
        ServiceActor actor,
        string? dependents,
        string what,
        Registry registry
    ) => Needing([actor.Definition.Name], dependents, what, registry);

    /// <summary>The same of several that are stopped together: who needs one of them and is none of them.</summary>
    /// <param name="names">What is stopped.</param>
    /// <param name="asked">What else was asked for; null: nothing.</param>
    public static (IReadOnlySet<string> Needing, IResult? Problem) Needing(
        IReadOnlyCollection<string> names,
        string? dependents,
        string what,
        Registry registry,
        IReadOnlySet<string>? asked = null
    )
    {
        var live = registry
            .Graph.WithDependents(names)
            .Where(other =>
                !names.Contains(other)
                && asked?.Contains(other) != true
                && registry.Named(other)?.Situation.Run is not null
            )
            .ToHashSet(StringComparer.Ordinal);
        if (dependents == "leave" || live.Count == 0)
            return (new HashSet<string>(), null);
        if (dependents == "stop")
            return (live, null);
        var (need, are) = live.Count == 1 ? ("needs", "is") : ("need", "are");
        var needed = registry.Graph.WithNeeds(live).Where(names.Contains).Order(StringComparer.Ordinal).ToList();
        const int shown = 5;
        var all = (asked ?? names.ToHashSet(StringComparer.Ordinal)).Order(StringComparer.Ordinal).ToList();
        var typed = string.Join(' ', all.Take(shown)) + (all.Count > shown ? " …" : "");
        return (
            live,
            Problems.Of(
                409,
                ProblemCode.NeededByOthers,
                "Others need it",
                $"{string.Join(", ", live.Order(StringComparer.Ordinal))} {need} {string.Join(", ", needed)} and {are} "
                    + "running; nothing was stopped.",
                $"calm {what} {typed} --with-dependents   {what}s them too, in order\n"
                    + $"calm {what} {typed} --alone   leaves them as they are"
            )
        );
    }
}
