using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Store.Records;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Store;

/// <summary>Runs and the moments at which services turned.</summary>
public sealed partial class SentryStore
{
    // Runs

    /// <param name="outputFrom">Where this run's output begins in the output file, in bytes.</param>
    /// <param name="by">Who or what began it.</param>
    public void RunBegan(ServiceId service, LiveRun run, int revision, long outputFrom, string by, RunOrigin? origin) =>
        Tell(
            "INSERT INTO run (service, number, cause, began, revision, wanted, output_from, begun_by, origin, version) "
                + "VALUES ($0, $1, $2, $3, $4, $5, $6, $7, $8, (SELECT number FROM version WHERE service = $0 AND present = 1)) "
                + "ON CONFLICT DO UPDATE SET origin = coalesce(origin, excluded.origin)",
            service.Number,
            run.Number,
            Words.Of(run.Cause),
            Micros(run.Began),
            revision,
            Micros(run.Wanted),
            outputFrom,
            by,
            OriginJson.Write(origin)
        );

    public void RunProven(ServiceId service, RunNumber run, DateTimeOffset at, string? proof) =>
        Tell(
            "UPDATE run SET proven = $2, proof = $3 WHERE service = $0 AND number = $1",
            service.Number,
            run,
            Micros(at),
            proof
        );

    /// <summary>The revision of the definition that a run was launched by; null: it is not on record.</summary>
    public int? RevisionOf(ServiceId service, RunNumber run) =>
        Read(
                "SELECT revision FROM run WHERE service = $0 AND number = $1",
                row => (int?)NumberOrNull(row, 0),
                service.Number,
                run
            )
            .FirstOrDefault();

    public long OutputFrom(ServiceId service, RunNumber run) =>
        Read(
                "SELECT coalesce(output_from, 0) FROM run WHERE service = $0 AND number = $1",
                row => row.GetInt64(0),
                service.Number,
                run
            )
            .FirstOrDefault();

    /// <summary>Between which places a run printed; no end: it goes on. Null: it is not on record.</summary>
    public (long From, long? To)? OutputOf(ServiceId service, RunNumber run) =>
        Read(
                "SELECT coalesce(output_from, 0), output_to FROM run WHERE service = $0 AND number = $1",
                row => ((long, long?)?)(row.GetInt64(0), NumberOrNull(row, 1)),
                service.Number,
                run
            )
            .FirstOrDefault();

    /// <summary>The run that printed what lies at a place, and up to where it is the one; no run: none is on record.</summary>
    public (long From, long To, long? Run) RunAt(ServiceId service, long place)
    {
        var next = Read(
                "SELECT min(output_from) FROM run WHERE service = $0 AND output_from > $1",
                row => NumberOrNull(row, 0),
                service.Number,
                place
            )
            .FirstOrDefault();
        var (from, run) = Read(
                "SELECT output_from, number FROM run WHERE service = $0 AND output_from <= $1 "
                    + "ORDER BY output_from DESC, number DESC LIMIT 1",
                row => (row.GetInt64(0), (long?)row.GetInt64(1)),
                service.Number,
                place
            )
            .FirstOrDefault();
        return (from, next ?? long.MaxValue, run);
    }

    /// <summary>
    /// Median time from launch to proof of the latest twenty runs that were proven; null before the first.
    /// </summary>
    /// <param name="before">Of those before this one; null: of all.</param>
    public TimeSpan? UsualStart(ServiceId service, RunNumber? before = null) =>
        Median(
            "SELECT proven - launched FROM run WHERE service = $0 AND proven IS NOT NULL AND launched IS NOT NULL "
                + "AND number < $1 ORDER BY number DESC LIMIT 20",
            service,
            before?.Value ?? long.MaxValue
        );

    /// <summary>Median time a stop took, of the latest twenty; null before the first.</summary>
    public TimeSpan? UsualStop(ServiceId service) =>
        Median(
            "SELECT stop_us FROM run WHERE service = $0 AND stop_us IS NOT NULL ORDER BY number DESC LIMIT 20",
            service
        );

