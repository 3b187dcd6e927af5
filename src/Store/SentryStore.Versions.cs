using System.Globalization;
using System.Text.Json;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Store.Records;

namespace CalmSentry.Store;

/// <summary>Versions of programs' files, and the swaps under way: at most one a service.</summary>
public sealed partial class SentryStore
{
    private const string SwapKey = "swap.";

    /// <summary>All versions there were of a service's files, the latest first; none before its first swap.</summary>
    public IReadOnlyList<StoredVersion> Versions(ServiceId service) =>
        Read(
            "SELECT number, at, by, source, directory, identity, present, failed, "
                + "(SELECT count(*) FROM run WHERE run.service = version.service AND run.version = version.number) "
                + "FROM version WHERE service = $0 ORDER BY number DESC",
            row => new StoredVersion(
                row.GetInt64(0),
                TimeOrNull(row, 1),
                TextOrNull(row, 2),
                TextOrNull(row, 3),
                row.GetString(4),
                row.GetString(5),
                row.GetInt64(6) != 0,
                TextOrNull(row, 7),
                row.GetInt64(8)
            ),
            service.Number
        );

    /// <summary>Takes a version on record, or what has become of it.</summary>
    public void SetVersion(ServiceId service, StoredVersion version) =>
        Enqueue(
            "INSERT INTO version (service, number, at, by, source, directory, identity, present, failed) "
                + "VALUES ($0, $1, $2, $3, $4, $5, $6, $7, $8) "
                + "ON CONFLICT DO UPDATE SET directory = excluded.directory, identity = excluded.identity, "
                + "present = excluded.present, failed = excluded.failed",
            service.Number,
            version.Number,
            version.At is { } at ? Micros(at) : null,
            version.By,
            version.Source,
            version.Directory,
            version.Identity,
            version.Present ? 1 : 0,
            version.Failed
        );

    /// <summary>From here on runs are of that version.</summary>
    public void SetPresent(ServiceId service, long number) =>
        Enqueue("UPDATE version SET present = (number = $1) WHERE service = $0", service.Number, number);

    /// <param name="frame">The reading of both clocks by which its moments are told.</param>
    public void SetSwap(ServiceId service, Swap swap, ClockStamp frame) =>
        SetFact(SwapKeyOf(service), SwapJson.Write(swap, frame));

    public void RemoveSwap(ServiceId service) => Enqueue("DELETE FROM fact WHERE key = $0", SwapKeyOf(service));

    /// <summary>All that were under way; one that cannot be read has no swap.</summary>
    public IReadOnlyList<(ServiceId Service, Swap? Swap, ClockStamp? Saved)> Swaps() =>
        Read(
            "SELECT key, value FROM fact WHERE key GLOB 'swap.*'",
            row =>
            {
                var id = new ServiceId(
                    long.Parse(row.GetString(0).AsSpan(SwapKey.Length), CultureInfo.InvariantCulture)
                );
                try
                {
                    var (swap, saved) = SwapJson.Read(row.GetString(1));
                    return (id, (Swap?)swap, saved);
                }
                catch (Exception error) when (error is JsonException or InvalidOperationException or ArgumentException)
                {
                    return (id, null, null);
                }
            }
        );

    private static string SwapKeyOf(ServiceId service) =>
        SwapKey + service.Number.ToString(CultureInfo.InvariantCulture);
}
