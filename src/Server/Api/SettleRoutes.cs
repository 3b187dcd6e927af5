using System.Globalization;
using System.Threading.Channels;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Settling;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Secrets;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Settling;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Boot;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;
using Clocks = CalmSentry.Engine.Background.Clocks;

namespace CalmSentry.Server.Api;

/// <summary>Services as files: written, compared, and the machine brought to them.</summary>
internal static class SettleRoutes
{
    private const int MostShown = 20,
        LongestTold = 500;

    /// <summary>Bytes of a whole directory on its way.</summary>
    private const int LongestOrder = FilesDocument.LongestInAll * 2;

    public static void MapFiles(this IEndpointRouteBuilder api)
    {
        api.MapGet("/files", Export).Produces<FilesDocument>().Refuses(404).May(Permission.Read);
        api.MapPost("/files/compare", Compare)
            .TakesJson<CompareOrder>()
            .WithMetadata(new Incoming.UpTo(LongestOrder * 2))
            .Produces<ComparisonView>()
            .Refuses(400)
            .May(Permission.Read);
        api.MapGet("/files/settlements", Settlements).Produces<IReadOnlyList<SettlementView>>().May(Permission.Read);
        api.MapGet("/files/settle", Latest).Produces<SettlementView>().Refuses(404).May(Permission.Read);
    }

    public static void MapSettling(this IEndpointRouteBuilder api)
    {
        api.MapPost("/files/settle", Settle)
            .TakesJson<SettleOrder>()
            .WithMetadata(new Incoming.UpTo(LongestOrder))
            .Produces<SettleEvent>(200, "application/x-ndjson")
            .Refuses(400, 409, 412)
            .May(Permission.Administer);
        api.MapPost("/files/settle/back", Back)
            .Produces<SettleEvent>(200, "application/x-ndjson")
            .Refuses(404, 409)
            .May(Permission.Administer);
    }

    /// <summary>Definitions as files that read back to the same: what came from a file is that file, with what changed since.</summary>
    /// <param name="services">Names, with commas between; left out: all.</param>
    public static async Task<IResult> Export(string? services, Registry registry, SentryStore store)
    {
        await store.Settled().ConfigureAwait(false);
        var chosen = new List<ServiceActor>();
        foreach (var called in (services ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries))
            if (registry.Find(called) is { } actor)
                chosen.Add(actor);
            else
                return Problems.NoSuchService(called, registry.Nearest(called), registry.RenamedTo(called));
        if (services is null)
            chosen.AddRange(registry.All.OrderBy(actor => actor.Definition.Name, NaturalOrder.Names));
        return TypedResults.Json(
            Exporting.Together(chosen.Distinct().Select(actor => FilesOf(actor, registry, store))),
            ApiJson.Plain.FilesDocument
        );
    }

    private static FilesDocument FilesOf(ServiceActor actor, Registry registry, SentryStore store) =>
        Exporting.Of(
            actor.Definition,
            registry.Given(actor),
            FileSet.Source(store.SourceOf(actor.Id, actor.Revision)),
            Machine.HostName
        );

    /// <summary>Where files and this machine, or two directories, differ, service by service and key by key, and what settling would do.</summary>
    public static async Task<IResult> Compare(
        HttpContext context,
        Registry registry,
        RunTools tools,
        SettleRoom room,
        SentryStore store
    )
    {
        var (order, problem) = await Incoming
            .Json(context.Request, ApiJson.Plain.CompareOrder, "files to be compared", LongestOrder * 2)
            .ConfigureAwait(false);
        if (order is null)
            return problem!;
        await store.Settled().ConfigureAwait(false);
        var account = Caller.Of(context).Account;
        if ((TooMuch(order.Files) ?? (order.With is null ? null : TooMuch(order.With))) is { } much)
            return much;
        var files = FileSet.Read(order.Files with { Take = null }, Machine.HostName, account);
        var with = order.With is null ? null : FileSet.Read(order.With with { Take = null }, Machine.HostName, account);
        if (Wrong([.. files.Errors, .. with?.Errors ?? []]) is { } wrong)
            return wrong;
        var comparison = with is null
            ? ToMachine(files, order.TakeAway, registry, tools, room)
            : Comparison.Of(
                [],
                files.Services,
                [.. with.Services.Select(one => new MachineService(one.Definition, 0, false, false))],
                OrderOf(files, with.Services.Select(one => one.Definition)),
                order.TakeAway,
                _ => null
            );
        return TypedResults.Json(View(comparison, files, with is null ? tools : null), ApiJson.Plain.ComparisonView);
    }

