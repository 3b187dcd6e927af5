using CalmSentry.Store.Records;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Store;

/// <summary>
/// The tables. Each step brings a database one version further; steps are only ever added. Times are Unix microseconds.
/// </summary>
internal static class Schema
{
    private static readonly string[] Steps =
    [
        """
            CREATE TABLE fact (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
            CREATE TABLE service (name TEXT PRIMARY KEY, situation TEXT NOT NULL, revision INTEGER NOT NULL) STRICT;
            CREATE TABLE revision (
              service TEXT NOT NULL, number INTEGER NOT NULL, at INTEGER NOT NULL, by TEXT NOT NULL, document TEXT NOT NULL,
              PRIMARY KEY (service, number)) STRICT, WITHOUT ROWID;
            CREATE TABLE run (
              service TEXT NOT NULL, number INTEGER NOT NULL, cause TEXT NOT NULL, began INTEGER NOT NULL, launched INTEGER, ended INTEGER,
              pid INTEGER, revision INTEGER NOT NULL, outcome TEXT, code INTEGER, core INTEGER, detail TEXT, peak_kib INTEGER, cpu_us INTEGER,
              PRIMARY KEY (service, number)) STRICT, WITHOUT ROWID;
            CREATE TABLE logbook (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, service TEXT, what TEXT NOT NULL, text TEXT NOT NULL, by TEXT) STRICT;
            CREATE INDEX logbook_service ON logbook (service, id);
            CREATE TABLE session (hash TEXT PRIMARY KEY, account TEXT NOT NULL, until INTEGER NOT NULL) STRICT;
            """,
        """
            CREATE TABLE secret (service TEXT NOT NULL, key TEXT NOT NULL, sealed TEXT NOT NULL, PRIMARY KEY (service, key)) STRICT, WITHOUT ROWID;
            CREATE TABLE account (name TEXT PRIMARY KEY, permitted INTEGER NOT NULL, made INTEGER NOT NULL) STRICT;
            CREATE TABLE granted (account TEXT NOT NULL, path TEXT NOT NULL, how TEXT NOT NULL, before TEXT NOT NULL, folder TEXT NOT NULL, PRIMARY KEY (account, path)) STRICT, WITHOUT ROWID;
            CREATE TABLE rehearsal (service TEXT PRIMARY KEY, at INTEGER NOT NULL, peak_bytes INTEGER NOT NULL, ports TEXT NOT NULL) STRICT;
            """,
        """
            ALTER TABLE run ADD COLUMN wanted INTEGER;
            ALTER TABLE run ADD COLUMN proven INTEGER;
            ALTER TABLE run ADD COLUMN proof TEXT;
            ALTER TABLE run ADD COLUMN stop_us INTEGER;
            ALTER TABLE run ADD COLUMN output_from INTEGER;
            CREATE TABLE beginning (began INTEGER PRIMARY KEY, kind TEXT NOT NULL, report TEXT NOT NULL) STRICT;
            """,
        """
            ALTER TABLE run ADD COLUMN begun_by TEXT;
            ALTER TABLE run ADD COLUMN ended_by TEXT;
            ALTER TABLE run ADD COLUMN bad INTEGER;
            ALTER TABLE run ADD COLUMN well INTEGER;
            ALTER TABLE run ADD COLUMN forced INTEGER;
            ALTER TABLE run ADD COLUMN output_to INTEGER;
            ALTER TABLE run ADD COLUMN origin TEXT;
            ALTER TABLE run ADD COLUMN steps TEXT;
            ALTER TABLE run ADD COLUMN evidence TEXT;
            ALTER TABLE logbook ADD COLUMN tells INTEGER;
            CREATE TABLE moment (id INTEGER PRIMARY KEY, service TEXT NOT NULL, at INTEGER NOT NULL, state TEXT NOT NULL, health TEXT NOT NULL, time TEXT NOT NULL, why TEXT NOT NULL, next TEXT NOT NULL) STRICT;
            CREATE INDEX logbook_tells ON logbook (id) WHERE tells = 1;
            CREATE INDEX run_well ON run (service, number) WHERE well = 1;
            CREATE INDEX moment_service ON moment (service, at);
            """,
        """
            DROP TABLE session;
            CREATE TABLE session (
              hash TEXT PRIMARY KEY, page TEXT NOT NULL, id TEXT NOT NULL, account TEXT NOT NULL, agent TEXT NOT NULL,
              opened INTEGER NOT NULL, used INTEGER NOT NULL, until INTEGER NOT NULL) STRICT;
            """,
        // A service has an id. What belongs to a service goes by it; a logbook's entry keeps the name that was said then.
        """
            CREATE TABLE service6 (
              id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL UNIQUE, situation TEXT NOT NULL, revision INTEGER NOT NULL) STRICT;
            INSERT INTO service6 (name, situation, revision) SELECT name, situation, revision FROM service ORDER BY name;
            CREATE TABLE revision6 (
              service INTEGER NOT NULL, number INTEGER NOT NULL, at INTEGER NOT NULL, by TEXT NOT NULL, document TEXT NOT NULL,
              form INTEGER NOT NULL, PRIMARY KEY (service, number)) STRICT, WITHOUT ROWID;
            INSERT INTO revision6
              SELECT s.id, r.number, r.at, r.by, r.document, 1 FROM revision r JOIN service6 s ON s.name = r.service;
            CREATE TABLE run6 (
              service INTEGER NOT NULL, number INTEGER NOT NULL, cause TEXT NOT NULL, began INTEGER NOT NULL, launched INTEGER,
              ended INTEGER, pid INTEGER, revision INTEGER NOT NULL, outcome TEXT, code INTEGER, core INTEGER, detail TEXT,
              peak_kib INTEGER, cpu_us INTEGER, wanted INTEGER, proven INTEGER, proof TEXT, stop_us INTEGER, output_from INTEGER,
              begun_by TEXT, ended_by TEXT, bad INTEGER, well INTEGER, forced INTEGER, output_to INTEGER, origin TEXT, steps TEXT,
              evidence TEXT, PRIMARY KEY (service, number)) STRICT, WITHOUT ROWID;
            INSERT INTO run6
              SELECT s.id, r.number, r.cause, r.began, r.launched, r.ended, r.pid, r.revision, r.outcome, r.code, r.core, r.detail,
                r.peak_kib, r.cpu_us, r.wanted, r.proven, r.proof, r.stop_us, r.output_from, r.begun_by, r.ended_by, r.bad, r.well,
                r.forced, r.output_to, r.origin, r.steps, r.evidence
              FROM run r JOIN service6 s ON s.name = r.service;
            CREATE TABLE moment6 (
              id INTEGER PRIMARY KEY, service INTEGER NOT NULL, at INTEGER NOT NULL, state TEXT NOT NULL, health TEXT NOT NULL,
              time TEXT NOT NULL, revision INTEGER, situation TEXT, why TEXT, next TEXT) STRICT;
            INSERT INTO moment6
              SELECT m.id, s.id, m.at, m.state, m.health, m.time, NULL, NULL, m.why, m.next
              FROM moment m JOIN service6 s ON s.name = m.service;
            ALTER TABLE logbook ADD COLUMN service_id INTEGER;
            ALTER TABLE logbook ADD COLUMN fields TEXT;
            UPDATE logbook SET service_id = (SELECT id FROM service6 WHERE name = logbook.service);
            DROP INDEX logbook_service;
            CREATE INDEX logbook_service ON logbook (service_id, id);
            DROP TABLE moment;
            DROP TABLE run;
            DROP TABLE revision;
            DROP TABLE service;
            ALTER TABLE service6 RENAME TO service;
            ALTER TABLE revision6 RENAME TO revision;
            ALTER TABLE run6 RENAME TO run;
            ALTER TABLE moment6 RENAME TO moment;
            CREATE INDEX run_well ON run (service, number) WHERE well = 1;
            CREATE INDEX moment_service ON moment (service, at);
            """,
        // Entries are chained; one whose content is dropped leaves its digest.
        """
            ALTER TABLE logbook ADD COLUMN digest BLOB;
            ALTER TABLE logbook ADD COLUMN chain BLOB;
            CREATE TABLE logbook_emptied (id INTEGER PRIMARY KEY, digest BLOB NOT NULL, chain BLOB NOT NULL) STRICT;
            """,
        // A program's files have versions.
        """
            CREATE TABLE version (
              service INTEGER NOT NULL, number INTEGER NOT NULL, at INTEGER, by TEXT, source TEXT, directory TEXT NOT NULL,
              identity TEXT NOT NULL, present INTEGER NOT NULL, failed TEXT, PRIMARY KEY (service, number)) STRICT, WITHOUT ROWID;
            ALTER TABLE run ADD COLUMN version INTEGER;
            """,
        // What people are told.
        """
            CREATE TABLE alert (number INTEGER PRIMARY KEY, began INTEGER NOT NULL, document TEXT NOT NULL) STRICT;
            CREATE TABLE message (
              number INTEGER PRIMARY KEY, id TEXT NOT NULL, alert INTEGER NOT NULL, recipient TEXT NOT NULL, at INTEGER NOT NULL,
              state TEXT NOT NULL, tries INTEGER NOT NULL, tried INTEGER, answer TEXT, document TEXT NOT NULL) STRICT;
            CREATE INDEX message_waiting ON message (number) WHERE state = 'waiting';
            CREATE INDEX message_alert ON message (alert, number);
            """,
        // Which entry tells that of this one only the digest is kept.
        """
            ALTER TABLE logbook_emptied ADD COLUMN told INTEGER;
            """,
        // The files that a definition came from.
        """
            ALTER TABLE revision ADD COLUMN source TEXT;
            """,
    ];