    /// <summary>How long the latest hundred runs that ended by themselves took from their launch.</summary>
    public IReadOnlyList<TimeSpan> RunLengths(ServiceId service) =>
        Lengths(
            "SELECT ended - launched FROM run WHERE service = $0 AND ended IS NOT NULL AND launched IS NOT NULL "
                + "AND stop_us IS NULL ORDER BY number DESC LIMIT 100",
            service
        );

    /// <summary>How long the latest hundred stops took, each with the start that followed, until that was proven.</summary>
    public IReadOnlyList<TimeSpan> RestartLengths(ServiceId service) =>
        Lengths(
            "SELECT run.stop_us + next.proven - next.began FROM run JOIN run AS next ON next.service = run.service "
                + "AND next.number = run.number + 1 WHERE run.service = $0 AND run.stop_us IS NOT NULL "
                + "AND next.proven IS NOT NULL ORDER BY run.number DESC LIMIT 100",
            service
        );

    public void RunLaunched(ServiceId service, RunNumber run, int pid, DateTimeOffset at) =>
        Tell(
            "UPDATE run SET pid = $2, launched = coalesce(launched, $3) WHERE service = $0 AND number = $1",
            service.Number,
            run,
            pid,
            Micros(at)
        );

    /// <summary>How a run ended; whoever tells it first is right.</summary>
    public void RunEnded(ServiceId service, RunNumber run, RunEnding ending) =>
        Tell(
            """
            UPDATE run SET ended = $2, outcome = $3, code = $4, core = $5, detail = $6, peak_kib = $7, cpu_us = $8,
                stop_us = $9, ended_by = $10, bad = $11, forced = $12, output_to = $13, steps = $14, well = $15
            WHERE service = $0 AND number = $1 AND ended IS NULL
            """,
            service.Number,
            run,
            Micros(ending.At),
            Words.Of(ending.Outcome.Kind),
            ending.Outcome.Code,
            ending.Outcome.Core ? 1 : 0,
            ending.Outcome.Detail,
            ending.PeakKib,
            ending.CpuMicroseconds,
            ending.Stopping is { } took ? took.Ticks / 10 : null,
            ending.By,
            ending.End is { Bad: true } ? 1 : 0,
            ending.End is { Forced: true } ? 1 : 0,
            ending.OutputTo,
            ending.End is { Steps: { IsEmpty: false } steps } ? StepsJson.Write(steps) : null,
            ending.Well ? 1 : 0
        );

    public void RunFell(ServiceId service, RunNumber run, FallEvidence evidence) =>
        Tell(
            "UPDATE run SET evidence = $2 WHERE service = $0 AND number = $1",
            service.Number,
            run,
            EvidenceJson.Write(evidence)
        );

    /// <summary>What a run was launched from, if that is on record.</summary>
    public RunOrigin? Origin(ServiceId service, RunNumber run) =>
        Read(
                "SELECT origin FROM run WHERE service = $0 AND number = $1 AND origin IS NOT NULL",
                Origin,
                service.Number,
                run
            )
            .FirstOrDefault()
            .Origin;

    /// <summary>The latest run before this one that went well.</summary>
    public (RunNumber Run, RunOrigin? Origin) LastWell(ServiceId service, RunNumber before) =>
        Read(
                "SELECT origin, number FROM run WHERE service = $0 AND number < $1 AND well = 1 AND origin IS NOT "
                    + "NULL ORDER BY number DESC LIMIT 1",
                Origin,
                service.Number,
                before
            )
            .FirstOrDefault();

    private static (RunNumber Run, RunOrigin? Origin) Origin(SqliteDataReader row) =>
        (new(row.FieldCount > 1 ? row.GetInt64(1) : 0), OriginJson.Read(row.GetString(0)));

    /// <summary>The latest twenty stops, newest first.</summary>
    public IReadOnlyList<StoredStop> Stops(ServiceId service) =>
        Read(
            "SELECT stop_us, coalesce(forced, 0), revision, steps FROM run WHERE service = $0 AND stop_us IS NOT NULL "
                + "ORDER BY number DESC LIMIT 20",
            row => new StoredStop(
                TimeSpan.FromTicks(row.GetInt64(0) * 10),
                row.GetInt64(1) != 0,
                row.GetInt32(2),
                StepsJson.Read(TextOrNull(row, 3)).FirstOrDefault(step => step.Failed)
            ),
            service.Number
        );

