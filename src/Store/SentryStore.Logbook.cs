using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Wording;
using CalmSentry.Store.Records;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Store;

/// <summary>The logbook: what happened, as data.</summary>
public sealed partial class SentryStore
{
    private const string Columns = "SELECT id, at, service, what, fields, text, by, coalesce(tells, 0) FROM logbook";

    /// <param name="service">Null: it is about the sentry.</param>
    /// <param name="name">The service's name now.</param>
    /// <returns>The entry's number.</returns>
    public long Log(DateTimeOffset at, ServiceId? service, string? name, Entry entry, Principal? by, bool tells = false)
    {
        var number = Interlocked.Increment(ref lastLogId);
        Tell(
            "INSERT INTO logbook (id, at, service_id, service, what, fields, text, by, tells) "
                + "VALUES ($0, $1, $2, $3, $4, $5, '', $6, $7)",
            number,
            Micros(at),
            service?.Number,
            name,
            Words.Of(entry.Code),
            EntryJson.Write(entry),
            by,
            tells ? 1 : 0
        );
        return number;
    }

    /// <summary>The latest entries, oldest first.</summary>
    /// <param name="until">None later than this; null: all.</param>
    public IReadOnlyList<StoredEntry> Logbook(int last, DateTimeOffset? until = null) =>
        Entries($"{Columns} WHERE at <= $1 ORDER BY id DESC LIMIT $0", last, Micros(until ?? DateTimeOffset.MaxValue));

    /// <summary>The latest entries of one service, oldest first.</summary>
    public IReadOnlyList<StoredEntry> Logbook(ServiceId service, int last, DateTimeOffset? until = null) =>
        Entries(
            $"{Columns} WHERE service_id = $2 AND at <= $1 ORDER BY id DESC LIMIT $0",
            last,
            Micros(until ?? DateTimeOffset.MaxValue),
            service.Number
        );

    /// <summary>The latest entries of services that had a name, oldest first: of one that is no more, too.</summary>
    public IReadOnlyList<StoredEntry> LogbookOf(string name, int last) =>
        Entries($"{Columns} WHERE service = $1 ORDER BY id DESC LIMIT $0", last, name);

    /// <summary>The latest entries a person was to hear of, oldest first.</summary>
    public IReadOnlyList<StoredEntry> Told(int last) =>
        Entries($"{Columns} WHERE tells = 1 ORDER BY id DESC LIMIT $0", last);

    private List<StoredEntry> Entries(string sql, params object?[] values)
    {
        var entries = Read(sql, EntryOf, values);
        entries.Reverse();
        return entries;
    }

    private static StoredEntry EntryOf(SqliteDataReader row) =>
        new(
            row.GetInt64(0),
            Time(row.GetInt64(1)),
            TextOrNull(row, 2),
            EntryJson.Read(row.GetString(3), TextOrNull(row, 4), row.GetString(5)),
            TextOrNull(row, 6),
            row.GetInt64(7) != 0
        );
}