    /// <exception cref="SqliteException">It is no database of ours, a later version's, or its disk is full.</exception>
    /// <param name="before">Where the store is kept as it was, when its tables are brought up.</param>
    public static void Bring(SqliteConnection connection, string? before = null)
    {
        Execute(connection, "PRAGMA journal_mode = WAL");
        Execute(connection, "PRAGMA synchronous = NORMAL");
        using var ask = connection.CreateCommand();
        ask.CommandText = "PRAGMA user_version";
        var version = (int)(long)ask.ExecuteScalar()!;
        if (version > Steps.Length)
        {
            throw new LaterStoreException(
                $"the store was written by a later version (its tables are version {version}, this program knows {Steps.Length})"
            );
        }

        if (version > 0 && version < Steps.Length && before is not null)
        {
            // Made beside and renamed, readable by nobody else: it holds what the store holds.
            var beside = before + "~";
            File.Delete(beside);
            using (
                new FileStream(
                    beside,
                    new FileStreamOptions
                    {
                        Mode = FileMode.CreateNew,
                        Access = FileAccess.Write,
                        UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                    }
                )
            ) { }

            Execute(connection, "VACUUM INTO $0", null, beside);
            File.Move(beside, before, overwrite: true);
        }

        while (version < Steps.Length)
        {
            using var transaction = connection.BeginTransaction();
            Execute(connection, Steps[version++], transaction);
            if (version == ServicesHaveIds)
                BringUp(connection, transaction);
            if (version == EntriesAreChained)
                SentryStore.ChainAll(connection, transaction);
            if (version == EmptyingsAreTold)
                SentryStore.TellEmptied(connection, transaction);
            Execute(connection, $"PRAGMA user_version = {version}", transaction);
            transaction.Commit();
        }
    }