    /// <summary>
    /// Bring this machine to files: accounts, folders and services, in order, with check and proof after each; it stops at the first that
    /// fails. Live notes, then what came of it.
    /// </summary>
    public static async Task<IResult> Settle(
        HttpContext context,
        Registry registry,
        RunTools tools,
        SettleRoom room,
        SentryStore store,
        Clocks clocks
    )
    {
        var (order, problem) = await Incoming
            .Json(context.Request, ApiJson.Plain.SettleOrder, "files to settle by", LongestOrder)
            .ConfigureAwait(false);
        if (order is null)
            return problem!;
        if (TooMuch(order.Files) is { } much)
            return much;
        if (room.UnderWay is { } other)
            return Busy(other);
        await store.Settled().ConfigureAwait(false);
        var caller = Caller.Of(context);
        var files = FileSet.Read(order.Files with { Take = null }, Machine.HostName, caller.Account);
        if (Wrong(files.Errors) is { } wrong)
            return wrong;
        var comparison = ToMachine(files, order.TakeAway, registry, tools, room);
        if (comparison.Renamed.FirstOrDefault() is { } renamed)
            return Problems.Of(
                409,
                ProblemCode.RenamedHere,
                "It has another name here",
                $"{renamed.File} is about {renamed.Name}. That service was renamed on this machine and is called {renamed.CalledHere}. Under "
                    + "the old name its program would run twice. Nothing was changed.",
                $"Call it {renamed.CalledHere} in the file, or export again; to rename it back, say 'was: {renamed.CalledHere}' there."
            );
        if (order.Seen is { } seen && seen != comparison.Tag)
            return Problems.Of(
                412,
                ProblemCode.SettlingOutdated,
                "It is another list now",
                "Services or files were changed since the list was shown; nothing was changed.",
                "Look at it again: calm compare DIRECTORY"
            );
        var settlement = new Settlement
        {
            Number = (room.Latest?.Number ?? 0) + 1,
            By = caller.Who,
            Began = clocks.Now,
            Directory = Told(order.Files.Directory),
            Head = Told(order.Files.Head),
            Steps = comparison.Steps,
            Settled = [.. files.Services.Select(one => one.Definition.Name)],
        };
        KeepSources(files, registry, store);
        if (settlement.Steps.IsEmpty)
        {
            await room.Marked(settlement).ConfigureAwait(false);
            await Reply
                .Live(context, Once(new(null, View(settlement with { Ended = clocks.Now }))), ApiJson.Plain.SettleEvent)
                .ConfigureAwait(false);
            return TypedResults.Empty;
        }

        return await Live(settlement, room, context).ConfigureAwait(false);
    }

    /// <summary>What is the same in other words keeps the words of today: comments, the order of keys.</summary>
    private static void KeepSources(FileSet files, Registry registry, SentryStore store)
    {
        foreach (var one in files.Services)
            if (
                registry.Named(one.Definition.Name) is { } actor
                && DefinitionChanges.Between(actor.Definition, one.Definition).Count == 0
                && store.SourceOf(actor.Id, actor.Revision) != one.Source
            )
                store.SetSource(actor.Id, actor.Revision, one.Source);
    }

    /// <summary>Undo what the latest settling did: revisions as before, what it wrapped, made and granted taken away again.</summary>
    public static async Task<IResult> Back(HttpContext context, SettleRoom room, SentryStore store, Clocks clocks)
    {
        if (room.UnderWay is { } other)
            return Busy(other);
        await store.Settled().ConfigureAwait(false);
        if (room.Latest is not { } latest)
            return None();
        if (!CanGoBack(latest))
            return Problems.Of(
                409,
                ProblemCode.NothingToUndo,
                "Nothing to undo",
                latest.Back is { } undone
                    ? $"Settling {latest.Number} undid settling {undone}; only the latest can be undone. Nothing was changed."
                    : $"Settling {latest.Number} did nothing that could be undone. Nothing was changed.",
                "'calm history NAME' and 'calm revert' do the same for one service."
            );
        return await Live(
                new Settlement
                {
                    Number = latest.Number + 1,
                    By = Caller.Of(context).Who,
                    Began = clocks.Now,
                    Back = latest.Number,
                    Directory = latest.Directory,
                    Steps = latest.Undone(),
                    Settled = latest.Settled,
                },
                room,
                context
            )
            .ConfigureAwait(false);
    }

