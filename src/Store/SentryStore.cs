using System.Collections.Concurrent;
using System.Threading.Channels;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Store.Records;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Store;

/// <summary>
/// All that must survive: definitions with revisions, where each service stands, runs, the logbook, sessions. One
/// writer
/// takes everything in the order it was given and commits what has gathered in one transaction; readers have their own
/// connections (write-ahead log). What a person asked is awaited with <see cref="Kept"/>; the rest never waits for a
/// disk.
/// </summary>
public sealed partial class SentryStore : IAsyncDisposable
{
    /// <summary>How long what nobody waits for may gather before it is committed.</summary>
    private static readonly TimeSpan Linger = TimeSpan.FromMilliseconds(20);

    /// <summary>How long anybody waits for the disk.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    /// <summary>How long after a disk took nothing it is tried again.</summary>
    private static readonly TimeSpan Again = TimeSpan.FromSeconds(1);

    private readonly string path;
    private readonly string? aside;
    private volatile string connectionString;
    private SqliteConnection? writer;
    private readonly Dictionary<string, SqliteCommand> prepared = [];
    private readonly Channel<Write> queue = Channel.CreateUnbounded<Write>(
        new UnboundedChannelOptions { SingleReader = true }
    );
    private readonly Task writing;
    private readonly StoreWorkings workings;
    private TaskCompletionSource hurried;
    private long lastLogId;
    private long lastServiceId;
    private int waiting;
    private bool flushes,
        unflushed;
    private volatile bool ending;

    private readonly record struct Write(
        string? Sql,
        object?[] Values,
        TaskCompletionSource? Done = null,
        bool Lasting = false,
        bool Chained = false
    );

    /// <param name="aside">A copy that is read from while there is no writer.</param>
    private SentryStore(string path, SqliteConnection? writer, string? aside, StoreWorkings workings)
    {
        (this.path, this.writer, this.aside, this.workings) = (path, writer, aside, workings);
        hurried = new(workings.Promises);
        connectionString = Text(aside ?? path);
        using var reader = new SqliteConnection(connectionString);
        reader.Open();
        lastLogId = Scalar(
            reader,
            "SELECT max(coalesce((SELECT max(id) FROM logbook), 0), coalesce((SELECT max(id) FROM logbook_emptied), 0))"
        );
        lastServiceId = Scalar(reader, "SELECT coalesce(max(seq), 0) FROM sqlite_sequence WHERE name = 'service'");
        writing = Task
            .Factory.StartNew(WriteAll, CancellationToken.None, TaskCreationOptions.DenyChildAttach, workings.Tasks)
            .Unwrap();
    }

    /// <summary>What could not be written, if anything; the service goes on and says so.</summary>
    public string? Failure { get; private set; }

    /// <summary>The latest write that the store refused for what is in it, if any: it was left out, and no other.</summary>
    public string? Refused { get; private set; }

    /// <summary>Where a damaged store was put, if this one was made in its place.</summary>
    public string? SetApart { get; private init; }

    /// <summary>
    /// Opens the store. One that is no database any more is set apart, and an empty one takes its place. One whose disk
    /// takes nothing (full, or mounted read-only) is read from a copy, and <see cref="Failure"/> says so until it can be
    /// written again: nothing keeps a sentry from serving.
    /// </summary>
    /// <param name="asides">Where such a copy may be made: the first that has room is taken.</param>
    /// <exception cref="SqliteException">It is a later version's, or there is no room for a copy either.</exception>
    public static SentryStore Open(string path, params IReadOnlyList<string> asides) => Open(path, asides, new());

    /// <summary>As <see cref="Open(string, IReadOnlyList{string})"/>, at work by other clocks and on other disks than the host's.</summary>
    internal static SentryStore Open(string path, IReadOnlyList<string> asides, StoreWorkings workings)
    {
        // One of before, perhaps cut off by a kill while it was made, takes the room of others.
        foreach (var aside in asides)
            Forget(aside);
        try
        {
            return new(path, Writer(path), aside: null, workings);
        }
        catch (SqliteException error) when (IsDamage(error))
        {
            SqliteConnection.ClearAllPools();
            var apart = $"{path}.damaged-{DateTimeOffset.UtcNow:yyyyMMddHHmmss}";
            foreach (var end in (string[])["", "-wal", "-shm"])
                if (File.Exists(path + end))
                    File.Move(path + end, apart + end, overwrite: true);
            return new(path, Writer(path), aside: null, workings) { SetApart = apart, Damage = WhatFails(error, path) };
        }
        catch (SqliteException error) when (IsAboutTheDisk(error) && File.Exists(path))
        {
            foreach (var aside in asides)
                if (Copied(path, aside))
                    return new(path, writer: null, aside, workings) { Failure = WhatFails(error, path) };
            throw;
        }
    }

