using System.Buffers;
using System.Globalization;
using System.IO.Pipelines;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Output;
using CalmSentry.Engine.Services;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;
using Microsoft.AspNetCore.Http.Features;

namespace CalmSentry.Server.Api;

/// <summary>A service's output, byte for byte: the last lines, everything from an offset, and live.</summary>
internal static class OutputRoutes
{
    /// <summary>Readers that follow at the same time: each watches a directory, of which a host allows few.</summary>
    private const int MostFollowers = 64,
        MostLines = 1_000_000,
        MostAround = 1000;

    /// <summary>The first of some numbers that is none of those allowed; null: all are.</summary>
    /// <param name="asked">Each with the largest allowed; null: there is none.</param>
    private static IResult? NoRange(params ReadOnlySpan<(string Name, long? Given, long? Most)> asked)
    {
        foreach (var (name, given, most) in asked)
            if (given < 0 || given > most)
                return Problems.Of(
                    400,
                    ProblemCode.BadRange,
                    "Not a range",
                    $"{name} is {given}; allowed: {(most is null ? "0 or more" : $"0 to {most}")}."
                );
        return null;
    }

    private static int followers;

    public static void MapOutput(this IEndpointRouteBuilder api)
    {
        api.OneService()
            .MapGet("/output", Output)
            .Produces<string>(200, "text/plain")
            .Refuses(404)
            .May(Permission.Read);
        api.OneService()
            .MapGet("/output/lines", Lines)
            .Produces<OutputLineView>(200, "application/x-ndjson")
            .Refuses(400, 404)
            .May(Permission.Read);
    }

    /// <summary>Characters of one line that are sent.</summary>
    private const int LongestText = 32_768;

    /// <summary>
    /// Lines of a service's output, one JSON object a line: those that fit everything asked for, oldest first, also from files
    /// that were turned over and packed.
    /// </summary>
    /// <param name="file">Of this log file of its own, by the name that the definition gives it, instead of what it printed.</param>
    /// <param name="last">The latest so many that fit, 0 to 1,000,000; left out: all.</param>
    /// <param name="first">The first so many that fit, 0 to 1,000,000.</param>
    /// <param name="since">None from before this time, or this long ago.</param>
    /// <param name="until">None from after this time, or this long ago.</param>
    /// <param name="run">Only what this run printed.</param>
    /// <param name="errors">Only standard error.</param>
    /// <param name="find">With this text.</param>
    /// <param name="match">That this regular expression matches (as .NET writes them, without backtracking).</param>
    /// <param name="around">And so many lines before and after each, 0 to 1000.</param>
    /// <param name="from">None from before this place.</param>
    /// <param name="follow">Goes on with what comes.</param>
    public static async Task<IResult> Lines(
        Called called,
        string? file,
        int? last,
        int? first,
        string? since,
        string? until,
        long? run,
        bool? errors,
        string? find,
        string? match,
        int? around,
        long? from,
        bool? follow,
        Places places,
        SentryStore store,
        TimeProvider clock,
        IHostApplicationLifetime life,
        HttpContext context
    )
    {
        if (
            NoRange(
                ("last", last, MostLines),
                ("first", first, MostLines),
                ("from", from, null),
                ("around", around, MostAround)
            ) is
            { } noRange
        )
            return noRange;
        var (earliest, latest, notATime) = HostTime.Between(since, until, clock.GetUtcNow());
        if (notATime is not null)
            return notATime;
        var (expression, noExpression) = Expression(match);
        if (noExpression is not null)
            return noExpression;
        var service = called.Service;
        var (folder, none) = FolderOf(service, file, places);
        if (none is not null)
            return none;
        var (stretch, noStretch) = await StretchOf(called.Service, file, run, store).ConfigureAwait(false);
        if (noStretch is not null)
            return noStretch;
        Directory.CreateDirectory(folder);
        var (start, end) = (Math.Max(from ?? 0, stretch.From), stretch.To);
        if (earliest is { } begins)
            start = Math.Max(start, OutputSearch.PlaceAt(folder, begins));
        if (latest is { } ends)
            end = Math.Min(end ?? long.MaxValue, OutputSearch.PlaceAt(folder, ends + TimeSpan.FromMilliseconds(1)));
        var query = new OutputQuery(folder, service.Definition.Output.Encoding, start, end, last)
        {
            First = first,
            ErrorsOnly = errors == true,
            Find = find,
            Match = expression,
            Around = around ?? 0,
        };
        if (follow == true && NotFollowed(end) is { } refused)
            return refused;
        context.Response.ContentType = "application/x-ndjson";
        context.Features.Get<IHttpResponseBodyFeature>()?.DisableBuffering();
        await context.Response.StartAsync(context.RequestAborted).ConfigureAwait(false);
        return await Stream(
                context,
                life,
                follow == true,
                gone =>
                    Task.Run(
                        () =>
                            Send(
                                query,
                                follow == true,
                                new(service, file is null ? store : null),
                                context.Response.BodyWriter,
                                gone
                            ),
                        gone
                    )
            )
            .ConfigureAwait(false);
    }

