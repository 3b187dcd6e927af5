using System.Globalization;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Telling;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Store;

namespace CalmSentry.Telling;

/// <summary>
/// Messages to one recipient, on their way in order. What waits is on record; a message is sent again until its way has it, so
/// it arrives at least once, and never again once that is on record.
/// </summary>
internal sealed class Outbox : IAsyncDisposable
{
    /// <summary>So many wait at most; above that the oldest goes, and that is counted.</summary>
    public const int MostWaiting = 1000;

    private static readonly TimeSpan FirstPause = TimeSpan.FromSeconds(1),
        LongestPause = TimeSpan.FromMinutes(15),
        UsualPause = TimeSpan.FromSeconds(10),
        Hour = TimeSpan.FromHours(1),
        StorePatience = TimeSpan.FromSeconds(2);

    /// <summary>After so long without a delivery it is on record that nobody can be told.</summary>
    private static readonly TimeSpan PatienceOfPeople = TimeSpan.FromMinutes(5);

    private readonly Lock guard = new();
    private readonly Queue<StoredMessage> waiting = new();
    private readonly Queue<DateTimeOffset> delivered = new();
    private readonly ISender sender;
    private readonly SentryStore store;
    private readonly Record logbook;
    private readonly Clocks clocks;
    private readonly int mostAnHour;
    private readonly Bell came,
        again;
    private readonly Backoff pauses = new(FirstPause, LongestPause);
    private readonly BackgroundLoop loop;
    private int dropped;
    private long? brokenSince;
    private bool noted;
    private volatile string? trouble;

    public Outbox(
        Recipient recipient,
        ISender sender,
        IEnumerable<StoredMessage> before,
        int mostAnHour,
        SentryStore store,
        Record logbook,
        Clocks clocks
    )
    {
        (Recipient, this.sender, this.mostAnHour) = (recipient, sender, mostAnHour);
        (this.store, this.logbook, this.clocks) = (store, logbook, clocks);
        (came, again) = (new(clocks), new(clocks));
        foreach (var one in before)
            Add(one);
        loop = new(
            Go,
            unexpected =>
            {
                logbook.Failed($"the messages to {recipient.Name}", unexpected);
                return LongestPause;
            },
            clocks
        );
    }

    public Recipient Recipient { get; }

    /// <summary>Hears that something got there, after nothing did for a while.</summary>
    public Action? GotThrough { get; set; }

    /// <summary>It may get there now: it is not waited any longer to try that.</summary>
    public void TryAgain() => again.Ring();

    /// <summary>What waits, in its order.</summary>
    public IReadOnlyList<StoredMessage> Rest
    {
        get
        {
            lock (guard)
                return [.. waiting];
        }
    }

    public int Waiting
    {
        get
        {
            lock (guard)
                return waiting.Count;
        }
    }

    /// <summary>When its way last took one; null: not since this server began.</summary>
    public DateTimeOffset? Last { get; private set; }

    /// <summary>Why nothing gets there, as a sentence; null: all does.</summary>
    public string? Trouble =>
        trouble is { } why
            ? $"Messages to {Recipient.Name} cannot be delivered: {why}. {Waiting} wait; Calm Sentry tries again."
            : null;

    public void Add(StoredMessage one)
    {
        StoredMessage? left = null;
        lock (guard)
        {
            if (waiting.Count >= MostWaiting)
            {
                // The one at the head may be on its way.
                var head = waiting.Dequeue();
                left = waiting.Dequeue();
                var rest = waiting.ToArray();
                waiting.Clear();
                waiting.Enqueue(head);
                foreach (var other in rest)
                    waiting.Enqueue(other);
                dropped++;
            }

            waiting.Enqueue(one);
        }

        if (left is not null)
            store.SetMessage(left with { State = MessageState.Dropped, Answer = "too many waited" });
        came.Ring();
        if (one.Message?.Urgency == Urgency.Urgent)
            again.Ring();
    }

    private async Task Go(CancellationToken over)
    {
        if (Head() is null)
            await came.Heard(Timeout.InfiniteTimeSpan, over);
        // What came in is delivered in its order, however long the first takes.
        while (Head() is { } one)
        {
            await Room(over);
            var (after, wanted) = await Try(one, over);
            store.SetMessage(after);
            if (after.State != MessageState.Waiting)
            {
                // Its receipt is on record before anything else is sent.
                await OnRecord(over);
                Remove();
                pauses.Reset();
                continue;
            }

            Replace(after);
            if (wanted is { } asked)
                await clocks.Delay(asked, over);
            else
                await Pause(pauses.Next(), over);
        }
    }