    /// <summary>
    /// Makes a copy that can be read, where that takes no more than half of the room there is: others need it, too, and more
    /// than this store does. What was begun and does not come to its end leaves nothing.
    /// </summary>
    /// <param name="opens">It is one that holds together.</param>
    private static bool Copied(string path, string aside, bool opens = true)
    {
        try
        {
            var ends = ((string[])["", "-wal"]).Where(end => File.Exists(path + end)).ToList();
            var room = new DriveInfo(Path.GetDirectoryName(aside)!).AvailableFreeSpace;
            if (ends.Sum(end => new FileInfo(path + end).Length) > room / 2)
                return false;
            foreach (var end in ends)
                File.Copy(path + end, aside + end);
            if (opens)
                Writer(aside).Dispose();
            return true;
        }
        catch (Exception error)
            when (error is IOException or UnauthorizedAccessException or ArgumentException or SqliteException)
        {
            Forget(aside);
            return false;
        }
    }

    private static void Forget(string aside)
    {
        foreach (var end in (string[])["", "-wal", "-shm", "-journal"])
            try
            {
                File.Delete(aside + end);
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                // Its directory is not there.
            }
    }

    /// <summary>What a check of the whole store found wrong, or made it necessary to begin a new one; null: nothing.</summary>
    public string? Damage { get; private set; }

    /// <summary>
    /// Looks through the whole store for damage (https://www.sqlite.org/pragma.html#pragma_quick_check). A damaged one is
    /// copied away at the first find, so that what can still be read of it is there.
    /// </summary>
    public void Check()
    {
        string? wrong;
        try
        {
            wrong = Read("PRAGMA quick_check(1)", row => row.GetString(0)).FirstOrDefault() is not "ok" and var found
                ? found
                : null;
        }
        catch (SqliteException error) when (IsDamage(error))
        {
            wrong = WhatFails(error, path);
        }

        if (wrong is null || Damage is not null)
            return;
        var copy = $"{path}.damaged-{DateTimeOffset.UtcNow:yyyyMMddHHmmss}";
        Damage = Copied(path, copy, opens: false)
            ? $"{wrong.TrimEnd('.')}; a copy of it lies at {copy}"
            : $"{wrong.TrimEnd('.')}; it could not be copied away: its disk refused, or a copy would take more than half of the room there is";
    }

    private static SqliteConnection Writer(string path)
    {
        // One that another program holds for longer is said to be held, and tried again.
        var writer = new SqliteConnection(Text(path)) { DefaultTimeout = (int)Patience.TotalSeconds };
        try
        {
            writer.Open();
            Schema.Bring(writer, path + ".before");
            return writer;
        }
        catch
        {
            writer.Dispose();
            throw;
        }
    }

    private static string Text(string path) =>
        new SqliteConnectionStringBuilder { DataSource = path, Pooling = true }.ToString();

    // Secrets: sealed before they come here

    public void SetSecret(string service, string key, string @sealed) =>
        Enqueue(
            "INSERT INTO secret (service, key, sealed) VALUES ($0, $1, $2) ON CONFLICT (service, key) DO UPDATE "
                + "SET sealed = excluded.sealed",
            service,
            key,
            @sealed
        );

    public void RemoveSecret(string service, string key) =>
        Enqueue("DELETE FROM secret WHERE service = $0 AND key = $1", service, key);

    public IReadOnlyList<(string Service, string Key, string Sealed)> Secrets() =>
        Read(
            "SELECT service, key, sealed FROM secret ORDER BY service, key",
            row => (row.GetString(0), row.GetString(1), row.GetString(2))
        );

    // Accounts: which may run services, which were made here, and which rights on folders they were given

    public void SetAccount(StoredAccount account) =>
        Enqueue(
            "INSERT INTO account (name, permitted, made) VALUES ($0, $1, $2) ON CONFLICT (name) DO UPDATE SET "
                + "permitted = excluded.permitted, made = excluded.made",
            account.Name,
            account.Permitted ? 1 : 0,
            account.Made ? 1 : 0
        );

