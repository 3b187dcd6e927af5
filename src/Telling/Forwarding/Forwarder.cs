using System.Collections.Immutable;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Forwarding;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Store;

namespace CalmSentry.Telling.Forwarding;

/// <summary>
/// Forwards the logbook to one collector, in order, once an entry survives a power cut. What waits is the logbook itself,
/// from a mark on record on; the mark moves when it is known that what is before it has arrived. So over a stream each
/// entry arrives at least once, whatever is restarted, and a reader drops doubles by their number.
/// </summary>
internal sealed class Forwarder
{
    private const int Batch = 500;

    /// <summary>So much is sent on one line before it is asked whether it arrived.</summary>
    private const int MostUnconfirmed = 5000;

    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(200),
        Settled = TimeSpan.FromSeconds(5),
        FirstPause = TimeSpan.FromSeconds(1),
        LongestPause = TimeSpan.FromSeconds(15),
        PatienceOfPeople = TimeSpan.FromMinutes(1);

    private readonly ForwardTarget target;
    private readonly SentryStore store;
    private readonly Record logbook;
    private readonly Clocks clocks;
    private readonly string host;
    private readonly Backoff pauses = new(FirstPause, LongestPause);

    private long confirmed,
        sent;
    private long? brokenSince;
    private bool told;
    private volatile string? trouble;

    public Forwarder(ForwardTarget target, SentryStore store, Record logbook, Clocks clocks, string host)
    {
        (this.target, this.store, this.logbook, this.clocks, this.host) = (target, store, logbook, clocks, host);
        // A collector that is new hears what comes from now on.
        if (store.Forwarded(target.ToString()) is not { } mark)
            store.SetForwarded(target.ToString(), mark = store.LastEntry);
        confirmed = sent = mark;
    }

    /// <summary>Why nothing gets there, as a sentence; null: all does.</summary>
    public string? Trouble =>
        trouble is { } why
            ? $"The logbook is not forwarded to {target}: {why}. {store.LastEntry - confirmed} entries wait; it is tried again."
            : null;

    public async Task Go(CancellationToken cancellation)
    {
        await clocks.Delay(Beat, cancellation);
        if (store.LastEntry == confirmed)
            return;
        await using var line = await Collector.Reach(target, cancellation);
        Reached();
        pauses.Reset();
        await Carry(line, cancellation);
    }

    /// <summary>Whatever goes wrong on the way to a collector is told, and tried again.</summary>
    public TimeSpan AfterFailure(Exception error)
    {
        Failed(error.Message.TrimEnd('.'));
        return pauses.Next();
    }

    /// <summary>Sends what there is, until the line has rested for a while or much is out; then asks what has arrived.</summary>
    /// <exception cref="IOException">The line is broken: what was sent since the mark is sent again.</exception>
    private async Task Carry(Collector line, CancellationToken cancellation)
    {
        sent = confirmed;
        var rested = clocks.Time.GetTimestamp();
        while (true)
        {
            if (line.IsGone)
                throw new IOException(
                    line.Talks
                        ? "the collector sends data, which none does: after 64 KiB the line was dropped"
                        : "the collector closed the line"
                );
            var entries = await Next(cancellation);
            if (entries.Count > 0)
            {
                await line.Send([.. entries.Select(entry => SyslogMessage.Of(entry, host))], cancellation);
                sent = entries[^1].Number;
                rested = clocks.Time.GetTimestamp();
                if (!target.IsConfirmed)
                    Confirm();
            }

            if (
                sent > confirmed
                && (sent - confirmed >= MostUnconfirmed || clocks.Time.GetElapsedTime(rested) >= Settled)
            )
            {
                if (!await line.Finish(cancellation))
                    throw new IOException("the collector did not say that it has read all");
                Confirm();
                return;
            }

            // A line that carries nothing is not kept: the next entry opens another one.
            if (sent == confirmed && clocks.Time.GetElapsedTime(rested) >= Settled)
                return;
            if (entries.Count < Batch)
                await clocks.Delay(Beat, cancellation);
        }
    }

    private async Task<IReadOnlyList<Forwarded>> Next(CancellationToken cancellation)
    {
        var last = store.LastEntry;
        if (last == sent)
            return [];
        // Nobody else is told of what a power cut could take back.
        await store.Kept();
        cancellation.ThrowIfCancellationRequested();
        if (store.Failure is { } failure)
            throw new IOException($"the store cannot be written: {failure}");
        var (entries, missing) = store.EntriesAfter(sent, Batch);
        if (missing > 0)
            logbook.Note(new NotForwardedEntry(target.ToString(), missing));
        if (entries.Count == 0)
            sent = last; // those were dropped, or left out while the disk took nothing
        return entries;
    }

    private void Confirm()
    {
        confirmed = sent;
        store.SetForwarded(target.ToString(), confirmed);
    }

    private void Reached()
    {
        if (told)
            logbook.Note(new ForwardedAgainEntry(target.ToString()));
        (trouble, brokenSince, told) = (null, null, false);
    }

    private void Failed(string why)
    {
        trouble = why;
        brokenSince ??= clocks.Time.GetTimestamp();
        if (told || clocks.Time.GetElapsedTime(brokenSince.Value) < PatienceOfPeople)
            return;
        told = true;
        logbook.Note(new ForwardStuckEntry(target.ToString(), PatienceOfPeople, why));
    }
}

/// <summary>All collectors there are.</summary>
internal sealed class Forwarders(SentryStore store, Record logbook, Clocks clocks) : IAsyncDisposable
{
    private volatile ImmutableDictionary<ForwardTarget, (Forwarder One, BackgroundLoop Loop)> all = ImmutableDictionary<
        ForwardTarget,
        (Forwarder One, BackgroundLoop Loop)
    >.Empty;

    /// <summary>Forwards to these from now on. Those that stay are not disturbed; one that comes back goes on where it was.</summary>
    /// <param name="host">What this host is called in what they get.</param>
    public async Task Take(IEnumerable<ForwardTarget> targets, string host)
    {
        var (before, wanted) = (all, targets.ToHashSet());
        foreach (var (target, gone) in before.Where(one => !wanted.Contains(one.Key)))
        {
            all = all.Remove(target);
            await gone.Loop.DisposeAsync();
        }

        foreach (var target in wanted.Where(target => !before.ContainsKey(target)))
        {
            var one = new Forwarder(target, store, logbook, clocks, host);
            all = all.Add(target, (one, new(one.Go, one.AfterFailure, clocks)));
        }
    }

    /// <summary>What does not get to its collector, a sentence each.</summary>
    public IEnumerable<string> Troubles => all.Values.Select(one => one.One.Trouble).OfType<string>();

    public async ValueTask DisposeAsync()
    {
        foreach (var (_, loop) in all.Values)
            await loop.DisposeAsync();
    }
}
