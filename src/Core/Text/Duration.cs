using System.Globalization;

namespace CalmSentry.Core.Text;

/// <summary>
/// Lengths of time as a definition writes them: <c>10 s</c>, <c>1 min</c>, <c>250 ms</c>, <c>30 min</c>, <c>2 h</c>,
/// <c>1 d</c>.
/// </summary>
public static class Duration
{
    public const string Allowed = "a length of time such as 500 ms, 10 s, 5 min, 2 h or 1 d";

    private static readonly (string Unit, TimeSpan Length)[] Units =
    [
        ("ms", TimeSpan.FromMilliseconds(1)),
        ("s", TimeSpan.FromSeconds(1)),
        ("min", TimeSpan.FromMinutes(1)),
        ("h", TimeSpan.FromHours(1)),
        ("d", TimeSpan.FromDays(1)),
    ];

    public static bool TryRead(string text, out TimeSpan length)
    {
        length = default;
        text = text.Trim();
        var digits = 0;
        while (digits < text.Length && (char.IsAsciiDigit(text[digits]) || text[digits] == '.'))
            digits++;
        if (digits == text.Length)
            return text == "0";
        if (
            !double.TryParse(
                text.AsSpan(0, digits),
                NumberStyles.AllowDecimalPoint,
                CultureInfo.InvariantCulture,
                out var number
            )
        )
            return false;
        var unit = text[digits..].TrimStart();
        foreach (var (name, one) in Units)
        {
            if (name != unit || number * one.TotalDays > 3650)
                continue;
            length = number * one;
            return true;
        }

        return false;
    }

    /// <summary>
    /// The shortest writing that <see cref="TryRead"/> reads back as the same length (of whole milliseconds).
    /// </summary>
    public static string Write(TimeSpan length)
    {
        for (var i = Units.Length - 1; i > 0; i--)
            if (length >= Units[i].Length && length.Ticks % Units[i].Length.Ticks == 0)
                return string.Create(
                    CultureInfo.InvariantCulture,
                    $"{length.Ticks / Units[i].Length.Ticks} {Units[i].Unit}"
                );
        return length == TimeSpan.Zero
            ? "0 s"
            : string.Create(CultureInfo.InvariantCulture, $"{length.TotalMilliseconds} ms");
    }
}