    private static IResult? NotFollowed(long? end) =>
        end is not null
            ? Problems.Of(
                400,
                ProblemCode.NoEnd,
                "Follow has no end",
                "follow does not go with until, nor with a run that has ended."
            )
        : Volatile.Read(ref followers) >= MostFollowers ? TooMany()
        : null;

    private static (Regex? Expression, IResult? Problem) Expression(string? match)
    {
        try
        {
            return (
                match is null ? null : new(match, RegexOptions.NonBacktracking | RegexOptions.CultureInvariant),
                null
            );
        }
        catch (Exception error) when (error is ArgumentException or NotSupportedException)
        {
            return (
                null,
                Problems.Of(
                    400,
                    ProblemCode.NoExpression,
                    "Not a regular expression",
                    $"match: found '{match}'; allowed: {Expressions.WrongIn(match!)}.",
                    "To look for the text as it is, give it with find."
                )
            );
        }
    }

    /// <returns>Where the output of a run lies, in bytes; of no run: all there is.</returns>
    private static async Task<((long From, long? To) Stretch, IResult? Problem)> StretchOf(
        ServiceActor service,
        string? file,
        long? run,
        SentryStore store
    )
    {
        if (run is not { } number)
            return (default, null);
        if (file is not null)
            return (
                default,
                Problems.Of(
                    400,
                    ProblemCode.NoRuns,
                    "Not by run",
                    "run does not go with file: which run wrote a line of a file is not known.",
                    "since and until go with it."
                )
            );
        await store.Settled().ConfigureAwait(false);
        if (store.OutputOf(service.Id, new(number)) is { } stretch)
            return (stretch, null);
        return (
            default,
            Problems.Of(
                404,
                ProblemCode.NoSuchRun,
                "No such run",
                $"{service.Definition.Name} has no run {number} on record.",
                $"'calm runs {service.Definition.Name}' shows those that are."
            )
        );
    }

