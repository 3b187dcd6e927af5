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
    ];

    public static void Bring(SqliteConnection connection)
    {
        Execute(connection, "PRAGMA journal_mode = WAL");
        Execute(connection, "PRAGMA synchronous = NORMAL");
        using var ask = connection.CreateCommand();
        ask.CommandText = "PRAGMA user_version";
        for (var version = (int)(long)ask.ExecuteScalar()!; version < Steps.Length; version++)
            Execute(connection, $"BEGIN; {Steps[version]} PRAGMA user_version = {version + 1}; COMMIT;");
    }

    private static void Execute(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }
}
