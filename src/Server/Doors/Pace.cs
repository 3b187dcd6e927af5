using System.Collections.Concurrent;
using System.Diagnostics;

namespace CalmSentry.Server.Doors;

/// <summary>
/// How often one caller may call: a bucket that fills at a steady rate, so that a burst is borne and a flood is not.
/// </summary>
internal sealed class Pace
{
    /// <summary>Callers remembered at most; who is idle is forgotten first.</summary>
    private const int MostCallers = 1000;

    private readonly ConcurrentDictionary<object, Bucket> buckets = [];

    private sealed class Bucket
    {
        public double Left;
        public long Stamp;
    }

    /// <summary>Calls a second that one caller may go on making; ten times as many at once.</summary>
    public static int Of(DoorKind door) => door == DoorKind.Say ? 20 : 100;

    /// <summary>False when the caller is over its rate.</summary>
    public bool Take(object caller, DoorKind door) => Take(caller, Of(door), Of(door) * 10);

    /// <param name="rate">Calls a second that the caller may go on making, at least a tenth of <paramref name="most"/>.</param>
    /// <param name="most">Calls at once.</param>
    public bool Take(object caller, double rate, double most)
    {
        var now = Stopwatch.GetTimestamp();
        if (buckets.Count > MostCallers)
            Forget(now);
        var bucket = buckets.GetOrAdd(caller, _ => new Bucket { Left = most, Stamp = now });
        lock (bucket)
        {
            bucket.Left = Math.Min(
                most,
                bucket.Left + (Stopwatch.GetElapsedTime(bucket.Stamp, now).TotalSeconds * rate)
            );
            bucket.Stamp = now;
            if (bucket.Left < 1)
                return false;
            bucket.Left--;
            return true;
        }
    }

    /// <summary>A bucket that has had the time to fill says nothing any more.</summary>
    private void Forget(long now)
    {
        foreach (var old in buckets.Where(one => Stopwatch.GetElapsedTime(one.Value.Stamp, now).TotalSeconds > 10))
            buckets.TryRemove(old);
    }
}