    /// <summary>Sends until it is done, the reader has gone, or the sentry ends; who follows is counted meanwhile.</summary>
    private static async Task<IResult> Stream(
        HttpContext context,
        IHostApplicationLifetime life,
        bool follows,
        Func<CancellationToken, Task> send
    )
    {
        using var over = CancellationTokenSource.CreateLinkedTokenSource(
            context.RequestAborted,
            life.ApplicationStopping
        );
        if (follows)
            Interlocked.Increment(ref followers);
        try
        {
            await send(over.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            // The reader has gone, or the sentry is about to.
        }
        finally
        {
            if (follows)
                Interlocked.Decrement(ref followers);
        }

        return TypedResults.Empty;
    }

    private static async Task Send(
        OutputQuery query,
        bool follow,
        RunsByPlace runs,
        PipeWriter to,
        CancellationToken cancellation
    )
    {
        // Watched before it is read: what comes in between is not missed.
        using var growth = follow ? new Growth(query.Folder) : null;
        var end = follow ? Segments.End(query.Folder) : query.To;
        foreach (var found in OutputSearch.Of(query with { To = end }, cancellation))
            await Write(found).ConfigureAwait(false);
        await to.FlushAsync(cancellation).ConfigureAwait(false);
        if (growth is null)
            return;
        var surroundings = new OutputSearch.Surroundings(query);
        using var lines = new OutputLines(query.Folder, end!.Value, query.Encoding);
        while (true)
        {
            while (lines.Next() is { } line)
                foreach (var found in surroundings.Look(line))
                    await Write(found).ConfigureAwait(false);
            await to.FlushAsync(cancellation).ConfigureAwait(false);
            await growth.Wait(cancellation).ConfigureAwait(false);
        }

        async Task Write(FoundLine found)
        {
            var line = found.Line;
            var text = line.Text.Length > LongestText ? line.Text[..LongestText] : line.Text;
            var view = new OutputLineView(
                runs.Service,
                line.Place,
                line.At,
                Words.Of(line.Source),
                runs.At(line.Place),
                text,
                text.Length == line.Text.Length && line.Bytes <= OutputLines.LongestLine
                    ? 0
                    : line.Bytes - Encoding.UTF8.GetByteCount(text),
                !found.Fits,
                found.Apart
            );
            JsonSerializer.Serialize(new Utf8JsonWriter(to), view, ApiJson.Plain.OutputLineView);
            to.Write("\n"u8);
            if (to.UnflushedBytes > 1 << 16)
                await to.FlushAsync(cancellation).ConfigureAwait(false);
        }
    }

    private static IResult TooMany() =>
        Problems.Of(
            503,
            ProblemCode.TooManyStreams,
            "Too many streams",
            $"{MostFollowers} readers follow the output of services, as many as there may be.",
            "Close some: each 'calm output --follow' and each open page of a service is one."
        );

    /// <summary>Which run printed what lies at a place.</summary>
    private sealed class RunsByPlace(ServiceActor service, SentryStore? store)
    {
        public string Service { get; } = service.Definition.Name;

        private (long From, long To, long? Run) known = (0, -1, null);

        public long? At(long place)
        {
            if (store is null)
                return null;
            if (service.Situation.Run is { } live && place >= service.OutputBegan)
                return live.Number.Value;
            if (place < known.From || place >= known.To)
                known = store.RunAt(service.Id, place);
            return known.Run;
        }
    }

    private static (string Folder, IResult? None) FolderOf(ServiceActor service, string? file, Places places)
    {
        var (name, files) = (service.Definition.Name, service.Definition.Output.Files);
        if (file is null)
            return (places.OutputDirectoryOf(name), null);
        return files.ContainsKey(file)
            ? (places.KeptFileOf(name, file), null)
            : (
                "",
                Problems.Of(
                    404,
                    ProblemCode.NoSuchFile,
                    "No such log file",
                    $"{name} has no log file called '{file}'; it has {(files.IsEmpty ? "none" : string.Join(", ", files.Keys))}.",
                    "Its definition names them: output.files."
                )
            );
    }

    /// <summary>Output: ?last=N lines (20), or ?from=BYTE; ?follow=true goes on live.</summary>
    /// <param name="file">A log file of its own, by the name that the definition gives it.</param>
    public static async Task<IResult> Output(
        Called called,
        string? file,
        int? last,
        long? from,
        bool? follow,
        Places places,
        IHostApplicationLifetime life,
        HttpContext context
    )
    {
        if (NoRange(("last", last, MostLines), ("from", from, null)) is { } noRange)
            return noRange;
        if (follow == true && Volatile.Read(ref followers) >= MostFollowers)
            return TooMany();
        var (folder, none) = FolderOf(called.Service, file, places);
        if (none is not null)
            return none;
        Directory.CreateDirectory(folder);
        var offset =
            from
            ?? OutputSearch.StartOfLast(
                folder,
                called.Service.Definition.Output.Encoding,
                last ?? 20,
                context.RequestAborted
            );

        context.Response.ContentType = "text/plain; charset=utf-8";
        context.Response.Headers[OwnHeaders.Offset] = offset.ToString(CultureInfo.InvariantCulture);
        context.Features.Get<IHttpResponseBodyFeature>()?.DisableBuffering();
        await context.Response.StartAsync(context.RequestAborted).ConfigureAwait(false);
        await context.Response.BodyWriter.FlushAsync(context.RequestAborted).ConfigureAwait(false);
        return await Stream(
                context,
                life,
                follow == true,
                gone => OutputFile.Copy(folder, offset, follow == true, context.Response.BodyWriter, gone)
            )
            .ConfigureAwait(false);
    }
}
