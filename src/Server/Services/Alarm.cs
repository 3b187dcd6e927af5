namespace CalmSentry.Server.Services;

/// <summary>
/// The one moment a service waits for. It is waited for as a length, by the clock that only goes forward: setting the
/// host's clock neither delays nor hastens it. Each wait is an object of its own, so that a late ring of one that is no
/// longer armed is not taken for the next.
/// </summary>
internal sealed class Alarm : IDisposable
{
    /// <summary>A timer takes 49 days at most; what is longer is waited for piece by piece.</summary>
    private static readonly TimeSpan LongestPiece = TimeSpan.FromDays(1);

    private readonly TimeProvider clock;
    private readonly ITimer timer;
    private Wait? armed;

    /// <param name="rings">Hears on a thread of its own that a wait may be over: <see cref="IsOver"/> says whether it is.</param>
    public Alarm(TimeProvider clock, Action<Wait> rings)
    {
        this.clock = clock;
        timer = clock.CreateTimer(
            _ =>
            {
                if (Volatile.Read(ref armed) is { } wait)
                    rings(wait);
            },
            null,
            Timeout.InfiniteTimeSpan,
            Timeout.InfiniteTimeSpan
        );
    }

    public sealed class Wait(DateTimeOffset due, TimeSpan length, long since)
    {
        public DateTimeOffset Due => due;

        internal TimeSpan Left(TimeProvider clock) => length - clock.GetElapsedTime(since);
    }

    /// <summary>Arms for a moment, or for none. For the same moment the wait under way goes on.</summary>
    public void Set(DateTimeOffset? due)
    {
        if (due == armed?.Due)
            return;
        Volatile.Write(ref armed, due is { } at ? new Wait(at, at - clock.GetUtcNow(), clock.GetTimestamp()) : null);
        if (armed is { } wait)
            Go(wait.Left(clock));
        else
            timer.Change(Timeout.InfiniteTimeSpan, Timeout.InfiniteTimeSpan);
    }

    /// <summary>Whether it is this wait that is armed, and its length has passed. It is over only once.</summary>
    public bool IsOver(Wait wait)
    {
        if (!ReferenceEquals(wait, armed))
            return false;
        if (wait.Left(clock) is var left && left > TimeSpan.Zero)
        {
            Go(left);
            return false;
        }

        Volatile.Write(ref armed, null);
        return true;
    }

    public void Dispose() => timer.Dispose();

    private void Go(TimeSpan left) =>
        timer.Change(
            left <= TimeSpan.Zero ? TimeSpan.Zero
                : left < LongestPiece ? left
                : LongestPiece,
            Timeout.InfiniteTimeSpan
        );
}
