using System.Buffers.Binary;
using System.Globalization;
using System.Security.Cryptography;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Forwarding;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Store.Records;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Store;

/// <summary>The logbook: what happened, as data, each entry chained to the one before (<see cref="LogChain"/>).</summary>
public sealed partial class SentryStore
{
    private const string Columns = "SELECT id, at, service, what, fields, text, by, coalesce(tells, 0) FROM logbook";

    /// <summary>What an entry's digest is made of, in this order, for ever.</summary>
    private const string Chained = "id, at, service_id, service, what, fields, text, by, coalesce(tells, 0)";

    private const int ChainedColumns = 9;

    /// <summary>Held from the number to the queue: entries are chained in the order of their numbers.</summary>
    private readonly Lock logging = new();

    /// <summary>The hash of the last entry that was written, within the transaction; null: not known.</summary>
    private byte[]? chainHead;

    /// <param name="service">Null: it is about the sentry.</param>
    /// <param name="name">The service's name now.</param>
    /// <returns>The entry's number.</returns>
    public long Log(DateTimeOffset at, ServiceId? service, string? name, Entry entry, Principal? by, bool tells = false)
    {
        lock (logging)
        {
            var number = ++lastLogId;
            if (!HasRoom)
            {
                Interlocked.Increment(ref leftOut);
                return number;
            }

            Enqueue(
                new Write(
                    "INSERT INTO logbook (id, at, service_id, service, what, fields, text, by, tells, digest, chain) "
                        + "VALUES ($0, $1, $2, $3, $4, $5, $6, $7, $8, $9, $10)",
                    [
                        number,
                        Micros(at),
                        service?.Number,
                        name,
                        entry.Kind.Word,
                        EntryJson.Write(entry),
                        "",
                        by?.ToString(),
                        tells ? 1L : 0L,
                    ],
                    Chained: true
                )
            );
            return number;
        }
    }

    /// <summary>An entry's values, with its digest and its hash.</summary>
    private object?[] Linked(object?[] values, SqliteTransaction transaction)
    {
        var digest = LogChain.Digest(values);
        chainHead = LogChain.Next(chainHead ?? HeadOf(writer!, transaction), digest);
        return [.. values, digest, chainHead];
    }

    /// <summary>The hash of the last entry there is.</summary>
    private static byte[] HeadOf(SqliteConnection connection, SqliteTransaction? transaction)
    {
        using var ask = connection.CreateCommand();
        ask.Transaction = transaction;
        ask.CommandText = """
            SELECT chain FROM (SELECT id, chain FROM (SELECT id, chain FROM logbook ORDER BY id DESC LIMIT 1)
              UNION ALL SELECT id, chain FROM (SELECT id, chain FROM logbook_emptied ORDER BY id DESC LIMIT 1))
            ORDER BY id DESC LIMIT 1
            """;
        if (ask.ExecuteScalar() is byte[] chain)
            return chain;
        ask.CommandText = $"SELECT value FROM fact WHERE key = '{LogBegins}'";
        return BeginOf(ask.ExecuteScalar() as string).Hash;
    }

    /// <summary>Where the chain begins: the last entry that was dropped, and its hash.</summary>
    private const string LogBegins = "logbook-begins";

    /// <summary>What somebody else put there is no beginning: then the first entry does not follow from anything.</summary>
    private static (long Id, byte[] Hash) BeginOf(string? fact) =>
        fact?.Split(' ') is [var id, { Length: 64 } hash]
        && long.TryParse(id, CultureInfo.InvariantCulture, out var number)
        && hash.All(char.IsAsciiHexDigit)
            ? (number, Convert.FromHexString(hash))
            : (0, LogChain.Start);

