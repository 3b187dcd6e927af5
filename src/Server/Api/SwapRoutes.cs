using System.Threading.Channels;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Swaps;
using CalmSentry.Inspection.Checks;
using CalmSentry.Inspection.Files;
using CalmSentry.Linux.Troubles;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;

namespace CalmSentry.Server.Api;

/// <summary>Swap: new program files, looked at first, and the files of before again when they do not do.</summary>
internal static class SwapRoutes
{
    /// <summary>Longer nobody is kept in doubt whether new files stay.</summary>
    private static readonly TimeSpan LongestWatch = TimeSpan.FromDays(7);

    private const int MostNotes = 1000;

    public static void MapSwaps(this IEndpointRouteBuilder api)
    {
        var one = api.OneService();
        one.MapGet("/versions", Versions).Produces<VersionsView>().May(Permission.Read);
        one.MapPost("/swap", Play)
            .Produces<SwapEvent>(200, "application/x-ndjson")
            .Refuses(400, 409)
            .TakesJson<SwapOrder>()
            .May(Permission.Define);
    }

    /// <summary>Which versions of a service's files there were, which is in place, and which can be brought back.</summary>
    public static IResult Versions(Called called, SwapRoom swaps, RunTools tools)
    {
        var actor = called.Service;
        var directory = ServiceFiles.DirectoryOf(actor.Definition, tools.Places);
        return TypedResults.Json(
            new VersionsView(
                directory,
                swaps.UnderWay(actor.Id),
                actor.Definition.Files.Versions,
                actor.Definition.Files.Data,
                [
                    .. tools
                        .Store.Versions(actor.Id)
                        .Select(version => new VersionView(
                            version.Number,
                            version.At,
                            version.By,
                            version.Source,
                            version.Present,
                            version.Present || IsKept(tools, actor, version),
                            version.Failed,
                            version.Runs
                        )),
                ]
            ),
            ApiJson.Plain.VersionsView
        );
    }

    private static bool IsKept(RunTools tools, ServiceActor actor, Store.StoredVersion version)
    {
        try
        {
            using var files = ServiceFiles.Open(tools, actor.Id, version.Directory);
            return files.IdentityOf(version.Number) == version.Identity;
        }
        catch (IOException)
        {
            return false;
        }
    }