    /// <summary>The settling under way, or the latest: its steps, and what came of each.</summary>
    public static async Task<IResult> Latest(SettleRoom room, SentryStore store)
    {
        await store.Settled().ConfigureAwait(false);
        return room.Latest is { } latest ? TypedResults.Json(View(latest), ApiJson.Plain.SettlementView) : None();
    }

    /// <summary>What is kept of settlings: the one under way or the latest, or none.</summary>
    public static async Task<IResult> Settlements(SettleRoom room, SentryStore store)
    {
        await store.Settled().ConfigureAwait(false);
        return TypedResults.Json(
            room.Latest is { } latest ? [View(latest)] : [],
            ApiJson.Plain.IReadOnlyListSettlementView
        );
    }

    private static IResult None() =>
        Problems.Of(
            404,
            ProblemCode.NoSettling,
            "Nothing was settled yet",
            "This machine was never brought to files.",
            "calm settle DIRECTORY"
        );

    private static bool CanGoBack(Settlement one) => one is { Back: null, Ended: not null } && !one.Undone().IsEmpty;

    private static IResult Busy(Settlement other) =>
        Problems.Of(
            409,
            ProblemCode.Busy,
            "One at a time",
            $"Settling {other.Number}, which {other.By} asked for, is under way: "
                + $"{other.Steps.Count(step => step.State == SettleState.Done)} of {other.Steps.Length} steps are done. Nothing was done.",
            "See how far it is: calm settle --last"
        );

    private static async Task<IResult> Live(Settlement settlement, SettleRoom room, HttpContext context)
    {
        var events = Channel.CreateUnbounded<SettleEvent>();
        if (room.Begin(settlement, text => events.Writer.TryWrite(new(text, null))) is not { } over)
            return Busy(room.UnderWay ?? settlement);
        _ = End(over, events.Writer);
        await Reply.Live(context, events.Reader, ApiJson.Plain.SettleEvent).ConfigureAwait(false);
        return TypedResults.Empty;
    }

    private static ChannelReader<SettleEvent> Once(SettleEvent event_)
    {
        var events = Channel.CreateBounded<SettleEvent>(1);
        events.Writer.TryWrite(event_);
        events.Writer.TryComplete();
        return events.Reader;
    }

    private static async Task End(Task<Settlement> over, ChannelWriter<SettleEvent> events)
    {
        var ended = await over.ConfigureAwait(false);
        events.TryWrite(new(null, View(ended)));
        events.TryComplete();
    }

    private static Comparison ToMachine(
        FileSet files,
        bool takeAway,
        Registry registry,
        RunTools tools,
        SettleRoom room
    )
    {
        var latest = room.Latest;
        return Comparison.Of(
            Around(files, tools),
            files.Services,
            [
                .. registry.All.Select(actor => new MachineService(
                    actor.Definition,
                    actor.Revision,
                    actor.Situation.Run is not null,
                    SettleRoom.Awaited(latest, actor.Definition.Name)
                )),
            ],
            OrderOf(files, registry.All.Select(actor => actor.Definition)),
            takeAway,
            registry.RenamedTo
        );
    }

    private static IReadOnlyList<string> OrderOf(FileSet files, IEnumerable<Definition> others)
    {
        var named = files.Services.Select(one => one.Definition.Name).ToHashSet(StringComparer.Ordinal);
        return new NeedGraph(
            files.Services.Select(one => one.Definition).Concat(others.Where(one => !named.Contains(one.Name)))
        ).BeginOrder;
    }

    /// <summary>Accounts and folders that files ask for, and what is missing of each.</summary>
    private static List<AroundService> Around(FileSet files, RunTools tools)
    {
        var around = new List<AroundService>();
        foreach (var (file, name) in files.Accounts.DistinctBy(one => one.Name))
            around.Add(
                new(
                    file,
                    name,
                    Account.Named(name) is null ? [new(SettleDeed.MakeAccount, name)]
                        : tools.Permits.Permitted(name) ? []
                        : [new(SettleDeed.Permit, name)]
                )
            );
        var granted = tools.Store.Grants();
        foreach (var folder in files.Folders.DistinctBy(one => (one.Account, one.Path)))
            around.Add(
                new(
                    folder.File,
                    folder.Account,
                    granted.Any(grant => grant.Account == folder.Account && grant.Folder == folder.Path)
                        ? []
                        : [new(SettleDeed.Grant, folder.Account, folder.Path) { Write = folder.Write }]
                )
            );
        return around;
    }

    /// <summary>What a caller says of where its files are from, as it is shown.</summary>
    private static string? Told(string? said) =>
        said is null ? null : Shown.Line(said.Length > LongestTold ? said[..LongestTold] : said);