    /// <summary>
    /// Follows the chain from its beginning to its end. It costs a read of the whole logbook.
    /// </summary>
    /// <param name="head">A hash that was given away before, in hexadecimal: an entry must have it.</param>
    public LogProof Prove(string? head = null)
    {
        var (begins, chain) = BeginOf(Fact(LogBegins));
        var (attested, hash) = (begins == 0, Hex(chain));
        var met = head is null || hash.Equals(head, StringComparison.OrdinalIgnoreCase);
        long entries = 0,
            emptied = 0,
            last = begins;
        long? brokenAt = null;
        string? why = null;
        var untold = new EmptiedEntries();
        foreach (var row in Rows())
        {
            var before = last;
            last = row.Id;
            if (row.Columns is { } columns)
            {
                entries++;
                attested |= (string?)columns[4] == EntryKinds.Of<LogbookCutEntry>().Word && Attests(columns);
                if (row.Digest is null || !LogChain.Digest(columns).AsSpan().SequenceEqual(row.Digest))
                {
                    (brokenAt, why) = (row.Id, $"entry {row.Id} is not as it was written");
                    break;
                }

                if (
                    (string?)columns[4] == EntryKinds.Of<LogbookEmptiedEntry>().Word
                    && EntryJson.Read((string)columns[4]!, (string?)columns[5], "") is LogbookEmptiedEntry told
                )
                    untold.Tell(row.Id, told);
            }
            else
            {
                emptied++;
                untold.Add(row.Id, row.Told, row.Digest);
            }

            chain = LogChain.Next(chain, row.Digest);
            if (row.Chain is null || !chain.AsSpan().SequenceEqual(row.Chain))
            {
                (brokenAt, why) = (
                    row.Id,
                    before == 0
                        ? $"entry {row.Id} does not follow from the beginning: something before it was removed"
                        : $"entry {row.Id} does not follow from entry {before}: something was removed, put in or moved between them"
                );
                break;
            }

            met |= Hex(chain).Equals(head, StringComparison.OrdinalIgnoreCase);
        }

        if (why is null && untold.First is { } removed)
            (brokenAt, why) = (removed, $"the content of entry {removed} was removed, and no entry tells of it");
        if (why is null && !attested)
            (brokenAt, why) = (begins, "no entry tells of the removal of those before its first");
        if (head is null)
            Broken = why;
        else if (why is null && !met)
            why = $"no entry has the hash {head}: its end was cut off, or all of it was written anew";
        return new(entries, emptied, last, Hex(chain), brokenAt, why);

        bool Attests(object?[] columns) =>
            EntryJson.Read((string)columns[4]!, (string?)columns[5], "") is LogbookCutEntry cut
            && cut.UpTo == begins
            && cut.Hash == hash;
    }

    /// <summary>What the latest look at the whole logbook found not to fit, as a clause; null: nothing.</summary>
    public string? Broken { get; private set; }

    private static string Hex(byte[] hash) => Convert.ToHexStringLower(hash);

    /// <summary>Every entry there is, and every one that was emptied, in order.</summary>
    private IEnumerable<(long Id, object?[]? Columns, byte[] Digest, byte[]? Chain, long? Told)> Rows()
    {
        using var connection = new SqliteConnection(connectionString);
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = $"""
            SELECT {Chained}, digest, chain, NULL FROM logbook
            UNION ALL SELECT id, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, digest, chain, told FROM logbook_emptied
            ORDER BY 1
            """;
        using var row = command.ExecuteReader();
        while (row.Read())
            yield return (
                row.GetInt64(0),
                row.IsDBNull(1) ? null : ColumnsOf(row),
                row.IsDBNull(ChainedColumns) ? [] : (byte[])row[ChainedColumns],
                row.IsDBNull(ChainedColumns + 1) ? null : (byte[])row[ChainedColumns + 1],
                row.IsDBNull(ChainedColumns + 2) ? null : row.GetInt64(ChainedColumns + 2)
            );
    }

    private static object?[] ColumnsOf(SqliteDataReader row) =>
        [.. Enumerable.Range(0, ChainedColumns).Select(i => row.IsDBNull(i) ? null : row.GetValue(i))];

    /// <summary>Chains the entries of a store from before they were.</summary>
    internal static void ChainAll(SqliteConnection connection, SqliteTransaction transaction)
    {
        var chain = LogChain.Start;
        using var read = connection.CreateCommand();
        read.Transaction = transaction;
        read.CommandText = $"SELECT {Chained} FROM logbook ORDER BY id";
        using var put = connection.CreateCommand();
        put.Transaction = transaction;
        put.CommandText = "UPDATE logbook SET digest = $1, chain = $2 WHERE id = $0";
        using var row = read.ExecuteReader();
        while (row.Read())
        {
            var digest = LogChain.Digest(ColumnsOf(row));
            chain = LogChain.Next(chain, digest);
            Bind(put, [row.GetInt64(0), digest, chain]);
            put.ExecuteNonQuery();
        }
    }