    /// <summary>Bad ends and planned stops since a moment.</summary>
    public (int Falls, int Stops) EndsSince(ServiceId service, DateTimeOffset from) =>
        Read(
            "SELECT coalesce(sum(bad = 1), 0), coalesce(sum(stop_us IS NOT NULL AND coalesce(bad, 0) = 0), 0) "
                + "FROM run WHERE service = $0 AND ended >= $1",
            row => (row.GetInt32(0), row.GetInt32(1)),
            service.Number,
            Micros(from)
        )[0];

    /// <summary>How the runs of a job went from a moment on.</summary>
    public JobFigures JobSince(ServiceId service, DateTimeOffset from)
    {
        const string done =
            "FROM run WHERE service = $0 AND ended >= $1 AND launched IS NOT NULL AND outcome = $2 AND code = 0";
        var good = Words.Of(OutcomeKind.Exited);
        var (count, longest, failed) = Read(
            $"SELECT count(*), max(ended - launched), (SELECT count(*) FROM run WHERE service = $0 AND ended >= $1 AND bad = 1) {done}",
            row => (row.GetInt64(0), NumberOrNull(row, 1), row.GetInt64(2)),
            service.Number,
            Micros(from),
            good
        )[0];
        var usual = Read(
            $"SELECT ended - launched {done} ORDER BY ended - launched LIMIT 1 OFFSET $3",
            row => row.GetInt64(0),
            service.Number,
            Micros(from),
            good,
            (count - 1) / 2
        );
        var (missed, late) = Read(
            "SELECT coalesce(sum(CASE what WHEN $2 THEN coalesce(json_extract(fields, '$.count'), 1) END), 0), "
                + "coalesce(sum(what = $3), 0) FROM logbook WHERE service_id = $0 AND at >= $1 AND what IN ($2, $3)",
            row => (row.GetInt64(0), row.GetInt64(1)),
            service.Number,
            Micros(from),
            EntryKinds.Of<MomentsMissedEntry>().Word,
            EntryKinds.Of<JobLateEntry>().Word
        )[0];
        return new(
            count,
            failed,
            missed,
            late,
            usual is [var median] ? TimeSpan.FromMicroseconds(median) : null,
            longest is { } most ? TimeSpan.FromMicroseconds(most) : null
        );
    }

    /// <summary>The latest runs of a service that began before a moment, newest first.</summary>
    public IReadOnlyList<StoredRun> Runs(ServiceId service, int last, DateTimeOffset? before = null) =>
        Read(
            """
            SELECT number, cause, began, launched, ended, pid, outcome, code, core, detail, peak_kib, cpu_us, wanted,
                proven, proof, begun_by, ended_by, bad, forced, output_to - output_from, stop_us, steps, evidence, version
            FROM run WHERE service = $0 AND began <= $2 ORDER BY number DESC LIMIT $1
            """,
            row => new StoredRun(
                new(row.GetInt64(0)),
                row.GetString(1),
                Time(row.GetInt64(2)),
                TimeOrNull(row, 3),
                TimeOrNull(row, 4),
                row.IsDBNull(5) ? null : row.GetInt32(5),
                row.IsDBNull(6)
                    ? null
                    : new Outcome(
                        Words.To<OutcomeKind>(row.GetString(6)),
                        row.GetInt32(7),
                        row.GetInt32(8) != 0,
                        TextOrNull(row, 9)
                    ),
                NumberOrNull(row, 10),
                NumberOrNull(row, 11),
                TimeOrNull(row, 12),
                TimeOrNull(row, 13),
                TextOrNull(row, 14),
                TextOrNull(row, 15),
                TextOrNull(row, 16),
                NumberOrNull(row, 17) == 1,
                NumberOrNull(row, 18) == 1,
                NumberOrNull(row, 19),
                NumberOrNull(row, 20) is { } took ? TimeSpan.FromTicks(took * 10) : null,
                StepsJson.Read(TextOrNull(row, 21)),
                TextOrNull(row, 22) is { } evidence ? EvidenceJson.Read(evidence) : null,
                NumberOrNull(row, 23)
            ),
            service.Number,
            last,
            Micros(before ?? DateTimeOffset.MaxValue)
        );

