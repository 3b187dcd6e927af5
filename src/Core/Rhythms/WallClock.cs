namespace CalmSentry.Core.Rhythms;

/// <summary>What a clock on the wall shows in a zone, and when it shows it.</summary>
public static class WallClock
{
    /// <summary>Clocks were never set by more than a day, and no zone is further from Universal Time.</summary>
    private static readonly TimeSpan Farthest = TimeSpan.FromHours(52);

    /// <summary>
    /// The first moment at which the clock shows this time or a later one: of a time that comes twice the first, of one that is
    /// skipped the moment after the gap.
    /// </summary>
    public static DateTimeOffset At(DateTime wall, TimeZoneInfo zone)
    {
        var utc = new DateTimeOffset(DateTime.SpecifyKind(wall, DateTimeKind.Utc));
        if (ZoneTable.Of(zone) is not { } table)
            return utc - zone.GetUtcOffset(wall);
        var (from, to) = ((utc - Farthest).ToUnixTimeSeconds(), (utc + Farthest).ToUnixTimeSeconds());
        var begins = utc - Farthest;
        foreach (var change in table.Changes(from, to))
        {
            var until = DateTimeOffset.FromUnixTimeSeconds(change);
            if (Within(table.OffsetAt(change - 1), until) is { } at)
                return at;
            begins = until;
        }

        return Within(table.OffsetAt(to), DateTimeOffset.MaxValue)!.Value;

        // Up to a change clocks show the same as everywhere at this distance from Universal Time.
        DateTimeOffset? Within(TimeSpan offset, DateTimeOffset until)
        {
            var at = utc - offset;
            return at >= until ? null
                : at < begins ? begins
                : at;
        }
    }

    /// <summary>What the clock shows at a moment.</summary>
    public static DateTime Of(DateTimeOffset moment, TimeZoneInfo zone) => In(moment, zone).DateTime;

    /// <summary>The same moment, by the clock of a zone.</summary>
    public static DateTimeOffset In(DateTimeOffset moment, TimeZoneInfo zone) =>
        ZoneTable.Of(zone) is not { } table
            ? TimeZoneInfo.ConvertTime(moment, zone)
            : moment.ToOffset(Minutes(table.OffsetAt(moment.ToUnixTimeSeconds())));

    /// <summary>Times of long ago were by seconds, which this type does not have.</summary>
    private static TimeSpan Minutes(TimeSpan offset) => TimeSpan.FromMinutes(Math.Floor(offset.TotalMinutes));
}
