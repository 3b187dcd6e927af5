using System.Collections.Concurrent;
using System.Globalization;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Store.Records;

namespace CalmSentry.Store;

/// <summary>Services: their names, definitions with revisions, and where each stands.</summary>
public sealed partial class SentryStore
{
    private const string Latest = "JOIN revision r ON r.service = s.id AND r.number = s.revision";

    public IReadOnlyList<StoredService> Services() =>
        Read(
            $"SELECT s.id, s.name, s.situation, s.revision, r.document FROM service s {Latest} ORDER BY s.name",
            row => new StoredService(
                new(row.GetInt64(0)),
                row.GetString(1),
                row.GetInt32(3),
                row.GetString(4),
                Readable(row.GetString(2)),
                Saved(row.GetString(2))
            )
        );

    private static ClockStamp? Saved(string situation)
    {
        try
        {
            return SituationJson.Saved(situation);
        }
        catch (Exception error) when (error is not OutOfMemoryException)
        {
            return null;
        }
    }

    /// <summary>One row that is damaged keeps nobody from the others.</summary>
    private static Situation? Readable(string situation)
    {
        try
        {
            return SituationJson.Read(situation);
        }
        catch (Exception error) when (error is not OutOfMemoryException)
        {
            return null;
        }
    }

    /// <summary>Which service has a name now; null: none.</summary>
    public ServiceId? IdOf(string name) =>
        Read("SELECT id FROM service WHERE name = $0", row => (ServiceId?)new ServiceId(row.GetInt64(0)), name)
            .FirstOrDefault();

    /// <summary>The highest id that was given, as far as this store knows.</summary>
    public ServiceId LatestServiceId => new(Interlocked.Read(ref lastServiceId));

    /// <summary>No id up to this one is given any more.</summary>
    public void PassIds(ServiceId latest)
    {
        for (
            long last = Interlocked.Read(ref lastServiceId);
            last < latest.Number && Interlocked.CompareExchange(ref lastServiceId, latest.Number, last) != last;
            last = Interlocked.Read(ref lastServiceId)
        ) { }
    }

    /// <summary>Ids that were asked for, and whether there is such a service: an id is never given twice.</summary>
    private readonly ConcurrentDictionary<long, bool> services = new();

    public bool HasService(ServiceId service)
    {
        if (services.TryGetValue(service.Number, out var known))
            return known;
        var there = Read("SELECT 1 FROM service WHERE id = $0", row => row.GetInt32(0), service.Number).Count > 0;
        // One that is not there may be about to be written.
        return there && services.GetOrAdd(service.Number, true);
    }

    /// <summary>An id that was never given before.</summary>
    public ServiceId NextServiceId() => new(Interlocked.Increment(ref lastServiceId));

    public void Add(
        ServiceId service,
        string name,
        string document,
        Situation situation,
        Principal by,
        DateTimeOffset now,
        string? source = null
    )
    {
        PassIds(service); // one that is made again keeps the id it had
        Enqueue(
            "INSERT INTO service (id, name, situation, revision) VALUES ($0, $1, $2, 1)",
            service.Number,
            name,
            SituationJson.Write(situation)
        );
        AddRevision(service, 1, document, by, now, source);
        Reserve(service, situation.LastRun);
    }

    /// <summary>A new revision of a definition, from now on the one in effect.</summary>
    /// <param name="source">The files it came from; null: it came from none.</param>
    public void Revise(
        ServiceId service,
        int revision,
        string document,
        Principal by,
        DateTimeOffset now,
        string? source = null
    )
    {
        AddRevision(service, revision, document, by, now, source);
        Enqueue("UPDATE service SET revision = $1 WHERE id = $0", service.Number, revision);
    }

    /// <summary>
    /// Another name for a service, with the revision that has it and all that is kept under its name: as one write, so all
    /// of it is kept or nothing.
    /// </summary>
    public void Rename(
        ServiceId service,
        string was,
        string now,
        int revision,
        string document,
        Principal by,
        DateTimeOffset at
    ) =>
        Enqueue(
            """
            INSERT INTO revision (service, number, at, by, document, form) VALUES ($0, $3, $4, $5, $6, $7);
            UPDATE service SET name = $2, revision = $3 WHERE id = $0;
            UPDATE OR REPLACE secret SET service = $2 WHERE service = $1;
            UPDATE OR REPLACE rehearsal SET service = $2 WHERE service = $1;
            INSERT INTO fact (key, value) VALUES ($8, $0) ON CONFLICT (key) DO UPDATE SET value = excluded.value;
            """,
            service.Number,
            was,
            now,
            revision,
            Micros(at),
            by,
            document,
            DocumentForms.Today,
            RenamedKey + was
        );

    private const string RenamedKey = "renamed-",
        RenamingKey = "renaming-";

    /// <summary>Which service had a name before it was renamed; null: none.</summary>
    public ServiceId? RenamedFrom(string name) =>
        long.TryParse(Fact(RenamedKey + name), CultureInfo.InvariantCulture, out var id) ? new ServiceId(id) : null;

    /// <summary>A renaming is under way: until it is over, what goes by the name may lie under either.</summary>
    public void SetRenaming(ServiceId service, string was, string now) => SetFact(RenamingOf(service), $"{was} {now}");

    public void RemoveRenaming(ServiceId service) => Enqueue("DELETE FROM fact WHERE key = $0", RenamingOf(service));