    /// <summary>
    /// Put new program files in: they are looked at as the account; then it is stopped, its files are exchanged in one stroke, it is
    /// started, proven, and watched for a while; if it does not stay well the files of before come back. Live notes; at the end what
    /// came of it. It goes on whether or not somebody listens.
    /// </summary>
    /// <param name="called">The service.</param>
    /// <param name="wait">While something else has it in hand, it is waited for; else that is refused.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Play(
        Called called,
        bool? wait,
        bool? dry,
        Registry registry,
        SwapRoom swaps,
        NewFiles newFiles,
        RunTools tools,
        Record logbook,
        Clocks clocks,
        HttpContext context
    )
    {
        var actor = called.Service;
        var (order, notRead) = await Incoming
            .Json(context.Request, ApiJson.Plain.SwapOrder, "which files: {\"from\": …} or {\"back\": …}")
            .ConfigureAwait(false);
        if (order is null)
            return notRead!;
        if (
            order.From is null == order.Back is null
            || order.Back < 0
            || (order.From is { } path && (!Path.IsPathRooted(path) || Incoming.Odd(path)))
        )
            return Problems.Of(
                400,
                ProblemCode.BadSource,
                "Not a source of files",
                $"from is '{order.From}', back is {order.Back}; allowed: the absolute path of a directory or an archive, or the number of "
                    + "an earlier version (0: the one before the present); one of the two.",
                $"calm swap {actor.Definition.Name} --from DIRECTORY-OR-ARCHIVE"
            );
        if (order.WatchMs is < 0 || order.WatchMs > LongestWatch.TotalMilliseconds)
            return Problems.Of(
                400,
                ProblemCode.BadLength,
                "Not a length of time",
                $"watch-ms is {order.WatchMs}; allowed: 0 to {LongestWatch.TotalMilliseconds:0} ({Duration.Write(LongestWatch)})."
            );
        var (needing, problem) =
            actor.Situation.Run is null || actor.Definition.IsJob
                ? (new HashSet<string>(), null)
                : RunRoutes.Needing(actor, order.Dependents, "swap", registry);
        if (problem is not null && dry != true)
            return problem;
        if (wait == true)
            await Busy.Free(wait, [actor.Definition.Name], registry, clocks, context.RequestAborted)
                .ConfigureAwait(false);
        if (!swaps.Take(actor, Caller.Of(context).Who))
            return UnderWay(actor, swaps);
        var notes = Channel.CreateBounded<SwapEvent>(
            new BoundedChannelOptions(MostNotes) { FullMode = BoundedChannelFullMode.DropOldest }
        );
        var (by, gone) = (Caller.Of(context).Who, context.RequestAborted);
        void Say(string text) => notes.Writer.TryWrite(new() { Text = text });
        var asked = new FilesAsked(actor, order, needing, by, Say);
        _ = Task.Run(
            () => Do(asked, dry == true, newFiles, swaps, tools, logbook, clocks, notes.Writer, gone),
            CancellationToken.None
        );
        await Reply.Live(context, notes.Reader, ApiJson.Plain.SwapEvent).ConfigureAwait(false);
        return TypedResults.Empty;
    }

    private static async Task Do(
        FilesAsked asked,
        bool dry,
        NewFiles newFiles,
        SwapRoom swaps,
        RunTools tools,
        Record logbook,
        Clocks clocks,
        ChannelWriter<SwapEvent> notes,
        CancellationToken gone
    )
    {
        var actor = asked.Actor;
        Prepared? prepared = null;
        var begun = false;
        try
        {
            prepared = await Look(asked, dry, newFiles, gone).ConfigureAwait(false);
            if (prepared is not null)
                notes.TryWrite(new() { Plan = prepared.Plan });
            if (dry)
            {
                notes.TryWrite(new() { Answer = Would(actor, prepared!.Plan, Left(asked, prepared).Count) });
                return;
            }

            if (prepared is not null)
            {
                Take(asked, prepared);
                await Task.Run(() => swaps.Record(actor, prepared), CancellationToken.None).ConfigureAwait(false);
            }

            begun = true;
            var (swap, refused) = await swaps
                .Begin(asked, prepared, () => LookStopped(asked, newFiles, notes))
                .ConfigureAwait(false);
            await tools.Store.Kept().ConfigureAwait(false);
            notes.TryWrite(
                refused is null ? new() { Answer = Came(actor, swap, tools, clocks) } : new() { Refused = refused }
            );
        }
        catch (FilesNotTakenException error)
        {
            notes.TryWrite(new() { Refused = error.Problem });
        }
        catch (OwnTroubleException own)
        {
            notes.TryWrite(
                new()
                {
                    Refused = new(
                        "Out of room",
                        503,
                        $"The sentry cannot look at the new files now: {own.Message}. Nothing was changed.",
                        ProblemCode.OutOfRoom,
                        "Try again in a while.",
                        null
                    ),
                }
            );
        }
        catch (Exception unexpected) when (unexpected is not OperationCanceledException)
        {
            logbook.Failed("new files", unexpected, actor);
            notes.TryWrite(
                new()
                {
                    Refused = new(
                        "The sentry failed",
                        StatusCodes.Status500InternalServerError,
                        $"The sentry failed: {unexpected.Message}",
                        ProblemCode.Failed,
                        "calm logbook",
                        null
                    ),
                }
            );
        }
        finally
        {
            if (!begun)
            {
                if (prepared is { Swap.IsNew: true })
                    newFiles.Forget(actor, prepared);
                swaps.Leave(actor.Id);
            }

            notes.TryComplete();
        }
    }

    /// <summary>Tries before a service whose files do not stay as they are is stopped for them.</summary>
    private const int Tries = 3;

    /// <summary>
    /// Makes new files ready while it runs. What is at work in the present ones may keep that from ending for as long as it runs.
    /// </summary>
    /// <returns>Null: they do not stay as they are, and the service is to be stopped first.</returns>
    private static async Task<Prepared?> Look(FilesAsked asked, bool dry, NewFiles newFiles, CancellationToken gone)
    {
        for (var tried = 1; ; tried++)
            try
            {
                return await newFiles.Prepare(asked, gone).ConfigureAwait(false);
            }
            catch (FilesNotTakenException error)
                when (error.Problem.Code == FilesNotTakenException.FilesMove && tried < Tries)
            {
                asked.Say("the files change while they are looked at: once more");
            }
            catch (FilesNotTakenException error)
                when (error.Problem.Code == FilesNotTakenException.FilesMove && !dry && asked.Actor.Situation.Lives)
            {
                asked.Say("the files change while they are looked at: it is stopped first");
                return null;
            }
    }

    /// <summary>The same once it is stopped, whether or not somebody still listens: it is to be begun again in any case.</summary>
    private static async Task<Prepared> LookStopped(FilesAsked asked, NewFiles newFiles, ChannelWriter<SwapEvent> notes)
    {
        var prepared = await newFiles.Prepare(asked, CancellationToken.None).ConfigureAwait(false);
        notes.TryWrite(new() { Plan = prepared.Plan });
        try
        {
            Take(asked, prepared);
            return prepared;
        }
        catch (FilesNotTakenException) when (prepared.Swap.IsNew)
        {
            newFiles.Forget(asked.Actor, prepared);
            throw;
        }
    }

    private static IReadOnlyList<Core.Findings.Finding> Left(FilesAsked asked, Prepared prepared) =>
        FindingViews.Left(
            prepared.Findings,
            [.. asked.Actor.Definition.Accept, .. asked.Order.Accept ?? []],
            forStart: true
        );

    /// <exception cref="FilesNotTakenException">A finding is in their way.</exception>
    private static void Take(FilesAsked asked, Prepared prepared)
    {
        if (Left(asked, prepared) is { Count: > 0 } left)
            throw new FilesNotTakenException(Refused(left));
    }

    private static Answer Came(ServiceActor actor, Swap swap, RunTools tools, Clocks clocks)
    {
        return new()
        {
            Code = swap.CameTrue ? AnswerCode.Swapped : AnswerCode.NotSwapped,
            CameTrue = swap.CameTrue,
            Said = SwapWords.Said(actor, swap, tools.Store),
            Service = actor.View,
            Evidence = actor.Situation.Lives
                ? EvidenceFinder.Of(actor, actor.Situation, tools.Store, tools.Places, clocks.Time)
                : null,
        };
    }

    private static Answer Would(ServiceActor actor, SwapPlan plan, int left) =>
        new()
        {
            Code = AnswerCode.WouldDo,
            CameTrue = left == 0,
            Said =
                left == 0
                    ? $"Version {plan.Version} would be put in for version {plan.Before}. Nothing was done."
                    : $"Version {plan.Version} would be refused: {(left == 1 ? "a finding is" : $"{left} findings are")} in its way. Nothing was done.",
            Service = actor.View,
            Findings = plan.Findings,
        };

    private static Problem Refused(IReadOnlyList<Core.Findings.Finding> left) =>
        new(
            "The new files would not run",
            StatusCodes.Status422UnprocessableEntity,
            string.Join("\n", left.Select(finding => Core.Text.Shown.Line(finding.Seen))) + "\nNothing was changed.",
            left[0].Code,
            string.Join("\n", left.Select(finding => finding.Mend).Distinct()),
            null
        );

    public static IResult UnderWay(ServiceActor actor, SwapRoom swaps) =>
        Problems.Of(
            409,
            ProblemCode.Busy,
            "New files are under way",
            $"New files of {actor.Definition.Title} are under way: {swaps.UnderWay(actor.Id) ?? "they are nearly done"}. Nothing was changed.",
            $"calm swap {actor.Definition.Name}   shows how far it is"
        );
}