    /// <summary>Drops all entries up to one; the chain goes on from its hash.</summary>
    /// <param name="oldest">None from before this is kept.</param>
    /// <param name="most">So many are kept at most.</param>
    /// <returns>The entry that is to tell of it, before it is done; null: there is nothing to drop.</returns>
    public (Entry Tells, Action Drop)? Cut(DateTimeOffset oldest, int most)
    {
        var upTo = Read(
                """
                SELECT max(coalesce((SELECT id FROM logbook WHERE at >= $0 ORDER BY id LIMIT 1), 0),
                  coalesce((SELECT id FROM logbook ORDER BY id DESC LIMIT 1 OFFSET $1), 0)) - 1
                """,
                row => row.GetInt64(0),
                Micros(oldest),
                most - 1
            )
            .FirstOrDefault();
        var last = Read(
                """
                SELECT id, chain FROM logbook WHERE id <= $0 UNION ALL SELECT id, chain FROM logbook_emptied WHERE id <= $0
                ORDER BY id DESC LIMIT 1
                """,
                row => (Id: row.GetInt64(0), Chain: (byte[])row[1]),
                upTo
            )
            .FirstOrDefault();
        if (last.Chain is null)
            return null;
        var hash = Hex(last.Chain);
        return (
            new LogbookCutEntry(last.Id, hash),
            () =>
            {
                // What was emptied together, and is dropped in part, is told anew.
                const string rest = "id > $0 AND told IN (SELECT told FROM logbook_emptied WHERE id <= $0)";
                TellOf(
                    null,
                    null,
                    $"SELECT id, digest FROM logbook_emptied WHERE {rest} ORDER BY id",
                    $"UPDATE logbook_emptied SET told = $told WHERE {rest};",
                    last.Id
                );
                Enqueue(
                    """
                    DELETE FROM logbook WHERE id <= $0;
                    DELETE FROM logbook_emptied WHERE id <= $0;
                    INSERT INTO fact (key, value) VALUES ($1, $2) ON CONFLICT (key) DO UPDATE SET value = excluded.value;
                    """,
                    last.Id,
                    LogBegins,
                    string.Create(CultureInfo.InvariantCulture, $"{last.Id} {hash}")
                );
            }
        );
    }

    /// <summary>
    /// Of a service's entries that nobody asked for so many keep their content; of the rest the digest stays, and an entry tells of that.
    /// </summary>
    private void Empty(ServiceId service, int most)
    {
        var upTo = Read(
                "SELECT id FROM logbook WHERE service_id = $0 ORDER BY id DESC LIMIT 1 OFFSET $1",
                row => row.GetInt64(0),
                service.Number,
                most
            )
            .FirstOrDefault();
        const string these = "service_id = $1 AND by IS NULL AND id <= $0";
        TellOf(
            service,
            Read("SELECT name FROM service WHERE id = $0", row => row.GetString(0), service.Number).FirstOrDefault(),
            $"SELECT id, digest FROM logbook WHERE {these} ORDER BY id",
            $"""
            INSERT INTO logbook_emptied (id, digest, chain, told) SELECT id, digest, chain, $told FROM logbook WHERE {these};
            DELETE FROM logbook WHERE {these};
            """,
            upTo
        );
    }

    /// <summary>Tells in the chain of which entries only the digest is kept; only once that is written it is done.</summary>
    /// <param name="which">They, with their digests.</param>
    /// <param name="done">What is done then; <c>$told</c> is the entry.</param>
    private void TellOf(ServiceId? service, string? name, string which, string done, long upTo)
    {
        var all = Read(which, row => (row.GetInt64(0), (byte[])row[1]), upTo, service?.Number);
        if (all.Count == 0)
            return;
        lock (logging)
        {
            if (!HasRoom)
                return;
            var told = Log(DateTimeOffset.UtcNow, null, null, EmptiedEntries.Entry(all, name), null);
            foreach (var one in done.Split(';', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries))
                Enqueue(
                    one.Replace("$told", "$2", StringComparison.Ordinal)
                        + " AND EXISTS (SELECT 1 FROM logbook WHERE id = $2)",
                    upTo,
                    service?.Number,
                    told
                );
        }
    }