    /// <summary>Renamings that were under way when the store was left.</summary>
    public IReadOnlyList<(ServiceId Service, string Was, string Now)> Renamings() =>
        Read(
            $"SELECT key, value FROM fact WHERE key GLOB '{RenamingKey}*' ORDER BY key",
            row =>
            {
                var names = row.GetString(1).Split(' ');
                return (
                    new ServiceId(
                        long.Parse(row.GetString(0).AsSpan(RenamingKey.Length), CultureInfo.InvariantCulture)
                    ),
                    names[0],
                    names[^1]
                );
            }
        );

    private static string RenamingOf(ServiceId service) =>
        string.Create(CultureInfo.InvariantCulture, $"{RenamingKey}{service.Number}");

    /// <summary>The definition in effect as it was given, as JSON; null when there is no such service.</summary>
    public string? Document(ServiceId service) =>
        Read($"SELECT r.document FROM service s {Latest} WHERE s.id = $0", row => row.GetString(0), service.Number)
            .FirstOrDefault();

    /// <summary>One revision of a definition as it was given; null when there is none.</summary>
    public string? Document(ServiceId service, int revision) =>
        Read(
                "SELECT document FROM revision WHERE service = $0 AND number = $1",
                row => row.GetString(0),
                service.Number,
                revision
            )
            .FirstOrDefault();

    /// <summary>The files that a revision came from, or the latest before it that came from any; null: none did.</summary>
    public string? SourceOf(ServiceId service, int revision) =>
        Read(
                "SELECT source FROM revision WHERE service = $0 AND number <= $1 AND source IS NOT NULL ORDER BY number DESC LIMIT 1",
                row => row.GetString(0),
                service.Number,
                revision
            )
            .FirstOrDefault();

    /// <summary>What a revision came from is said in other words now.</summary>
    public void SetSource(ServiceId service, int revision, string source) =>
        Enqueue("UPDATE revision SET source = $2 WHERE service = $0 AND number = $1", service.Number, revision, source);

    /// <summary>When the first revision behind one was given; null: there is none.</summary>
    public DateTimeOffset? NextGiven(ServiceId service, int revision) =>
        Read(
                "SELECT at FROM revision WHERE service = $0 AND number > $1 ORDER BY number LIMIT 1",
                row => (DateTimeOffset?)Time(row.GetInt64(0)),
                service.Number,
                revision
            )
            .FirstOrDefault();

    /// <summary>The highest number a revision of it has; 0: none.</summary>
    public int LatestRevision(ServiceId service) =>
        Read("SELECT max(number) FROM revision WHERE service = $0", row => (int?)NumberOrNull(row, 0), service.Number)[
            0
        ]
        ?? 0;

    /// <summary>The highest number a run of it has; 0: it never ran.</summary>
    public RunNumber LatestRun(ServiceId service) =>
        new(
            Read("SELECT max(number) FROM run WHERE service = $0", row => NumberOrNull(row, 0), service.Number)[0] ?? 0
        );

    /// <summary>The latest revisions of a definition as they were given, newest first.</summary>
    public IReadOnlyList<(int Revision, string Document)> Revisions(ServiceId service, int last) =>
        Read(
            "SELECT number, document FROM revision WHERE service = $0 ORDER BY number DESC LIMIT $1",
            row => (row.GetInt32(0), row.GetString(1)),
            service.Number,
            last
        );

    /// <summary>The latest revisions of a definition, newest first: when each was given, by whom, and what.</summary>
    public IReadOnlyList<(int Revision, DateTimeOffset At, string By, string Document)> History(
        ServiceId service,
        int last
    ) =>
        Read(
            "SELECT number, at, by, document FROM revision WHERE service = $0 ORDER BY number DESC LIMIT $1",
            row => (row.GetInt32(0), Time(row.GetInt64(1)), row.GetString(2), row.GetString(3)),
            service.Number,
            last
        );

    /// <summary>Removes all of it but its entries in the logbook. Its id is not given again.</summary>
    public void Remove(ServiceId service, string name)
    {
        services[service.Number] = false;
        Enqueue("DELETE FROM secret WHERE service = $0", name);
        Enqueue("DELETE FROM rehearsal WHERE service = $0", name);
        Enqueue("DELETE FROM run WHERE service = $0", service.Number);
        Enqueue("DELETE FROM moment WHERE service = $0", service.Number);
        Enqueue("DELETE FROM version WHERE service = $0", service.Number);
        RemoveSwap(service);
        Enqueue("DELETE FROM revision WHERE service = $0", service.Number);
        Enqueue("DELETE FROM service WHERE id = $0", service.Number);
        RemoveSettled(service);
        Enqueue("DELETE FROM fact WHERE key GLOB $0 AND value = $1", RenamedKey + "*", $"{service.Number}");
        ForgetNumbers(service);
    }

    /// <param name="now">When that is, by both clocks.</param>
    public void Save(ServiceId service, Situation situation, ClockStamp now)
    {
        Reserve(service, situation.LastRun);
        var text = SituationJson.Write(situation, now);
        if (!HasRoom)
        {
            overdue[service] = text;
            return;
        }

        overdue.TryRemove(service, out _);
        Enqueue(SaveSituation, service.Number, text);
    }

    private const string SaveSituation = "UPDATE service SET situation = $1 WHERE id = $0";

    private void AddRevision(
        ServiceId service,
        int revision,
        string document,
        Principal by,
        DateTimeOffset now,
        string? source
    ) =>
        Enqueue(
            "INSERT INTO revision (service, number, at, by, document, form, source) VALUES ($0, $1, $2, $3, $4, $5, $6)",
            service.Number,
            revision,
            Micros(now),
            by,
            document,
            DocumentForms.Today,
            source
        );
}
