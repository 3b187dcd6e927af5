using System.Globalization;

namespace CalmSentry.Core.Text;

/// <summary>Amounts of memory as a definition writes them: <c>512 MiB</c>, <c>1.5 GiB</c>, <c>200 MB</c>.</summary>
public static class Size
{
    public const string Allowed = "an amount such as 64 MiB or 1.5 GiB, at least 1 MiB";

    private static readonly (string Unit, double Bytes)[] Units =
    [
        ("KiB", 1L << 10),
        ("MiB", 1L << 20),
        ("GiB", 1L << 30),
        ("TiB", 1L << 40),
        ("kB", 1e3),
        ("MB", 1e6),
        ("GB", 1e9),
        ("TB", 1e12),
    ];

    /// <returns>Bytes, or null when the text is no amount.</returns>
    public static long? Read(string text)
    {
        text = text.Trim();
        var digits = text.TakeWhile(c => char.IsAsciiDigit(c) || c == '.').Count();
        if (
            !double.TryParse(
                text.AsSpan(0, digits),
                NumberStyles.AllowDecimalPoint,
                CultureInfo.InvariantCulture,
                out var number
            )
        )
            return null;
        var unit = text[digits..].TrimStart();
        foreach (var (name, bytes) in Units)
            if (name == unit && number * bytes is >= 1 << 20 and <= 1L << 50)
                return (long)(number * bytes);
        return null;
    }

    /// <summary>
    /// Exact: in the largest binary unit that divides it, else in thousands of bytes. Reading it gives the same amount.
    /// </summary>
    public static string Write(long bytes)
    {
        foreach (var (unit, size) in Units.Take(4).Reverse())
            if (bytes >= (long)size && bytes % (long)size == 0)
                return string.Create(CultureInfo.InvariantCulture, $"{bytes / (long)size} {unit}");
        return string.Create(CultureInfo.InvariantCulture, $"{bytes / 1000m} kB");
    }

    /// <summary>For people: <c>12.4 MiB</c>.</summary>
    public static string About(long bytes)
    {
        var (unit, size) = Units.Take(4).LastOrDefault(one => bytes >= one.Bytes, ("KiB", 1024));
        return string.Create(CultureInfo.InvariantCulture, $"{bytes / size:0.#} {unit}");
    }
}