    /// <summary>What an earlier version has emptied, one entry tells of from now on.</summary>
    internal static void TellEmptied(SqliteConnection connection, SqliteTransaction transaction)
    {
        using var ask = connection.CreateCommand();
        ask.Transaction = transaction;
        ask.CommandText = "SELECT id, digest FROM logbook_emptied ORDER BY id";
        var all = new List<(long, byte[])>();
        using (var row = ask.ExecuteReader())
            while (row.Read())
                all.Add((row.GetInt64(0), (byte[])row[1]));
        if (all.Count == 0)
            return;
        var before = HeadOf(connection, transaction);
        ask.CommandText = "SELECT max((SELECT max(id) FROM logbook), (SELECT max(id) FROM logbook_emptied))";
        var told = (ask.ExecuteScalar() as long? ?? all[^1].Item1) + 1;
        var entry = EmptiedEntries.Entry(all, null);
        object?[] values =
        [
            told,
            Micros(DateTimeOffset.UtcNow),
            null,
            null,
            entry.Kind.Word,
            EntryJson.Write(entry),
            "",
            null,
            0L,
        ];
        var digest = LogChain.Digest(values);
        ask.CommandText =
            "INSERT INTO logbook (id, at, service_id, service, what, fields, text, by, tells, digest, chain) "
            + "VALUES ($0, $1, $2, $3, $4, $5, $6, $7, $8, $9, $10); UPDATE logbook_emptied SET told = $0";
        Bind(ask, [.. values, digest, LogChain.Next(before, digest)]);
        ask.ExecuteNonQuery();
    }

    /// <summary>Entries of which only the digest is kept, by the entry that is to tell of each.</summary>
    private sealed class EmptiedEntries
    {
        private readonly Dictionary<long, List<(long Id, byte[] Digest)>> all = [];

        public static LogbookEmptiedEntry Entry(List<(long Id, byte[] Digest)> these, string? whose) =>
            new(these.Count, these[0].Id, these[^1].Id, whose, HashOf(these));

        private static string HashOf(IEnumerable<(long Id, byte[] Digest)> these)
        {
            using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
            Span<byte> number = stackalloc byte[sizeof(long)];
            foreach (var (id, digest) in these)
            {
                BinaryPrimitives.WriteInt64BigEndian(number, id);
                hash.AppendData(number);
                hash.AppendData(digest);
            }

            return Hex(hash.GetHashAndReset());
        }

        public void Add(long id, long? told, byte[] digest)
        {
            if (!all.TryGetValue(told ?? 0, out var these))
                all[told ?? 0] = these = [];
            these.Add((id, digest));
        }

        /// <summary>An entry that tells of some, and of no others.</summary>
        public void Tell(long id, LogbookEmptiedEntry told)
        {
            if (all.TryGetValue(id, out var these) && these.Count == told.Count && HashOf(these) == told.Hash)
                all.Remove(id);
        }

        /// <summary>The first of those that no entry tells of; null: there is none.</summary>
        public long? First => all.Count == 0 ? null : all.Values.Min(these => these[0].Id);
    }

    /// <summary>The latest entries, oldest first.</summary>
    public IReadOnlyList<StoredEntry> Logbook(int last) => Logbook(new LogQuery(last));

    /// <summary>The latest entries of one service, oldest first.</summary>
    /// <param name="until">None later than this; null: all.</param>
    public IReadOnlyList<StoredEntry> Logbook(ServiceId service, int last, DateTimeOffset? until = null) =>
        Logbook(new LogQuery(last) { Service = service, Until = until });

