using System.Text.Json;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using Microsoft.AspNetCore.Http.HttpResults;

namespace CalmSentry.Server.Api;

/// <summary>
/// What programs say of themselves, each on its own service's socket, whose path is in its variable CALM_SAY.
/// </summary>
internal static class SayRoutes
{
    private const int LongestText = 500,
        MostBytes = 16 << 10,
        MostFields = 16,
        LongestField = 64;

    /// <summary>Entries of its own that a service may go on making, a second, and so many at once.</summary>
    private const double Notes = 0.5,
        NotesAtOnce = 5 * 60 * Notes;

    public static void MapSay(this WebApplication app) =>
        app.Map(Door.OwnService + "/{**word}", Hear).May(Permission.OwnService).ExcludeFromDescription();

    private static async Task<IResult> Hear(string? word, Record logbook, Pace pace, HttpContext context)
    {
        if (
            word is not ("serves" or "well" or "says" or "busy" or "idle" or "notes" or "warns" or "asks" or "answered")
        )
            return Say(
                404,
                "There are: /serves, /well, /says (a body is shown as what it says of itself), /busy and /idle (a planned restart "
                    + "waits while it is busy; a body says with what), and /notes, /warns, /asks "
                    + "(a body becomes an entry of the logbook; asks: a person is to hear of it), and /answered "
                    + "(what it asked for is not needed any more)."
            );
        var (text, problem) = await Incoming.Text(context.Request, MostBytes).ConfigureAwait(false);
        if (problem is not null)
            return problem;
        var service = context.Features.Get<DoorWord>()!.Service!;
        if (Words.Find<NoteManner>(word) is { } manner)
            return await Note(service, manner, text!, context.Request.HasJsonContentType(), logbook, pace)
                .ConfigureAwait(false);
        text = text!.Trim();
        if (text.Length > LongestText)
            return TooLong();
        if (word == "answered")
        {
            if (!pace.Take((service.Id, nameof(Note)), Notes, NotesAtOnce))
                return TooMany();
            logbook.Note(
                service,
                new AnsweredEntry(service.Situation.Run?.Number, text.Length > 0 ? text.ReplaceLineEndings(" ") : null)
            );
            await service.Ask(new PersonAnswered()).ConfigureAwait(false);
            return Say(200, "Nobody is asked any more.");
        }

        if (word is "busy" or "idle")
        {
            service.SaysBusy(word == "busy", text.Length > 0 ? text.ReplaceLineEndings(" ") : null);
            return Say(200, "Heard.");
        }

        service.Says(word == "serves", word != "says", text.Length > 0 ? text.ReplaceLineEndings(" ") : null);
        return Say(200, "Heard.");
    }

    /// <summary>An entry of the program's own: text alone, or <c>{"text": …, "fields": {…}}</c> as JSON.</summary>
    private static async Task<ContentHttpResult> Note(
        ServiceActor service,
        NoteManner manner,
        string body,
        bool isJson,
        Record logbook,
        Pace pace
    )
    {
        IReadOnlyList<string> fields = [];
        var text = body;
        if (isJson && !TryRead(body, out text, out fields))
            return Say(
                400,
                "A body of JSON is an object with a text, and fields if there are any: "
                    + """{"text": "drawer open", "fields": {"till": "3"}}"""
                    + $"; at most {MostFields} fields, their names at most {LongestField} characters, their values text, "
                    + "numbers, true or false."
            );
        text = text.Trim().ReplaceLineEndings(" ");
        if (text.Length == 0)
            return Say(400, "An entry has a text.");
        if (text.Length > LongestText || fields.Any(field => field.Length > LongestText))
            return TooLong();
        if (!pace.Take((service.Id, nameof(Note)), Notes, NotesAtOnce))
            return TooMany();
        var asks = manner == NoteManner.Asks;
        var entry = new NotedEntry(service.Situation.Run?.Number, manner, text, [.. fields]);
        var isQuiet = service.Situation.Quiet is not null;
        logbook.Note(service, entry, tells: asks && !isQuiet);
        // What it asks for in a quiet time is told when that is over.
        if (asks && isQuiet)
            await service.Ask(new PersonAsked(entry.Text)).ConfigureAwait(false);
        return Say(200, "It is in the logbook.");
    }

    private static ContentHttpResult TooMany() =>
        Say(
            429,
            $"A service may make {Notes * 60:0} entries a minute of its own, {NotesAtOnce:0} at once; this one was not taken."
        );

    private static bool TryRead(string body, out string text, out IReadOnlyList<string> fields)
    {
        (text, fields) = ("", []);
        try
        {
            using var json = JsonDocument.Parse(body);
            if (
                json.RootElement.ValueKind != JsonValueKind.Object
                || !json.RootElement.TryGetProperty("text", out var said)
                || said.ValueKind != JsonValueKind.String
            )
                return false;
            text = said.GetString()!;
            if (!json.RootElement.TryGetProperty("fields", out var given))
                return true;
            if (given.ValueKind != JsonValueKind.Object)
                return false;
            var all = given.EnumerateObject().ToList();
            if (
                all.Count > MostFields
                || all.Any(field =>
                    field.Name.Length is 0 or > LongestField
                    || field.Value.ValueKind is JsonValueKind.Object or JsonValueKind.Array or JsonValueKind.Null
                )
            )
                return false;
            fields = [.. all.Select(field => $"{field.Name}={field.Value.ToString().ReplaceLineEndings(" ")}")];
            return true;
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException)
        {
            return false;
        }
    }

    private static ContentHttpResult TooLong() =>
        Say(413, $"A text has at most {LongestText} characters, and so has a field.");

    private static ContentHttpResult Say(int status, string text) =>
        TypedResults.Text(text + "\n", "text/plain; charset=utf-8", statusCode: status);
}
