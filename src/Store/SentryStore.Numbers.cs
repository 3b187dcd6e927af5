using System.Collections.Concurrent;
using System.Globalization;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;

namespace CalmSentry.Store;

/// <summary>
/// Numbers of runs, reserved ahead in blocks that survive a power cut. What is committed without a flush may be lost with
/// the machine, and a number in it would be given again; up to the reserved number none is. Nobody waits for the disk:
/// the next block is asked for while half of the one before is left. A store that is closed gives back what is not used.
/// </summary>
public sealed partial class SentryStore
{
    private const string NumberKey = "numbers.";
    private const long Block = 8;

    private readonly ConcurrentDictionary<ServiceId, (long Last, long Reserved)> numbers = new();

    /// <summary>
    /// The highest number that a run of a service may have had, also one that went with the machine; 0: it never ran.
    /// </summary>
    public RunNumber Reserved(ServiceId service) =>
        new(
            long.TryParse(Fact(KeyOf(service)), NumberStyles.None, CultureInfo.InvariantCulture, out var reserved)
                ? reserved
                : 0
        );

    /// <summary>Sees to it that the numbers after this one are reserved; <see cref="Kept"/> waits for that.</summary>
    public void Reserve(ServiceId service, RunNumber last)
    {
        var before = numbers.GetValueOrDefault(service);
        if (last.Value + (Block / 2) < before.Reserved || !HasRoom)
        {
            numbers[service] = before with { Last = last.Value };
            return;
        }

        numbers[service] = (last.Value, last.Value + Block);
        WriteReserved(service, last.Value + Block);
    }

    private void ForgetNumbers(ServiceId service)
    {
        numbers.TryRemove(service, out _);
        Enqueue("DELETE FROM fact WHERE key = $0", KeyOf(service));
    }

    /// <summary>No run is begun any more: what is reserved beyond the last one is free.</summary>
    private void GiveBackNumbers()
    {
        foreach (var (service, (last, _)) in numbers)
            WriteReserved(service, last);
    }

    private void WriteReserved(ServiceId service, long reserved) =>
        Enqueue(new Write(Mark, [KeyOf(service), reserved.ToString(CultureInfo.InvariantCulture)], Lasting: true));

    private static string KeyOf(ServiceId service) => NumberKey + service.Number.ToString(CultureInfo.InvariantCulture);
}