    public void RemoveAccount(string name)
    {
        Enqueue("DELETE FROM account WHERE name = $0", name);
        Enqueue("DELETE FROM granted WHERE account = $0", name);
    }

    public IReadOnlyList<StoredAccount> Accounts() =>
        Read(
            "SELECT name, permitted, made FROM account ORDER BY name",
            row => new StoredAccount(row.GetString(0), row.GetInt32(1) != 0, row.GetInt32(2) != 0)
        );

    public void AddGrant(StoredGrant grant) =>
        Enqueue(
            "INSERT INTO granted (account, path, how, before, folder) VALUES ($0, $1, $2, $3, $4) ON CONFLICT "
                + "(account, path) DO NOTHING",
            grant.Account,
            grant.Path,
            grant.How,
            grant.Before,
            grant.Folder
        );

    public void RemoveGrant(StoredGrant grant) =>
        Enqueue("DELETE FROM granted WHERE account = $0 AND path = $1", grant.Account, grant.Path);

    public IReadOnlyList<StoredGrant> Grants() =>
        Read(
            "SELECT account, path, how, before, folder FROM granted ORDER BY account, path",
            row => new StoredGrant(
                row.GetString(0),
                row.GetString(1),
                row.GetString(2),
                row.GetString(3),
                row.GetString(4)
            )
        );

    // Rehearsals: what the latest one of a service saw

    public void SetRehearsal(string service, DateTimeOffset at, StoredRehearsal seen) =>
        Enqueue(
            "INSERT INTO rehearsal (service, at, peak_bytes, ports) VALUES ($0, $1, $2, $3) ON CONFLICT (service) "
                + "DO UPDATE SET at = excluded.at, peak_bytes = excluded.peak_bytes, ports = excluded.ports",
            service,
            Micros(at),
            seen.PeakBytes,
            string.Join(',', seen.TcpPorts)
        );

    public StoredRehearsal? Rehearsal(string service) =>
        Read(
                "SELECT peak_bytes, ports FROM rehearsal WHERE service = $0",
                row => new StoredRehearsal(
                    row.GetInt64(0),
                    [.. row.GetString(1).Split(',', StringSplitOptions.RemoveEmptyEntries).Select(int.Parse)]
                ),
                service
            )
            .FirstOrDefault();

    // Reports: what a boot or a drill came to

    public void SetReport(StartReport report) =>
        Enqueue(
            "INSERT INTO beginning (began, kind, report) VALUES ($0, $1, $2) ON CONFLICT (began) DO UPDATE SET "
                + "report = excluded.report",
            Micros(report.Began),
            Words.Of(report.Kind),
            ReportJson.Write(report)
        );

    /// <summary>The latest report of a kind, or of any; null when there is none.</summary>
    public StartReport? Report(ReportKind? kind) =>
        Read(
                kind is null
                    ? "SELECT report FROM beginning ORDER BY began DESC LIMIT 1"
                    : "SELECT report FROM beginning WHERE kind = $0 ORDER BY began DESC LIMIT 1",
                row => ReportJson.Read(row.GetString(0)),
                kind is { } one ? Words.Of(one) : null
            )
            .FirstOrDefault();

    // Sessions: only hashes of their secrets are kept

    public void SetSession(StoredSession session)
    {
        Enqueue("DELETE FROM session WHERE until < $0", Micros(DateTimeOffset.UtcNow));
        Enqueue(
            "INSERT INTO session (hash, page, id, account, agent, opened, used, until) VALUES ($0, $1, $2, $3, "
                + "$4, $5, $6, $7) ON CONFLICT (hash) DO UPDATE SET used = excluded.used",
            session.Hash,
            session.PageHash,
            session.Id,
            session.Account,
            session.Agent,
            Micros(session.Opened),
            Micros(session.Used),
            Micros(session.Until)
        );
    }

    public void RemoveSession(string hash) => Enqueue("DELETE FROM session WHERE hash = $0", hash);

    public IReadOnlyList<StoredSession> Sessions() =>
        Read(
            "SELECT hash, page, id, account, agent, opened, used, until FROM session",
            row => new StoredSession(
                row.GetString(0),
                row.GetString(1),
                row.GetString(2),
                row.GetString(3),
                row.GetString(4),
                Time(row.GetInt64(5)),
                Time(row.GetInt64(6)),
                Time(row.GetInt64(7))
            )
        );

    // The machine

