using CalmSentry.Store;

namespace CalmSentry.Telling;

/// <summary>
/// Entries that wait to be taken in, in their order and without a gap: those in memory, and after them those up to a number that are to
/// be read from the logbook, for there were too many, or taking them in failed. Until those are read, none is kept in memory.
/// </summary>
internal sealed class Intake(int most)
{
    private readonly Lock gate = new();
    private readonly Queue<StoredEntry> atHand = new();
    private long heard;
    private long? behind;

    public bool IsEmpty
    {
        get
        {
            lock (gate)
                return atHand.Count == 0 && behind is null;
        }
    }

    /// <summary>Up to which number the logbook is to be read once nothing is in memory; null: it is not to be read.</summary>
    public long? Behind
    {
        get
        {
            lock (gate)
                return atHand.Count == 0 ? behind : null;
        }
    }

    /// <summary>An entry came; they come in the order of their numbers. Never waits.</summary>
    public void Hear(StoredEntry entry)
    {
        lock (gate)
        {
            heard = entry.Number;
            if (behind is null && atHand.Count < most)
                atHand.Enqueue(entry);
            else
                behind = heard;
        }
    }

    /// <returns>The next in memory; null: there is none.</returns>
    public StoredEntry? Take()
    {
        lock (gate)
            return atHand.TryDequeue(out var entry) ? entry : null;
    }

    /// <summary>All that was heard is to be read from the logbook, up to a number at least.</summary>
    public void ReadAnew(long upTo = 0)
    {
        lock (gate)
        {
            atHand.Clear();
            behind = Math.Max(Math.Max(heard, upTo), behind ?? 0);
        }
    }

    /// <summary>The logbook was read up to a number.</summary>
    /// <returns>Whether all that was to be read is; else it is not on record yet.</returns>
    public bool HasRead(long upTo)
    {
        lock (gate)
        {
            if (behind <= upTo)
                behind = null;
            return behind is null;
        }
    }
}