    // Moments

    public void AddMoment(ServiceId service, StoredMoment moment) =>
        Tell(
            "INSERT INTO moment (service, at, state, health, time, revision, situation) "
                + "VALUES ($0, $1, $2, $3, $4, $5, $6)",
            service.Number,
            Micros(moment.At),
            moment.State,
            moment.Health,
            Words.Of(moment.Time),
            moment.Revision,
            moment.Situation is { } situation ? SituationJson.Write(situation) : null
        );

    /// <summary>Whether its record of where it stood has begun.</summary>
    public bool HasMoments(ServiceId service) =>
        Read("SELECT EXISTS (SELECT 1 FROM moment WHERE service = $0)", row => row.GetBoolean(0), service.Number)[0];

    /// <summary>
    /// Where a service stood at a moment; null before its record begins. One that cannot be read has no situation.
    /// </summary>
    public StoredMoment? MomentAt(ServiceId service, DateTimeOffset at) =>
        Read(
                "SELECT at, state, health, time, revision, situation, why, next FROM moment WHERE service = $0 AND at <= $1 ORDER BY "
                    + "at DESC, id DESC LIMIT 1",
                row => new StoredMoment(
                    Time(row.GetInt64(0)),
                    row.GetString(1),
                    row.GetString(2),
                    Words.To<ServiceTime>(row.GetString(3)),
                    (int?)NumberOrNull(row, 4),
                    TextOrNull(row, 5) is { } situation ? Readable(situation) : null,
                    TextOrNull(row, 6),
                    TextOrNull(row, 7)
                ),
                service.Number,
                Micros(at)
            )
            .FirstOrDefault();

    /// <summary>When its time began to count otherwise, oldest first, from the one that held at a moment on.</summary>
    public IReadOnlyList<(DateTimeOffset At, ServiceTime Time)> Turns(ServiceId service, DateTimeOffset from) =>
        Read(
            """
            SELECT at, time FROM (SELECT id, at, time, lag(time) OVER (ORDER BY at, id) AS before FROM moment
            WHERE service = $0 AND at >= coalesce((SELECT max(at) FROM moment WHERE service = $0 AND at <= $1), $1)) WHERE before IS NOT time ORDER BY at, id
            """,
            row => (Time(row.GetInt64(0)), Words.To<ServiceTime>(row.GetString(1))),
            service.Number,
            Micros(from)
        );

    /// <summary>
    /// Drops what is too old or too much to be of use: <paramref name="most"/> runs and moments a service are kept, and
    /// five times as many
    /// entries of the logbook beside those of what people asked for; none from before <paramref name="oldest"/> but the
    /// last.
    /// </summary>
    public void Prune(ServiceId service, DateTimeOffset oldest, int most)
    {
        Empty(service, 5 * most);
        Enqueue(
            "DELETE FROM moment WHERE service = $0 AND (at < $1 OR id <= (SELECT id FROM moment WHERE service = "
                + "$0 ORDER BY id DESC LIMIT 1 OFFSET $2)) AND id < (SELECT max(id) FROM moment WHERE service = $0)",
            service.Number,
            Micros(oldest),
            most
        );
        Enqueue(
            "DELETE FROM run WHERE service = $0 AND (began < $1 OR number <= (SELECT max(number) FROM run WHERE "
                + "service = $0) - $2) AND number < (SELECT max(number) FROM run WHERE service = $0)",
            service.Number,
            Micros(oldest),
            most
        );
    }

    /// <summary>
    /// Drops the reports of boots and drills from before <paramref name="oldest"/>; the last of each kind is kept.
    /// </summary>
    public void Prune(DateTimeOffset oldest)
    {
        Enqueue(
            "DELETE FROM beginning WHERE began < $0 AND began < (SELECT max(began) FROM beginning AS last WHERE "
                + "last.kind = beginning.kind)",
            Micros(oldest)
        );
        Enqueue("DELETE FROM alert WHERE began < $0 AND number < (SELECT max(number) FROM alert)", Micros(oldest));
        Enqueue("DELETE FROM message WHERE at < $0 AND number < (SELECT max(number) FROM message)", Micros(oldest));
    }
}