    /// <summary>However long it is, something urgent that comes ends it after 10 s, and so does word that the way is open.</summary>
    private async Task Pause(TimeSpan length, CancellationToken over)
    {
        await clocks.Delay(length < UsualPause ? length : UsualPause, over);
        for (var left = length - UsualPause; left > TimeSpan.Zero; )
        {
            var unsaid =
                noted || brokenSince is not { } since ? left : PatienceOfPeople - clocks.Time.GetElapsedTime(since);
            var part = unsaid > TimeSpan.Zero && unsaid < left ? unsaid : left;
            var began = clocks.Time.GetTimestamp();
            await again.Heard(part, over);
            SayIfStuck();
            if (clocks.Time.GetElapsedTime(began) < part)
                return;
            left -= part;
        }
    }

    private StoredMessage? Head()
    {
        lock (guard)
            return waiting.TryPeek(out var one) ? one : null;
    }

    private void Remove()
    {
        lock (guard)
            waiting.Dequeue();
    }

    private void Replace(StoredMessage with)
    {
        lock (guard)
        {
            var rest = waiting.Skip(1).ToArray();
            waiting.Clear();
            waiting.Enqueue(with);
            foreach (var other in rest)
                waiting.Enqueue(other);
        }
    }

    /// <summary>Waits until this recipient may get another one.</summary>
    private async Task Room(CancellationToken over)
    {
        while (true)
        {
            var now = clocks.Now;
            while (delivered.TryPeek(out var first) && (now - first >= Hour || first > now))
                delivered.Dequeue();
            if (delivered.Count < mostAnHour)
                return;
            await clocks.Delay(delivered.Peek() + Hour - now, over);
        }
    }

    /// <summary>Nobody is told of what a power cut could take back; but a full disk keeps nobody from being told.</summary>
    private async Task OnRecord(CancellationToken over) =>
        await Task.WhenAny(store.Kept(), clocks.Delay(StorePatience, over));

    private async Task<(StoredMessage After, TimeSpan? Pause)> Try(StoredMessage one, CancellationToken over)
    {
        await OnRecord(over);
        over.ThrowIfCancellationRequested();
        var tried = one with { Tries = one.Tries + 1, Tried = clocks.Now };
        if (one.Message is not { } message)
            return (tried with { State = MessageState.Refused, Answer = "what is stored of it cannot be read" }, null);
        try
        {
            var answer = await sender.Send(tried, WithHeldBack(message), seen: null, over);
            Reached();
            return (tried with { State = MessageState.Delivered, Answer = answer }, null);
        }
        catch (NotTakenException error) when (error.ForGood)
        {
            logbook.Note(new NotToldEntry(Recipient.Name, one.Number, error.Message));
            return (tried with { State = MessageState.Refused, Answer = error.Message }, null);
        }
        catch (NotTakenException error)
        {
            Failed(error.Message);
            return (tried with { Answer = error.Message }, error.Pause);
        }
        catch (Exception error) when (error is not OperationCanceledException)
        {
            // A way that fails in a way nobody thought of is tried again like any.
            Failed(error.Message.TrimEnd('.'));
            return (tried with { Answer = error.Message }, null);
        }
    }

    /// <summary>What waits behind the last one of this hour is said in it.</summary>
    private Message WithHeldBack(Message message)
    {
        var lines = new List<string>();
        if (dropped > 0)
            lines.Add(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"{dropped} older messages were left out: more than {MostWaiting} waited. 'calm tell --messages' lists them."
                )
            );
        if (delivered.Count + 1 == mostAnHour)
            lines.Add(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"This is message {mostAnHour} within an hour, the most there may be: what else there is comes later ({Waiting - 1} wait by now)."
                )
            );
        return lines.Count == 0 ? message : message with { Parts = message.Parts.Add(new("Held back", [.. lines])) };
    }

    private void Reached()
    {
        dropped = 0;
        Last = clocks.Now;
        delivered.Enqueue(Last.Value);
        if (noted)
            logbook.Note(new ToldAgainEntry(Recipient.Name));
        var wasShut = brokenSince is not null;
        (trouble, brokenSince, noted) = (null, null, false);
        if (wasShut)
            GotThrough?.Invoke();
    }

    private void Failed(string why)
    {
        trouble = why;
        brokenSince ??= clocks.Time.GetTimestamp();
        SayIfStuck();
    }

    private void SayIfStuck()
    {
        if (noted || brokenSince is not { } since || clocks.Time.GetElapsedTime(since) < PatienceOfPeople)
            return;
        noted = true;
        logbook.Note(new TellStuckEntry(Recipient.Name, PatienceOfPeople, trouble ?? ""));
    }

    /// <summary>Sends one that is not on record, to see whether it arrives.</summary>
    /// <exception cref="NotTakenException">It was not taken.</exception>
    public Task<string> Trial(Message message, Exchange seen, CancellationToken cancellation) =>
        sender.Send(
            new(
                0,
                Guid.CreateVersion7().ToString(),
                0,
                Recipient.Name,
                message.At,
                MessageState.Waiting,
                1,
                null,
                null,
                message
            ),
            message,
            seen,
            cancellation
        );

    public ValueTask DisposeAsync() => loop.DisposeAsync();
}