    private static IResult? TooMuch(FilesDocument document)
    {
        if (document.Files.Values.Any(text => text is null))
            return Bad("a file without a text", "texts");
        if (document.Files.Count == 0)
            return Bad("no file at all", "files that end in .yaml or .yml");
        if (document.Files.Count > FilesDocument.MostFiles)
            return Bad($"{document.Files.Count} files", $"at most {FilesDocument.MostFiles}");
        if (document.Files.FirstOrDefault(file => file.Value.Length > FilesDocument.LongestFile) is { Key: { } long_ })
            return Bad($"{long_} of more than {FilesDocument.LongestFile} characters", "shorter files");
        return
            document.Files.Keys.FirstOrDefault(path => path.Length == 0 || Filler.Beside("", path) != path) is { } odd
            ? Bad($"a file '{odd}'", "paths from the directory, without dots and without a slash in front")
            : null;

        static IResult Bad(string found, string allowed) =>
            Problems.Of(
                400,
                ProblemCode.FilesInvalid,
                "Not files to settle by",
                $"Found {Shown.Line(found)}; allowed: {allowed}. Nothing was changed."
            );
    }

    private static IResult? Wrong(IReadOnlyList<FileError> errors)
    {
        if (errors.Count == 0)
            return null;
        errors = [.. errors.DistinctBy(error => error.ToString())]; // a base is read for each that is from it
        var mistakes = errors
            .Take(MostShown)
            .Select(error => Problems.Of(error.Error) with { File = error.File, Text = error.ToString() })
            .ToList();
        return Problems.Of(
            400,
            ProblemCode.FilesInvalid,
            "The files have errors",
            string.Join('\n', mistakes.Select(mistake => Shown.Line(mistake.Text)))
                + (errors.Count > MostShown ? $"\nand {errors.Count - MostShown} more" : ""),
            "Nothing was changed. Correct what is named.",
            mistakes
        );
    }

    private static ComparisonView View(Comparison comparison, FileSet files, RunTools? tools) =>
        new(
            comparison.Differences.IsEmpty,
            comparison.Tag,
            files.Document.Files.Count,
            files.Services.Count,
            [
                .. comparison.Differences.Select(one => new DifferenceView(
                    one.Name,
                    one.File,
                    [.. one.Changes.Select(Shown.Line)],
                    [.. one.Steps.Select(step => step.Deed)],
                    one.Said
                )
                {
                    CalledHere = one.CalledHere,
                }),
            ],
            comparison.Left
        )
        {
            Notes = tools is null ? [] : [.. Secrets(files, tools.Secrets)],
        };

    /// <summary>Secrets that services name and that have no value here: files never have one.</summary>
    private static IEnumerable<string> Secrets(FileSet files, SecretBox secrets) =>
        from one in files.Services
        from secret in one.Definition.Program.Secrets
        where !secrets.Has(one.Definition.Name, secret.Key) && (one.Was is not { } was || !secrets.Has(was, secret.Key))
        select $"{one.Definition.Name} needs the secret {secret.Key}, which has no value here: calm secret set {one.Definition.Name} {secret.Key}";

    private static SettlementView View(Settlement one)
    {
        var failed = one.Steps.FirstOrDefault(step => step.State == SettleState.Failed);
        var done = one.Steps.Count(step => step.State == SettleState.Done);
        var number = one.Number.ToString(CultureInfo.InvariantCulture);
        var back = CanGoBack(one);
        return new(
            one.Number,
            one.By.ToString(),
            one.Began,
            one.Ended,
            one.Directory,
            one.Head,
            one.Back,
            one.CameTrue,
            back,
            one.Ended is null ? $"Settling {number} is under way: {done} of {one.Steps.Length} steps are done."
                : failed is not null
                    ? $"Settling {number} has stopped after {done} of {one.Steps.Length} steps. {failed.What}: {failed.Said}"
                : one.Steps.IsEmpty ? "Nothing is to be done: the machine is as the files say."
                : one.Back is { } undone ? $"What settling {undone} did is undone."
                : $"Settled: {one.Settled.Length} {(one.Settled.Length == 1 ? "service is" : "services are")} as the files say.",
            failed is null
                ? null
                : (one.Next is { } next ? $"{next}\n" : "")
                    + "To go on: mend what is named, and settle again"
                    + (back ? "; to go back: calm settle --back" : ""),
            [.. one.Steps.Select(step => new SettleStepView(step.Deed, step.Name, step.What, step.State, step.Said))]
        );
    }
}
