using System.Text;
using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;

namespace CalmSentry.Server.Api;

/// <summary>The logbook: what fits, as data or as text, and the proof that it is as it was written.</summary>
internal static class LogbookRoutes
{
    /// <summary>Entries of one answer.</summary>
    private const int Most = 100_000;

    public static void MapLogbook(this IEndpointRouteBuilder api)
    {
        api.MapGet("/logbook", Entries).Produces<IReadOnlyList<LogEntry>>().Refuses(400).May(Permission.Read);
        api.MapGet("/logbook/proof", Prove).Produces<LogProofView>().Refuses(400).May(Permission.Read);
    }

    /// <summary>The latest entries of the logbook that fit everything asked for, oldest first.</summary>
    /// <param name="service">Of this service: its short name or title, or the name of one that is no more.</param>
    /// <param name="last">How many at most, 1 to 100,000.</param>
    /// <param name="kind">Of these kinds, with commas between.</param>
    /// <param name="severity">As bad as this, or worse: alert, critical, error, warning, notice, informational.</param>
    /// <param name="by">Asked for by this account.</param>
    /// <param name="since">None from before this time, or this long ago.</param>
    /// <param name="until">None from after this time, or this long ago.</param>
    /// <param name="find">With this text in their sentence.</param>
    /// <param name="after">With a higher number: what came since.</param>
    /// <param name="before">With a lower number: the page before.</param>
    /// <param name="form">json (the answer's own), json-lines (an object a line), or csv (RFC 4180).</param>
    public static async Task<IResult> Entries(
        string? service,
        int? last,
        string? kind,
        string? severity,
        string? by,
        string? since,
        string? until,
        string? find,
        long? after,
        long? before,
        string? form,
        Registry registry,
        SentryStore store,
        TimeProvider clock
    )
    {
        var now = clock.GetUtcNow();
        var (from, to, notATime) = HostTime.Between(since, until, now);
        if (notATime is not null)
            return notATime;
        var kinds = new List<EntryKind>();
        foreach (
            var word in (kind ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
        )
        {
            if (EntryKinds.Find(word) is not { } known)
                return Unknown(
                    ProblemCode.NoSuchKind,
                    "kind",
                    "kind of entry",
                    word,
                    [.. EntryKinds.All.Select(one => one.Word)]
                );
            kinds.Add(known);
        }

        if (severity is not null && Words.Find<EntrySeverity>(severity) is null)
            return Unknown(ProblemCode.NoSuchSeverity, "severity", "severity", severity, Words.All<EntrySeverity>());
        if (form is not (null or "json" or "json-lines" or "csv"))
            return Problems.Of(
                400,
                ProblemCode.NoSuchForm,
                "No such form",
                $"form: found '{form}'; allowed: json, json-lines, csv."
            );
        if (last is < 1 or > Most)
            return Problems.NotSoMany(last, Most);
        await store.Settled().ConfigureAwait(false);
        var actor = service is null ? null : registry.Find(service);
        var entries = store
            .Logbook(
                new LogQuery(last ?? 50)
                {
                    Service = actor?.Id,
                    Name = actor is null ? service : null,
                    Kinds = kinds,
                    Severity = severity is null ? null : Words.Find<EntrySeverity>(severity),
                    By = by,
                    Since = from,
                    Until = to,
                    Text = find,
                    After = after,
                    Before = before,
                }
            )
            .Select(EntryViews.Of);
        return form switch
        {
            "csv" => TypedResults.Text(LogCsv.Of(entries), "text/csv; charset=utf-8; header=present", Encoding.UTF8),
            "json-lines" => TypedResults.Text(
                string.Concat(entries.Select(entry => JsonSerializer.Serialize(entry, ApiJson.Plain.LogEntry) + "\n")),
                "application/x-ndjson",
                Encoding.UTF8
            ),
            _ => TypedResults.Json<IReadOnlyList<LogEntry>>([.. entries], ApiJson.Plain.IReadOnlyListLogEntry),
        };
    }

    /// <summary>
    /// Whether the logbook is as it was written: each entry is chained to the one before it by a hash, and the chain is
    /// followed from its beginning to its end.
    /// </summary>
    /// <param name="head">A hash that an earlier answer gave: an entry must have it still.</param>
    public static async Task<IResult> Prove(string? head, SentryStore store)
    {
        if (head is not null && (head.Length != 64 || !head.All(char.IsAsciiHexDigit)))
            return Problems.Of(
                400,
                ProblemCode.NoHash,
                "Not a hash",
                $"head: found '{head}'; allowed: the 64 hexadecimal digits that an earlier proof ended with."
            );
        await store.Settled().ConfigureAwait(false);
        var proof = await Task.Run(() => store.Prove(head)).ConfigureAwait(false);
        return TypedResults.Json(
            new LogProofView(
                proof.Why is null,
                proof.Entries,
                proof.Emptied,
                proof.Last,
                proof.Head,
                proof.BrokenAt,
                proof.Why
            ),
            ApiJson.Plain.LogProofView
        );
    }

    private static IResult Unknown(
        ProblemCode code,
        string parameter,
        string what,
        string word,
        IReadOnlyCollection<string> all
    ) =>
        Problems.Of(
            400,
            code,
            $"No such {what}",
            $"{parameter}: found '{word}'{(Spelling.Nearest(word, all) is { } near ? $"; did you mean '{near}'?" : "")}; allowed: {string.Join(", ", all)}."
        );
}