    public string? Fact(string key) =>
        Read("SELECT value FROM fact WHERE key = $0", row => row.GetString(0), key).FirstOrDefault();

    public void SetFact(string key, string value) => Enqueue(Mark, key, value);

    private const string Mark =
        "INSERT INTO fact (key, value) VALUES ($0, $1) ON CONFLICT (key) DO UPDATE SET value = excluded.value";

    /// <summary>
    /// Completes when all that was given so far is committed; soon, when somebody waits for it. Whoever waits for a
    /// disk that takes
    /// nothing gets on after a while: <see cref="Failure"/> says then what is not on record yet.
    /// </summary>
    public Task Flush(bool soon = true) => Flush(soon, lasting: false);

    /// <summary>
    /// As <see cref="Flush(bool)"/>, and it survives a power cut: for what a person is told is kept. It costs one flush of
    /// the disk; what is only supervised waits for none.
    /// </summary>
    public Task Kept() => Flush(soon: true, lasting: true);

    private Task Flush(bool soon, bool lasting)
    {
        var done = new TaskCompletionSource(workings.Promises);
        if (!queue.Writer.TryWrite(new(null, [], done, lasting)))
            return Task.CompletedTask;
        if (!soon)
            return done.Task;
        Hurry();
        return Bounded(done.Task, Failure is null ? Patience : Linger);
    }

    private void Hurry() => Volatile.Read(ref hurried).TrySetResult();

    private async Task Bounded(Task task, TimeSpan limit)
    {
        try
        {
            await task.WaitAsync(limit, workings.Clock);
        }
        catch (Exception error) when (error is TimeoutException or OperationCanceledException)
        {
            // Whoever waited is told by this that it is not on record; the next commit takes it back.
            Failure ??= "its disk does not answer, or another program holds the store";
        }
    }

    /// <summary>Completes when whoever reads now finds all that was given so far.</summary>
    public Task Settled() => Volatile.Read(ref waiting) == 0 ? Task.CompletedTask : Flush();

    /// <summary>As when the process is killed: nothing more is written.</summary>
    internal void Abandon()
    {
        foreach (var command in prepared.Values)
            command.Dispose();
        writer?.Dispose();
        SqliteConnection.ClearPool(new(connectionString));
    }

    public async ValueTask DisposeAsync()
    {
        ending = true;
        GiveBackNumbers();
        queue.Writer.TryComplete();
        Hurry();
        await writing;
        foreach (var command in prepared.Values)
            await command.DisposeAsync();
        if (writer is not null)
            await writer.DisposeAsync();
    }

    /// <summary>
    /// While the disk takes nothing, so many writes wait for it at most. Beyond them what only tells of the past is left out,
    /// and said; of where a service stands the latest is kept.
    /// </summary>
    public const int MostWaiting = 50_000;

    private readonly ConcurrentDictionary<ServiceId, string> overdue = new();
    private long leftOut;

    /// <summary>Entries of the logbook and of runs that were left out, for too many waited for the disk.</summary>
    public long LeftOut => Interlocked.Read(ref leftOut);

    private bool HasRoom => Volatile.Read(ref waiting) < MostWaiting;

    /// <summary>For the record of what happened.</summary>
    private void Tell(string sql, params object?[] values)
    {
        if (HasRoom)
            Enqueue(sql, values);
        else
            Interlocked.Increment(ref leftOut);
    }

    /// <summary>There is room again: where services stand now is written.</summary>
    private void SaveOverdue()
    {
        if (!HasRoom)
            return;
        foreach (var (service, situation) in overdue)
            if (overdue.TryRemove(KeyValuePair.Create(service, situation)))
                Enqueue(SaveSituation, service.Number, situation);
    }

    private void Enqueue(string sql, params object?[] values) => Enqueue(new Write(sql, values));

    private void Enqueue(Write write)
    {
        Interlocked.Increment(ref waiting);
        if (!queue.Writer.TryWrite(write))
            Interlocked.Decrement(ref waiting);
    }