    /// <summary>The latest entries that fit, oldest first.</summary>
    public IReadOnlyList<StoredEntry> Logbook(LogQuery query)
    {
        var (conditions, values) = (new List<string>(), new List<object?>());
        if (query.Service is { } service)
            Where("service_id = {0}", service.Number);
        if (query.Name is { } name)
            Where("service = {0}", name);
        if (query.Since is { } since)
            Where("at >= {0}", Micros(since));
        if (query.Until is { } until)
            Where("at <= {0}", Micros(until));
        if (query.After is { } after)
            Where("id > {0}", after);
        if (query.Before is { } before)
            Where("id < {0}", before);
        if (query.By is { } by)
            Where(
                "(by = {0} OR substr(by, 1, length({0}) + 4) = {0} || ' as ' OR substr(by, -length({0}) - 4) = ' as ' || {0})",
                by
            );
        if (query.Kinds.Count > 0)
            conditions.Add(
                $"what IN ({string.Join(", ", query.Kinds.Select(kind =>
                {
                    values.Add(kind.Word);
                    return $"${values.Count - 1}";
                }))})"
            );
        var where = conditions.Count == 0 ? "" : $" WHERE {string.Join(" AND ", conditions)}";
        // What a sentence says, and how bad it is, is known only when it is made: then as many are read as it takes.
        var limit =
            query.Text is null && query.Severity is null
                ? $" LIMIT {query.Last.ToString(CultureInfo.InvariantCulture)}"
                : "";
        var found = Stream($"{Columns}{where} ORDER BY id DESC{limit}", EntryOf, [.. values]);
        if (query.Text is { } text)
            found = found.Where(one => one.Entry.Text.Contains(text, StringComparison.CurrentCultureIgnoreCase));
        if (query.Severity is { } severity)
            found = found.Where(one => one.Entry.SeverityIf(one.Tells) <= severity);
        var entries = found.Take(query.Last).ToList();
        entries.Reverse();
        return entries;

        void Where(string condition, object value)
        {
            values.Add(value);
            conditions.Add(string.Format(CultureInfo.InvariantCulture, condition, $"${values.Count - 1}"));
        }
    }

    /// <summary>The number of the last entry there is, or is about to be.</summary>
    public long LastEntry => Interlocked.Read(ref lastLogId);

    /// <summary>The entries after one, oldest first, as they are forwarded.</summary>
    /// <returns>They, and how many there were besides that are not there any more.</returns>
    public (IReadOnlyList<Forwarded> Entries, long Missing) EntriesAfter(long number, int most)
    {
        var (begins, _) = BeginOf(Fact(LogBegins));
        var entries = Read(
            $"SELECT id, at, service, what, fields, text, by, coalesce(tells, 0), chain FROM logbook WHERE id > $0 ORDER BY id LIMIT {most.ToString(CultureInfo.InvariantCulture)}",
            row =>
            {
                var entry = EntryOf(row);
                return new Forwarded(
                    entry.Number,
                    entry.At,
                    entry.Service,
                    entry.Entry,
                    entry.By,
                    entry.Tells,
                    row.IsDBNull(8) ? "" : Hex((byte[])row[8])
                );
            },
            number
        );
        var emptied = Read(
            "SELECT count(*) FROM logbook_emptied WHERE id > $0 AND id < $1",
            row => row.GetInt64(0),
            number,
            entries.Count > 0 ? entries[^1].Number : long.MaxValue
        )[0];
        return (entries, emptied + Math.Max(0, begins - number));
    }

    /// <summary>The last entry that is known to have arrived at a collector; null: nothing was forwarded there yet.</summary>
    public long? Forwarded(string collector) =>
        long.TryParse(Fact(ForwardedKey + collector), CultureInfo.InvariantCulture, out var number) ? number : null;

    public void SetForwarded(string collector, long number) =>
        SetFact(ForwardedKey + collector, number.ToString(CultureInfo.InvariantCulture));

    private const string ForwardedKey = "forwarded-";

    /// <summary>The latest entries a person was to hear of, oldest first.</summary>
    public IReadOnlyList<StoredEntry> Told(int last)
    {
        var entries = Read($"{Columns} WHERE tells = 1 ORDER BY id DESC LIMIT $0", EntryOf, last);
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
