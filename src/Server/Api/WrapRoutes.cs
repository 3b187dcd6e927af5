using System.Collections.Immutable;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Output;
using CalmSentry.Engine.Rhythms;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Checks;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;

namespace CalmSentry.Server.Api;

/// <summary>Wrap, adjust, unwrap: what is registered, and as what.</summary>
internal static class WrapRoutes
{
    public static void MapWrapping(this IEndpointRouteBuilder api)
    {
        api.MapPost("/services", Wrap)
            .TakesDefinition()
            .Produces<Answer>(201)
            .Refuses(400, 409, 422)
            .May(Permission.Define);
        var one = api.OneService();
        one.MapPatch("", Adjust)
            .WithMetadata(new Called.Mends())
            .TakesDefinition()
            .Produces<Answer>()
            .Refuses(409, 412, 422)
            .May(Permission.Define);
        one.MapDelete("", Unwrap).Produces<Answer>().Refuses(409).May(Permission.Define);
    }

    /// <summary>
    /// Wrap a program as a service; the body is a definition. Registered is not running: start it next.
    /// </summary>
    /// <param name="like">A service whose definition it is laid over.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Wrap(
        string? like,
        bool? dry,
        HttpContext context,
        Registry registry,
        Checker checker,
        SentryStore store,
        Record logbook,
        Places places,
        TimeProvider clock
    )
    {
        var (under, problem) = CheckRoutes.Like(like, registry);
        if (problem is not null)
            return problem;
        var sent = await Reading.Read(context.Request, Caller.Of(context), under).ConfigureAwait(false);
        return sent.Definition is null
            ? sent.Problem!
            : await Add(sent, dry == true, context, registry, checker, store, logbook, places, clock)
                .ConfigureAwait(false);
    }

    /// <summary>Checks a definition, and takes its service in.</summary>
    /// <param name="sent">Without errors.</param>
    internal static async Task<IResult> Add(
        Sent sent,
        bool dry,
        HttpContext context,
        Registry registry,
        Checker checker,
        SentryStore store,
        Record logbook,
        Places places,
        TimeProvider clock
    )
    {
        var (caller, definition) = (Caller.Of(context), sent.Definition!);
        if (registry.UnreadableOf(definition.Name) is { } unreadable)
            return Problems.Unreadable(unreadable, places);
        if (registry.Find(definition.Name) is not null)
            return Taken(definition.Name);
        if (OverAlready(definition, [], clock) is { } past)
            return past;
        var findings = await checker.All(definition, caller.Askers).ConfigureAwait(false);
        if (FindingViews.Left(findings, definition.Accept, forStart: false) is { Count: > 0 } left)
            return CheckReplies.Refusal(left, "run");
        if (dry)
            return registry.Circle(definition) is { } inCircle
                ? Circle(inCircle)
                : Reply.WouldDo(
                    Intent.Wrap(definition, CommandLine.Folded(LaunchOrder.CommandOf(definition.Program))),
                    null,
                    FindingViews.Of(findings, definition.Accept),
                    CheckReplies.RepeatOf(definition, sent.Given),
                    await MomentsOf(definition, checker, clock).ConfigureAwait(false)
                );
        var added = false;
        if (
            await InEffect(
                    definition,
                    registry,
                    context,
                    store,
                    () =>
                    {
                        added = registry.TryAdd(
                            definition,
                            JsonNodes.Write(sent.Given),
                            caller.Who,
                            sent.Source,
                            sent.Settled
                        );
                        return Task.CompletedTask;
                    }
                )
                .ConfigureAwait(false) is
            { } refused
        )
            return refused;
        if (!added)
            return Taken(definition.Name);
        if (registry.Find(definition.Name) is not { } wrapped)
            return Problems.NoSuchService(definition.Name, nearest: null); // somebody has unwrapped it in the same moment
        LogAccepted(findings, wrapped, definition.Accept, caller, logbook);
        await wrapped.Ask(new Wrapped()).ConfigureAwait(false);
        await store.Kept().ConfigureAwait(false);
        if (store.Failure is { } failure)
        {
            // Whoever wraps is told that it is kept, or it is not wrapped: a program of it would be nobody's.
            await wrapped.Ask(new UnwrapAsked(caller.Who)).ConfigureAwait(false);
            return Unrecorded.Refusal(failure);
        }

        return Reply.Of(
            new Answer
            {
                Code = AnswerCode.Wrapped,
                CameTrue = true,
                Said = SaidOfWrapped(wrapped.View, definition),
                Service = wrapped.View,
                Moments = await MomentsOf(definition, checker, clock).ConfigureAwait(false),
                Findings = FindingViews.Of(findings, definition.Accept),
                Repeat = CheckReplies.RepeatOf(definition, sent.Given),
            },
            201
        );
    }

    /// <summary>A rhythm without a moment to come is a mistake where it is new; one that was there before has had its moments.</summary>
    private static IResult? OverAlready(Definition definition, ImmutableArray<Planned> before, TimeProvider clock) =>
        definition.Rhythm.Except(before).FirstOrDefault(planned => planned.After(clock.GetUtcNow()) is null) is { } over
            ? Problems.Of(
                422,
                ProblemCode.BadRhythm,
                "No moment comes any more",
                $"'{over.When}' has no moment that is still to come. Nothing was changed.",
                "Give a time ahead; 'calm ahead --moments RHYTHM' shows the moments of one."
            )
            : null;

    private static string SaidOfWrapped(ServiceView view, Definition definition) =>
        $"Wrapped '{view.Title}' as {view.Name}, to run as {view.Account}. "
        + $"It is registered, not running{Intent.StartsBy(definition)}";

    /// <summary>
    /// Adjust a service: the keys sent replace its own, null takes one back to its default.
    /// </summary>
    /// <param name="called">The service.</param>
    /// <param name="whole">The body replaces the whole definition.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Adjust(
        Called called,
        bool? whole,
        bool? dry,
        HttpContext context,
        Registry registry,
        Checker checker,
        SentryStore store,
        Record logbook,
        Places places,
        TimeProvider clock
    )
    {
        var caller = Caller.Of(context);
        if (called.Unreadable is { } unreadable)
            return whole == true
                ? await Mend(unreadable, context, registry, checker, store, logbook).ConfigureAwait(false)
                : Problems.Unreadable(unreadable, places);
        var actor = called.Service;
        var sent = await Reading
            .Read(context.Request, caller, whole == true ? null : registry.Given(actor))
            .ConfigureAwait(false);
        return sent.Definition is null
            ? sent.Problem!
            : await Put(actor, sent, dry == true, context, registry, checker, store, logbook, clock)
                .ConfigureAwait(false);
    }

    /// <summary>Checks a whole definition for a service, and puts it into effect.</summary>
    /// <param name="sent">Without errors.</param>
    internal static async Task<IResult> Put(
        ServiceActor actor,
        Sent sent,
        bool dry,
        HttpContext context,
        Registry registry,
        Checker checker,
        SentryStore store,
        Record logbook,
        TimeProvider clock
    )
    {
        var (caller, definition) = (Caller.Of(context), sent.Definition!);
        if (
            (NotAdjustable(actor, definition) ?? OverAlready(definition, actor.Definition.Rhythm, clock)) is { } refusal
        )
            return refusal;
        var findings = await checker.All(definition, caller.Askers).ConfigureAwait(false);
        if (FindingViews.Left(findings, definition.Accept, forStart: false) is { Count: > 0 } left)
            return CheckReplies.Refusal(left, "run");
        var changes = DefinitionChanges.Between(actor.Definition, definition);
        if (dry)
        {
            if (registry.Circle(definition) is { } circle)
                return Circle(circle);
            return Reply.WouldDo(
                changes.Count == 0
                    ? $"{definition.Title} is so already; nothing would be changed."
                    : $"{definition.Title} would be adjusted:\n  {string.Join("\n  ", changes)}\n"
                        + $"{WouldHold(actor, changes)} Nothing was done.",
                actor.View,
                FindingViews.Of(findings, definition.Accept),
                moments: await Replanned(actor.Definition, definition, checker, clock).ConfigureAwait(false)
            );
        }

        var moments = await Replanned(actor.Definition, definition, checker, clock).ConfigureAwait(false);

        if (
            await InEffect(
                    definition,
                    registry,
                    context,
                    store,
                    () =>
                        changes.Count > 0
                            ? actor.Adjust(
                                definition,
                                JsonNodes.Write(sent.Given),
                                caller.Who,
                                sent.Source,
                                sent.Settled
                            )
                        : sent.Settled is { } settled ? actor.Settled(settled)
                        : Task.CompletedTask,
                    actor
                )
                .ConfigureAwait(false) is
            { } refused
        )
            return refused;
        LogAccepted(findings, actor, definition.Accept, caller, logbook);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(
            new Answer
            {
                Code = changes.Count == 0 ? AnswerCode.Unchanged : AnswerCode.Adjusted,
                CameTrue = true,
                Said = SaidOfAdjusted(actor, definition, changes),
                Service = actor.View,
                Moments = moments,
                Findings = FindingViews.Of(findings, definition.Accept),
                Repeat = CheckReplies.RepeatOf(definition, sent.Given),
            }
        );
    }

    private static string SaidOfAdjusted(
        ServiceActor actor,
        Definition definition,
        IReadOnlyList<DefinitionChange> changes
    ) =>
        changes.Count == 0
            ? $"{definition.Title} is so already; nothing was changed."
            : $"{definition.Title} is adjusted, revision {actor.Revision}:\n  "
                + $"{string.Join("\n  ", changes)}\n{Since(actor, changes)}";

    /// <summary>A definition given anew to a service whose stored one cannot be read.</summary>
    private static async Task<IResult> Mend(
        Unreadable unreadable,
        HttpContext context,
        Registry registry,
        Checker checker,
        SentryStore store,
        Record logbook
    )
    {
        var caller = Caller.Of(context);
        var sent = await Reading.Read(context.Request, caller, null).ConfigureAwait(false);
        if (sent.Definition is not { } definition)
            return sent.Problem!;
        if (definition.Name != unreadable.Stored.Name)
            return NameStays(definition, unreadable.Stored.Name);
        var findings = await checker.All(definition, caller.Askers).ConfigureAwait(false);
        if (FindingViews.Left(findings, definition.Accept, forStart: false) is { Count: > 0 } left)
            return CheckReplies.Refusal(left, "run");
        ServiceActor? mended = null;
        if (
            await InEffect(
                    definition,
                    registry,
                    context,
                    store,
                    async () =>
                        mended = await registry
                            .Mend(unreadable, definition, JsonNodes.Write(sent.Given), caller.Who)
                            .ConfigureAwait(false)
                )
                .ConfigureAwait(false) is
            { } refused
        )
            return refused;
        if (mended is not { } actor)
            return Taken(definition.Name);
        LogAccepted(findings, actor, definition.Accept, caller, logbook);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(
            new Answer
            {
                Code = AnswerCode.Adjusted,
                CameTrue = true,
                Said =
                    $"{definition.Title} has a definition again, revision {actor.Revision}, and is {Words.Of(actor.View.State)}.",
                Service = actor.View,
                Findings = FindingViews.Of(findings, definition.Accept),
                Repeat = CheckReplies.RepeatOf(definition, sent.Given),
            }
        );
    }

    /// <summary>The moments to come of a definition that plans others than before; null: it does not.</summary>
    private static async Task<IReadOnlyList<MomentsView>?> Replanned(
        Definition before,
        Definition now,
        Checker checker,
        TimeProvider clock
    ) => before.Rhythm.SequenceEqual(now.Rhythm) ? null : await MomentsOf(now, checker, clock).ConfigureAwait(false);

    private static async Task<IReadOnlyList<MomentsView>?> MomentsOf(
        Definition definition,
        Checker checker,
        TimeProvider clock
    ) =>
        Ahead.Moments(
            await checker.WithDays(definition, CancellationToken.None).ConfigureAwait(false),
            clock.GetUtcNow()
        );

    /// <summary>Puts a definition into effect, unless it closes a circle of needs; no two at once.</summary>
    private static async Task<IResult?> InEffect(
        Definition definition,
        Registry registry,
        HttpContext context,
        SentryStore store,
        Func<Task> put,
        ServiceActor? of = null
    )
    {
        await registry.Shaping.WaitAsync(context.RequestAborted).ConfigureAwait(false);
        try
        {
            // It may have been renamed, or started, since the definition was read.
            if (
                of is not null
                && (NotAdjustable(of, definition) ?? RevisionRoutes.Outdated(of, definition, context, store))
                    is { } refusal
            )
                return refusal;
            if (registry.Circle(definition) is { } circle)
                return Circle(circle);
            await put().ConfigureAwait(false);
            return null;
        }
        finally
        {
            registry.Shaping.Release();
        }
    }

    private static IResult NameStays(Definition definition, string name) =>
        Problems.Of(
            422,
            ProblemCode.NameFixed,
            "A name is changed by itself",
            $"The definition is named '{definition.Name}', the service '{name}'; nothing was changed.",
            $"calm rename {name} {definition.Name}   then adjust it under its new name"
        );

    private static IResult? NotAdjustable(ServiceActor actor, Definition definition)
    {
        if (definition.Name != actor.Definition.Name)
            return NameStays(definition, actor.Definition.Name);

        if (actor.Situation.Run is not null && definition.Program.Kind != actor.Definition.Program.Kind)
        {
            return Problems.Of(
                409,
                ProblemCode.KindWhileLive,
                "It is running",
                $"{definition.Title} is running, and its kind decides how that run is stopped.",
                $"Stop it first ('calm stop {definition.Name}'), adjust it, and start it again."
            );
        }

        return null;
    }

    /// <summary>From when on changes would hold, as a sentence.</summary>
    private static string WouldHold(ServiceActor actor, IReadOnlyList<DefinitionChange> changes)
    {
        var waiting = changes.Count(change => !change.HoldsAtOnce);
        return waiting == 0 ? "It would take effect immediately."
            : actor.Situation.Run is null ? "It would take effect with its next start."
            : waiting == changes.Count
                ? $"It would take effect with the next start: run {actor.Situation.Run.Number} keeps running unchanged."
            : $"{string.Join(", ", changes.Where(change => !change.HoldsAtOnce).Select(change => change.Key))} would take effect "
                + "with the next start, the rest immediately.";
    }

    /// <summary>From when on changes hold, as a sentence.</summary>
    private static string Since(ServiceActor actor, IReadOnlyList<DefinitionChange> changes)
    {
        var atOnce = changes.Count(change => change.HoldsAtOnce);
        if (atOnce == changes.Count)
            return "Takes effect immediately.";
        var but = atOnce == 0 ? "" : " The rest takes effect immediately.";
        return actor.Situation.Run is { } run
            ? $"Run {run.Number} keeps running unchanged; 'calm restart {actor.Definition.Name}' applies the change.{but}"
            : $"Takes effect with the next start.{but}";
    }

    /// <summary>
    /// Stop cleanly, then remove the service; its output stays. Refused while others name it as a need.
    /// </summary>
    /// <param name="called">The service.</param>
    /// <param name="output">remove: its output is removed, too.</param>
    /// <param name="dependents">leave: it is removed although others need it.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Unwrap(
        Called called,
        string? output,
        string? dependents,
        bool? dry,
        Registry registry,
        SentryStore store,
        Places places,
        HttpContext context
    )
    {
        var name = called.Service.Definition.Name;
        if (dependents != "leave" && registry.Graph.DependentsOf(name) is { Count: > 0 } others)
        {
            var (them, need) = others.Count == 1 ? ("it", "names") : ("them", "name");
            return Problems.Of(
                409,
                ProblemCode.NeededByOthers,
                "Others need it",
                $"{string.Join(", ", others)} {need} {name} as a need and would wait for it forever; nothing was changed.",
                $"Take the need out of {them}, or unwrap {them} first\n"
                    + $"calm unwrap {name} --alone   unwraps it all the same"
            );
        }

        if (dry == true)
            return Reply.WouldDo(
                Intent.Unwrap(
                    called.Service.Definition,
                    called.Service.Situation,
                    Remaining(name, output == "remove", places)
                ),
                called.Service.View
            );
        await called.Service.Ask(new UnwrapAsked(Caller.Of(context).Who)).ConfigureAwait(false);
        await called.Service.Until(_ => false, context.RequestAborted).ConfigureAwait(false);
        await store.Kept().ConfigureAwait(false);
        var left = LeftBehind(name, output == "remove", places);
        return Reply.Of(
            AnswerCode.Unwrapped,
            $"{called.Service.Definition.Title} is unwrapped. "
                + (left.Count == 0 ? "Nothing of it is left." : $"Left in place: {string.Join(" and ", left)}.")
        );
    }

    /// <summary>What is left in place of a service that is unwrapped.</summary>
    private static List<string> Remaining(string name, bool removeOutput, Places places)
    {
        var left = new List<string>();
        var (output, state) = (places.OutputDirectoryOf(name), places.StateOf(name));
        if (Directory.Exists(output) && !removeOutput)
            left.Add($"its output in {new OutputPlace(places, name).Elsewhere ?? output}");
        if (Directory.Exists(state) && Directory.EnumerateFileSystemEntries(state).Any())
            left.Add($"what it keeps in {state}");
        return left;
    }

    private static List<string> LeftBehind(string name, bool removeOutput, Places places)
    {
        var left = Remaining(name, removeOutput, places);
        var (output, state) = (places.OutputDirectoryOf(name), places.StateOf(name));
        if (Directory.Exists(output) && removeOutput)
            new OutputPlace(places, name).Remove();
        if (Directory.Exists(state) && !Directory.EnumerateFileSystemEntries(state).Any())
            Directory.Delete(state);
        return left;
    }

    /// <summary>Findings that block and were overruled go into the logbook, with who did.</summary>
    public static void LogAccepted(
        IEnumerable<Finding> findings,
        ServiceActor service,
        IEnumerable<string> accepted,
        Caller caller,
        Record logbook
    )
    {
        foreach (var finding in findings.Where(one => one.Severity == Severity.Blocks && accepted.Contains(one.Word)))
        {
            logbook.Note(service, new AcceptedEntry(finding.Word, finding.Seen), caller.Who);
        }
    }

    public static IResult Circle(IReadOnlyList<string> circle) =>
        Problems.Of(
            422,
            FindingCode.NeedsCircle,
            "A circle of needs",
            $"Its needs would close a circle, in which none could start: {NeedChecks.InWords(circle)}. Nothing was changed.",
            "Take one of these needs out."
        );

    public static IResult Taken(string name) =>
        Problems.Of(
            409,
            FindingCode.NameTaken,
            "The name is taken",
            $"There is a service called '{name}' already; nothing was changed.",
            $"Choose another name, see what it is with 'calm show {name}', or change it with "
                + $"'calm adjust {name}'."
        );
}