    private async Task WriteAll()
    {
        var batch = new List<Write>();
        string? gaveUp = null; // at the end, why what is left is left out
        while (await queue.Reader.WaitToReadAsync())
        {
            // What nobody waits for gathers for a moment: a launch has the processors to itself, and one commit carries
            // more.
            await Task.WhenAny(hurried.Task, Task.Delay(Linger, workings.Clock));
            // Before the queue is emptied: who hurries from here on is heard by the next round.
            Interlocked.Exchange(ref hurried, new(workings.Promises));
            batch.Clear();
            while (batch.Count < 1000 && queue.Reader.TryRead(out var write))
                batch.Add(write);
            var taken = batch.Count(write => write.Sql is not null);
            // Whoever has a server end is not kept waiting by what no disk takes, however much of it there is.
            var error = gaveUp ?? Commit(batch);
            // A full disk passes: what was to be kept is tried again until it is, and nobody is told it was kept
            // before.
            while (error is not null && !ending)
            {
                Failure = error;
                await Task.Delay(Again, workings.Clock);
                error = Commit(batch);
            }

            Failure = gaveUp = error;
            Interlocked.Add(ref waiting, -taken);
            if (error is null)
                SaveOverdue();
            foreach (var write in batch)
            {
                // At the end there is no further try: nobody is told then that it was kept.
                if (error is null)
                    write.Done?.TrySetResult();
                else
                    write.Done?.TrySetCanceled();
            }
        }
    }

    private string? Commit(List<Write> batch)
    {
        try
        {
            if (workings.Refuses() is { } refused)
                return refused;
            OpenAgain();
            var lasting = batch.Any(write => write.Lasting);
            var writes = batch.Any(write => write.Sql is not null);
            Last(lasting);
            using var transaction = writer!.BeginTransaction();
            foreach (var write in batch)
                if (write.Sql is not null)
                    Execute(write.Sql, write.Chained ? Linked(write.Values, transaction) : write.Values, transaction);
            // What was committed before without a flush gets it only with a commit that writes something.
            if (lasting && !writes && unflushed)
                Execute(Mark, ["flushed", $"{DateTimeOffset.UtcNow.ToUnixTimeSeconds()}"], transaction);
            transaction.Commit();
            unflushed = !lasting && (unflushed || writes);
            workings.Committed(!unflushed);
            return null;
        }
        catch (SqliteException error) when (IsAboutTheWrite(error))
        {
            chainHead = null; // what was written is not there
            return Apart(batch);
        }
        catch (SqliteException error)
        {
            chainHead = null;
            return WhatFails(error, path);
        }
    }

    /// <summary>What a person can do something about, as a clause.</summary>
    private static string WhatFails(SqliteException error, string path) =>
        error.SqliteErrorCode switch
        {
            SQLITE_FULL => $"the disk of {Path.GetDirectoryName(path)} is full",
            SQLITE_READONLY => $"{path} can only be read",
            SQLITE_IOERR => $"the disk of {Path.GetDirectoryName(path)} reports an error",
            SQLITE_CANTOPEN => $"{path} cannot be opened",
            SQLITE_BUSY or SQLITE_LOCKED => "another program holds the store",
            SQLITE_CORRUPT => $"what is in {path} does not hold together",
            SQLITE_NOTADB => $"what is in {path} is no database",
            _ => error.Message.TrimEnd('.'),
        };

    /// <summary>The store's own disk may take something again: from then on it is read and written there.</summary>
    private void OpenAgain()
    {
        if (writer is not null)
            return;
        writer = Writer(path);
        connectionString = Text(path);
        Forget(aside!);
    }

    /// <summary>What is in the file is no database, or not one that holds together.</summary>
    private static bool IsDamage(SqliteException error) =>
        error is not LaterStoreException && error.SqliteErrorCode is SQLITE_CORRUPT or SQLITE_NOTADB;

    private static bool IsAboutTheDisk(SqliteException error) =>
        error.SqliteErrorCode is SQLITE_READONLY or SQLITE_IOERR or SQLITE_FULL or SQLITE_CANTOPEN;

    /// <summary>
    /// It is about what is written, and would be so again; a trouble of the disk, or somebody else's hold on it, passes
    /// (https://www.sqlite.org/rescode.html).
    /// </summary>
    private static bool IsAboutTheWrite(SqliteException error) =>
        error.SqliteErrorCode is SQLITE_ERROR or SQLITE_TOOBIG or SQLITE_CONSTRAINT or SQLITE_MISMATCH or SQLITE_RANGE;

    private const int SQLITE_ERROR = 1,
        SQLITE_BUSY = 5,
        SQLITE_LOCKED = 6,
        SQLITE_READONLY = 8,
        SQLITE_IOERR = 10,
        SQLITE_CORRUPT = 11,
        SQLITE_FULL = 13,
        SQLITE_CANTOPEN = 14,
        SQLITE_NOTADB = 26,
        SQLITE_TOOBIG = 18,
        SQLITE_CONSTRAINT = 19,
        SQLITE_MISMATCH = 20,
        SQLITE_RANGE = 25;

