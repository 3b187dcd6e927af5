using System.Threading.Channels;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Plans;
using CalmSentry.Server.Checks;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Services;
using CalmSentry.Server.Swaps;

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
    public static IResult Versions(Called called, Registry registry, House house)
    {
        var actor = called.Service;
        var directory = NewFiles.DirectoryOf(actor.Definition, house.Places);
        return TypedResults.Json(
            new VersionsView(
                directory,
                registry.Swaps.UnderWay(actor.Id),
                actor.Definition.Files.Versions,
                actor.Definition.Files.Data,
                [
                    .. house
                        .Store.Versions(actor.Id)
                        .Select(version => new VersionView(
                            version.Number,
                            version.At,
                            version.By,
                            version.Source,
                            version.Present,
                            version.Present || IsKept(house, actor, version),
                            version.Failed,
                            version.Runs
                        )),
                ]
            ),
            ApiJson.Plain.VersionsView
        );
    }

    private static bool IsKept(House house, ServiceActor actor, Store.StoredVersion version)
    {
        try
        {
            using var files = ServiceFiles.Open(house, actor.Id, version.Directory);
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
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Play(
        Called called,
        bool? dry,
        Registry registry,
        NewFiles newFiles,
        House house,
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
                "bad-source",
                "Not a source of files",
                $"from is '{order.From}', back is {order.Back}; allowed: the absolute path of a directory or an archive, or the number of "
                    + "an earlier version (0: the one before the present); one of the two.",
                $"calm swap {actor.Definition.Name} --from DIRECTORY-OR-ARCHIVE"
            );
        if (order.WatchMs is < 0 || order.WatchMs > LongestWatch.TotalMilliseconds)
            return Problems.Of(
                400,
                "bad-length",
                "Not a length of time",
                $"watch-ms is {order.WatchMs}; allowed: 0 to {LongestWatch.TotalMilliseconds:0} ({Duration.Write(LongestWatch)})."
            );
        var (needing, problem) =
            actor.Situation.Run is null || actor.Definition.IsJob
                ? (new HashSet<string>(), null)
                : RunRoutes.Needing(actor, order.Dependents, "swap", registry);
        if (problem is not null && dry != true)
            return problem;
        if (!registry.Swaps.Take(actor.Id))
            return UnderWay(actor, registry);
        var notes = Channel.CreateBounded<SwapEvent>(
            new BoundedChannelOptions(MostNotes) { FullMode = BoundedChannelFullMode.DropOldest }
        );
        var (by, gone) = (Caller.Of(context).Who, context.RequestAborted);
        _ = Task.Run(
            () => Do(actor, order, needing, dry == true, registry, newFiles, house, by, notes.Writer, gone),
            CancellationToken.None
        );
        await Reply.Live(context, notes.Reader, ApiJson.Plain.SwapEvent).ConfigureAwait(false);
        return TypedResults.Empty;
    }

    private static async Task Do(
        ServiceActor actor,
        SwapOrder order,
        IReadOnlySet<string> dependents,
        bool dry,
        Registry registry,
        NewFiles newFiles,
        House house,
        Core.Lifecycle.Principal by,
        ChannelWriter<SwapEvent> notes,
        CancellationToken gone
    )
    {
        void Say(string text) => notes.TryWrite(new() { Text = text });
        Prepared? prepared = null;
        var begun = false;
        try
        {
            bool stopped;
            (prepared, stopped) = await Look(actor, order, dependents, dry, registry, newFiles, by, Say, gone)
                .ConfigureAwait(false);
            notes.TryWrite(new() { Plan = prepared.Plan });
            var left = FindingViews.Left(
                prepared.Findings,
                [.. actor.Definition.Accept, .. order.Accept ?? []],
                forStart: true
            );
            if (dry)
                notes.TryWrite(new() { Answer = Would(actor, prepared.Plan, left.Count) });
            else if (left.Count > 0)
            {
                if (stopped)
                    await BeginAgain(actor, dependents, registry, by).ConfigureAwait(false);
                notes.TryWrite(new() { Refused = Refused(left) });
            }
            else
            {
                begun = true;
                var swap = await Begin(actor, prepared, registry, house, Say).ConfigureAwait(false);
                await house.Store.Kept().ConfigureAwait(false);
                var came = swap is { Why: null, Down: null };
                notes.TryWrite(
                    new()
                    {
                        Answer = new()
                        {
                            Code = came ? AnswerCode.Swapped : AnswerCode.NotSwapped,
                            CameTrue = came,
                            Said = SwapWords.Said(actor, swap, house.Store),
                            Service = actor.View,
                            Evidence = SwapRoom.Lives(actor.Situation)
                                ? EvidenceFinder.Of(actor, actor.Situation, house.Store, house.Places, house.Clock)
                                : null,
                        },
                    }
                );
            }
        }
        catch (FilesNotTakenException error)
        {
            notes.TryWrite(new() { Refused = error.Problem });
        }
        catch (Exception error) when (error is not OperationCanceledException)
        {
            house.Logbook.Trouble($"The sentry failed at new files: {error.Message}", actor);
            notes.TryWrite(
                new()
                {
                    Refused = new(
                        "The sentry failed",
                        StatusCodes.Status500InternalServerError,
                        $"The sentry failed: {error.Message}",
                        "failed",
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
                if (prepared is not null && order.From is not null)
                    newFiles.Forget(actor, prepared);
                registry.Swaps.Leave(actor.Id);
            }

            notes.TryComplete();
        }
    }

    /// <summary>Tries before a service whose files do not stay as they are is stopped for them.</summary>
    private const int Tries = 3;

    /// <summary>
    /// Makes new files ready. What is at work in the present ones may keep that from ending for as long as it runs: after a few tries the
    /// service is stopped first, and stays so until the swap is over.
    /// </summary>
    private static async Task<(Prepared Prepared, bool Stopped)> Look(
        ServiceActor actor,
        SwapOrder order,
        IReadOnlySet<string> dependents,
        bool dry,
        Registry registry,
        NewFiles newFiles,
        Core.Lifecycle.Principal by,
        Action<string> say,
        CancellationToken gone
    )
    {
        for (var tried = 1; ; tried++)
            try
            {
                return (await newFiles.Prepare(actor, order, dependents, by, say, gone).ConfigureAwait(false), false);
            }
            catch (FilesNotTakenException error) when (error.Problem.Code == NewFiles.FilesMove && tried < Tries)
            {
                say("the files change while they are looked at: once more");
            }
            catch (FilesNotTakenException error)
                when (error.Problem.Code == NewFiles.FilesMove && !dry && SwapRoom.Lives(actor.Situation))
            {
                break;
            }

        say("the files change while they are looked at: it is stopped first");
        await registry.Swaps.StopFirst(actor, dependents, by).ConfigureAwait(false);
        try
        {
            var prepared = await newFiles.Prepare(actor, order, dependents, by, say, gone).ConfigureAwait(false);
            return (prepared with { Swap = prepared.Swap with { WasUp = !actor.Definition.IsJob } }, true);
        }
        catch
        {
            await BeginAgain(actor, dependents, registry, by).ConfigureAwait(false);
            throw;
        }
    }

    private static async Task BeginAgain(
        ServiceActor actor,
        IReadOnlySet<string> dependents,
        Registry registry,
        Core.Lifecycle.Principal by
    )
    {
        foreach (var name in dependents.Prepend(actor.Definition.Name))
            if (registry.Named(name) is { } one)
                await one.Ask(new Core.Lifecycle.StartAsked(SwapRoom.ByIt(by))).ConfigureAwait(false);
    }

    private static async Task<Swap> Begin(
        ServiceActor actor,
        Prepared prepared,
        Registry registry,
        House house,
        Action<string> say
    )
    {
        using (var files = ServiceFiles.Open(house, actor.Id, prepared.Swap.Directory))
        using (var next = files.Kept(prepared.Swap.Version.Number))
            await Task.Run(() => next.Flush(all: true)).ConfigureAwait(false);
        foreach (var version in prepared.Unrecorded)
            house.Store.SetVersion(actor.Id, version);
        if (prepared.Unrecorded.FirstOrDefault(version => version.Present) is { } present)
            house.Store.SetPresent(actor.Id, present.Number);
        house.Logbook.Note(
            actor,
            new(EntryCode.SwapBegan)
            {
                Count = prepared.Swap.Version.Number,
                Name = prepared.Plan.Source,
                Seen = $"{prepared.Swap.Before.Number}",
            },
            prepared.Swap.By
        );
        return await registry.Swaps.Begin(actor, prepared.Swap, say).ConfigureAwait(false);
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
            left[0].Word,
            string.Join("\n", left.Select(finding => finding.Mend).Distinct()),
            null
        );

    public static IResult UnderWay(ServiceActor actor, Registry registry) =>
        Problems.Of(
            409,
            "swap-under-way",
            "New files are under way",
            $"New files of {actor.Definition.Title} are under way: {registry.Swaps.UnderWay(actor.Id) ?? "they are nearly done"}. Nothing was changed.",
            $"calm swap {actor.Definition.Name}   shows how far it is"
        );
}
