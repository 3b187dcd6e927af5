namespace CalmSentry.Core.Lifecycle;

/// <summary>How a moment of a service's life counts.</summary>
public enum ServiceTime
{
    /// <summary>It runs.</summary>
    Up,

    /// <summary>
    /// It does not run, and nobody expects it to: stopped, done, not begun yet, on its way up or down as asked.
    /// </summary>
    Planned,

    /// <summary>It should run and does not: from a fall until it is proven again, or a person stops it.</summary>
    Fallen,
}

/// <summary>Counting a service's time from the moments at which it turned.</summary>
public static class ServiceTimes
{
    public static ServiceTime Of(Situation now) =>
        now.Phase switch
        {
            Phase.Running => ServiceTime.Up,
            Phase.Held => ServiceTime.Fallen,
            // Nobody expects a job to be there between its moments, or the run of a moment to have begun before it.
            Phase.Resting => ServiceTime.Planned,
            Phase.Waiting or Phase.Starting when (now.Run?.Cause ?? now.Awaited?.Cause) == Cause.Rhythm =>
                ServiceTime.Planned,
            Phase.Stopping => now.Afterwards is Afterwards.Recover or Afterwards.AwaitNeeds or Afterwards.ShowAgain
                ? ServiceTime.Fallen
                : ServiceTime.Planned,
            Phase.Stopped => now.LastEnd is { Bad: true } end
            && !(now.Asked is { What: AskedFor.Stop } stop && stop.At >= end.At)
                ? ServiceTime.Fallen
                : ServiceTime.Planned,
            // On its way up: after a fall nobody asked for, or because somebody did.
            _ => now.LastEnd is { AsAsked: false } fell && !(now.Asked is { } asked && asked.At >= fell.At)
                ? ServiceTime.Fallen
                : ServiceTime.Planned,
        };

    /// <param name="turns">When its time began to count otherwise, oldest first.</param>
    public static Availability Over(
        IReadOnlyList<(DateTimeOffset At, ServiceTime Time)> turns,
        DateTimeOffset from,
        DateTimeOffset until
    )
    {
        TimeSpan up = default,
            planned = default,
            fallen = default;
        for (var i = 0; i < turns.Count; i++)
        {
            var end = i + 1 < turns.Count ? turns[i + 1].At : until;
            var began = turns[i].At > from ? turns[i].At : from;
            if (end > until)
                end = until;
            if (end <= began)
                continue;
            var length = end - began;
            switch (turns[i].Time)
            {
                case ServiceTime.Up:
                    up += length;
                    break;
                case ServiceTime.Planned:
                    planned += length;
                    break;
                default:
                    fallen += length;
                    break;
            }
        }

        return new(up, planned, fallen);
    }
}

/// <summary>A service's time within a window; what lies before the record begins counts as nothing.</summary>
public readonly record struct Availability(TimeSpan Up, TimeSpan Planned, TimeSpan Fallen)
{
    /// <summary>Of the time it should have run, the part it did, from 0 to 1; null when it was never to run.</summary>
    public double? Share => Up + Fallen > TimeSpan.Zero ? Up / (Up + Fallen) : null;
}