    /// <summary>
    /// In a write-ahead log a commit survives a power cut when the log is flushed with it
    /// (https://www.sqlite.org/pragma.html#pragma_synchronous).
    /// </summary>
    private void Last(bool lasting)
    {
        if (lasting == flushes)
            return;
        using var command = writer!.CreateCommand();
        command.CommandText = $"PRAGMA synchronous = {(lasting ? "FULL" : "NORMAL")}";
        command.ExecuteNonQuery();
        flushes = lasting;
    }

    /// <summary>One write that can never succeed keeps no other from being kept: each is committed by itself.</summary>
    private string? Apart(List<Write> batch)
    {
        for (var i = 0; i < batch.Count; i++)
        {
            if (batch[i].Sql is not { } sql)
                continue;
            try
            {
                using var transaction = writer!.BeginTransaction();
                Execute(sql, batch[i].Chained ? Linked(batch[i].Values, transaction) : batch[i].Values, transaction);
                transaction.Commit();
            }
            catch (SqliteException error) when (IsAboutTheWrite(error))
            {
                chainHead = null;
                Refused = WhatFails(error, path);
            }
            catch (SqliteException error)
            {
                chainHead = null;
                return WhatFails(error, path);
            }

            batch[i] = batch[i] with { Sql = null }; // done with, also when the rest is tried again
        }

        return null;
    }

    private void Execute(string sql, object?[] values, SqliteTransaction transaction)
    {
        if (!prepared.TryGetValue(sql, out var command))
        {
            command = writer!.CreateCommand();
            command.CommandText = sql;
            prepared[sql] = command;
        }

        command.Transaction = transaction;
        Bind(command, values);
        command.ExecuteNonQuery();
    }

    private List<T> Read<T>(string sql, Func<SqliteDataReader, T> make, params object?[] values) =>
        [.. Stream(sql, make, values)];

    /// <summary>Rows as they are asked for: whoever has enough reads no more.</summary>
    private IEnumerable<T> Stream<T>(string sql, Func<SqliteDataReader, T> make, object?[] values)
    {
        using var connection = new SqliteConnection(connectionString);
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        Bind(command, values);
        using var reader = command.ExecuteReader();
        while (reader.Read())
            yield return make(reader);
    }

    private TimeSpan? Median(string sql, ServiceId service, params object?[] more)
    {
        var all = Lengths(sql, service, more).Order().ToList();
        return all.Count == 0 ? null : all[all.Count / 2];
    }

    private List<TimeSpan> Lengths(string sql, ServiceId service, params object?[] more) =>
        // Of a very short run its end may be told by its keeper's clock, and its launch by when that was heard.
        [.. Read(sql, row => TimeSpan.FromMicroseconds(Math.Max(0, row.GetInt64(0))), [service.Number, .. more])];

    private static void Bind(SqliteCommand command, object?[] values)
    {
        command.Parameters.Clear();
        for (var i = 0; i < values.Length; i++)
            command.Parameters.AddWithValue($"${i}", Plain(values[i]) ?? DBNull.Value);
    }

    private static long Scalar(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        return (long)command.ExecuteScalar()!;
    }

    // Microseconds: launches are compared to a fraction of a millisecond.
    private static long Micros(DateTimeOffset time) => (time.UtcTicks - DateTimeOffset.UnixEpoch.UtcTicks) / 10;

    private static DateTimeOffset Time(long microseconds) => DateTimeOffset.UnixEpoch.AddTicks(microseconds * 10);

    /// <summary>Numbers and names that have types of their own, as a column holds them.</summary>
    private static object? Plain(object? value) =>
        value switch
        {
            RunNumber number => number.Value,
            ServiceId id => id.Number,
            Principal by => by.ToString(),
            _ => value,
        };

    private static string? TextOrNull(SqliteDataReader row, int column) =>
        row.IsDBNull(column) ? null : row.GetString(column);

    private static long? NumberOrNull(SqliteDataReader row, int column) =>
        row.IsDBNull(column) ? null : row.GetInt64(column);

    private static DateTimeOffset? TimeOrNull(SqliteDataReader row, int column) =>
        row.IsDBNull(column) ? null : Time(row.GetInt64(column));
}
