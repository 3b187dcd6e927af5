using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Engine.Services;

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

    public sealed class Wait(DateTimeOffset due, TimeSpan over)
    {
        internal DateTimeOffset Due { get; set; } = due;

        internal TimeSpan Left(TimeProvider clock) => over - clock.GetElapsedTime(0, clock.GetTimestamp());
    }

    /// <summary>Arms for a moment, or for none. For the same moment the wait under way goes on.</summary>
    /// <param name="now">The reading of both clocks by which that moment is told.</param>
    public void Set(DateTimeOffset? due, ClockStamp now)
    {
        if (due == armed?.Due)
            return;
        Volatile.Write(
            ref armed,
            due is { } at ? new Wait(at, at - now.Wall + TimeSpan.FromMilliseconds(now.Forward)) : null
        );
        if (armed is { } wait)
            Go(wait.Left(clock));
        else
            timer.Change(Timeout.InfiniteTimeSpan, Timeout.InfiniteTimeSpan);
    }

    /// <summary>The host's clock was set forward by so much: the wait goes on, for the same moment by the new time.</summary>
    public void Shift(TimeSpan skew)
    {
        if (armed is { } wait)
            wait.Due += skew;
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
