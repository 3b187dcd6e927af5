using System.Globalization;

namespace CalmSentry.Core.Text;

/// <summary>Lengths of time in sentences.</summary>
public static class Length
{
    /// <summary>To a hundredth of a second where it is no round one: <c>1.07 s</c>, <c>10 min</c>.</summary>
    public static string Of(TimeSpan length) =>
        length.Ticks % TimeSpan.TicksPerSecond == 0 ? Duration.Write(length) : Seconds(length);

    /// <summary>Seconds, to a tenth: <c>20.1 s</c>.</summary>
    public static string Tenths(TimeSpan length) =>
        string.Create(CultureInfo.InvariantCulture, $"{Math.Max(0, length.TotalSeconds):0.0} s");

    /// <summary>Seconds, to a hundredth: <c>0.14 s</c>.</summary>
    public static string Seconds(TimeSpan length) =>
        string.Create(CultureInfo.InvariantCulture, $"{Math.Max(0, length.TotalSeconds):0.##} s");
}
