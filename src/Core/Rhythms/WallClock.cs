namespace CalmSentry.Core.Rhythms;

/// <summary>What a clock on the wall shows in a zone, and when it shows it.</summary>
public static class WallClock
{
    /// <summary>
    /// The first moment at which the clock shows this time or a later one: of a time that comes twice the first, of one that is
    /// skipped the moment after the gap.
    /// </summary>
    public static DateTimeOffset At(DateTime wall, TimeZoneInfo zone)
    {
        wall = DateTime.SpecifyKind(wall, DateTimeKind.Unspecified);
        if (zone.IsInvalidTime(wall))
        {
            wall = new DateTime(wall.Year, wall.Month, wall.Day, wall.Hour, wall.Minute, 0, DateTimeKind.Unspecified);
            while (zone.IsInvalidTime(wall))
                wall = wall.AddMinutes(1);
        }

        var offset = zone.IsAmbiguousTime(wall) ? zone.GetAmbiguousTimeOffsets(wall).Max() : zone.GetUtcOffset(wall);
        return new DateTimeOffset(wall, offset).ToUniversalTime();
    }

    /// <summary>What the clock shows at a moment.</summary>
    public static DateTime Of(DateTimeOffset moment, TimeZoneInfo zone) =>
        TimeZoneInfo.ConvertTime(moment, zone).DateTime;
}
