using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Text;
using CalmSentry.Store.Records;

namespace CalmSentry.Store;

/// <param name="Number">The order in which messages were made.</param>
/// <param name="Id">By which a receiver drops a double.</param>
/// <param name="Answer">What its way said last.</param>
/// <param name="Message">Null: what is stored cannot be read.</param>
public sealed record StoredMessage(
    long Number,
    string Id,
    long Alert,
    string Recipient,
    DateTimeOffset At,
    MessageState State,
    int Tries,
    DateTimeOffset? Tried,
    string? Answer,
    Message? Message
);

/// <summary>Alerts, and the messages about them.</summary>
public sealed partial class SentryStore
{
    private const string ToldFact = "told";

    private const string MessageColumns =
        "SELECT number, id, alert, recipient, at, state, tries, tried, answer, document FROM message";

    /// <summary>Up to which entry the logbook was looked at for what people are to be told; null: not yet.</summary>
    public long? ToldUpTo =>
        long.TryParse(Fact(ToldFact), CultureInfo.InvariantCulture, out var number) ? number : null;

    /// <summary>
    /// What became of alerts, the messages that makes, and how far the logbook was looked at: all of it or nothing.
    /// </summary>
    /// <param name="frame">The reading of both clocks by which their moments are told.</param>
    public void SetTold(IEnumerable<Alert> alerts, IEnumerable<StoredMessage> messages, long upTo, ClockStamp frame) =>
        Enqueue(
            """
            INSERT INTO alert (number, began, document)
              SELECT value ->> 0, value ->> 1, value ->> 2 FROM json_each($0) WHERE true
              ON CONFLICT (number) DO UPDATE SET began = excluded.began, document = excluded.document;
            INSERT INTO message (number, id, alert, recipient, at, state, tries, document)
              SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, 'waiting', 0, value ->> 5
              FROM json_each($1) WHERE true;
            INSERT INTO fact (key, value) VALUES ($2, $3) ON CONFLICT (key) DO UPDATE SET value = excluded.value;
            """,
            Array(
                alerts.Select(alert => new JsonArray(alert.Number, Micros(alert.Began), AlertJson.Write(alert, frame)))
            ),
            Array(
                messages.Select(one => new JsonArray(
                    one.Number,
                    one.Id,
                    one.Alert,
                    one.Recipient,
                    Micros(one.At),
                    MessageJson.Write(one.Message!)
                ))
            ),
            ToldFact,
            upTo.ToString(CultureInfo.InvariantCulture)
        );

    private static string Array(IEnumerable<JsonNode> rows) => new JsonArray([.. rows]).ToJsonString();

    /// <summary>What became of a message.</summary>
    public void SetMessage(StoredMessage one) =>
        Enqueue(
            "UPDATE message SET state = $1, tries = $2, tried = $3, answer = $4 WHERE number = $0",
            one.Number,
            Words.Of(one.State),
            one.Tries,
            one.Tried is { } tried ? Micros(tried) : null,
            one.Answer
        );

    /// <summary>The latest alerts, the latest first; one that cannot be read is not among them.</summary>
    public IReadOnlyList<(Alert Alert, ClockStamp? Saved)> Alerts(int last) =>
        [
            .. Read(
                    "SELECT document FROM alert ORDER BY number DESC LIMIT $0",
                    row =>
                    {
                        try
                        {
                            return AlertJson.Read(row.GetString(0));
                        }
                        catch (Exception error)
                            when (error is JsonException or InvalidOperationException or FormatException)
                        {
                            return ((Alert, ClockStamp?)?)null;
                        }
                    },
                    last
                )
                .OfType<(Alert, ClockStamp?)>(),
        ];

    public Alert? Alert(long number) =>
        Read("SELECT document FROM alert WHERE number = $0", row => AlertJson.Read(row.GetString(0)).Alert, number)
            .FirstOrDefault();

    /// <summary>The highest numbers that an alert and a message have.</summary>
    public (long Alert, long Message) LastTold =>
        Read(
            "SELECT (SELECT coalesce(max(number), 0) FROM alert), (SELECT coalesce(max(number), 0) FROM message)",
            row => (row.GetInt64(0), row.GetInt64(1))
        )[0];

    /// <summary>All that are to be delivered, in their order.</summary>
    public IReadOnlyList<StoredMessage> WaitingMessages() =>
        Read($"{MessageColumns} WHERE state = 'waiting' ORDER BY number", MessageOf);

    /// <summary>The latest, the latest first.</summary>
    /// <param name="alert">Only about this one; null: about any.</param>
    public IReadOnlyList<StoredMessage> Messages(int last, long? alert = null) =>
        Read($"{MessageColumns} WHERE $1 IS NULL OR alert = $1 ORDER BY number DESC LIMIT $0", MessageOf, last, alert);

    /// <summary>Whether one of the last thousand messages has this id.</summary>
    public bool HasMessage(string id) =>
        Read(
            "SELECT 1 FROM message WHERE id = $0 AND number > (SELECT max(number) FROM message) - 1000",
            row => true,
            id
        ).Count > 0;

    private static StoredMessage MessageOf(Microsoft.Data.Sqlite.SqliteDataReader row)
    {
        Message? message = null;
        try
        {
            message = MessageJson.Read(row.GetString(9));
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException or FormatException)
        {
            // It is named, and cannot be delivered.
        }

        return new(
            row.GetInt64(0),
            row.GetString(1),
            row.GetInt64(2),
            row.GetString(3),
            Time(row.GetInt64(4)),
            Words.Find<MessageState>(row.GetString(5)) ?? MessageState.Dropped,
            row.GetInt32(6),
            TimeOrNull(row, 7),
            TextOrNull(row, 8),
            message
        );
    }
}