    private const int ServicesHaveIds = 6,
        EntriesAreChained = 7,
        EmptyingsAreTold = 10;

    /// <summary>What is stored as JSON in the words of version 5, in those of today.</summary>
    private static void BringUp(SqliteConnection connection, SqliteTransaction transaction)
    {
        Each(
            connection,
            transaction,
            "SELECT service, number, document FROM revision WHERE form = 1",
            row =>
                Execute(
                    connection,
                    $"UPDATE revision SET document = $0, form = {DocumentForms.Today} WHERE service = $1 AND number = $2",
                    transaction,
                    DocumentForms.From1(row.GetString(2)),
                    row.GetInt64(0),
                    row.GetInt64(1)
                )
        );
        Each(
            connection,
            transaction,
            "SELECT id, name, situation FROM service",
            row =>
                Execute(
                    connection,
                    "UPDATE service SET situation = $0 WHERE id = $1",
                    transaction,
                    SituationJson.FromVersion5(row.GetString(2), row.GetString(1)),
                    row.GetInt64(0)
                )
        );
    }

    private static void Each(
        SqliteConnection connection,
        SqliteTransaction transaction,
        string sql,
        Action<SqliteDataReader> work
    )
    {
        using var command = connection.CreateCommand();
        command.Transaction = transaction;
        command.CommandText = sql;
        using var row = command.ExecuteReader();
        while (row.Read())
            work(row);
    }

    private static void Execute(
        SqliteConnection connection,
        string sql,
        SqliteTransaction? transaction = null,
        params object[] values
    )
    {
        using var command = connection.CreateCommand();
        command.Transaction = transaction;
        command.CommandText = sql;
        for (var i = 0; i < values.Length; i++)
            command.Parameters.AddWithValue($"${i}", values[i]);
        command.ExecuteNonQuery();
    }
}

/// <summary>A store that a later version has written: it is left as it is.</summary>
public sealed class LaterStoreException(string message) : SqliteException(message, NotADatabase)
{
    /// <summary>SQLITE_NOTADB: to this version it is none.</summary>
    private const int NotADatabase = 26;
}
