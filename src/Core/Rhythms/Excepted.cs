using System.Collections.Immutable;
using System.Diagnostics.CodeAnalysis;
using System.Globalization;

namespace CalmSentry.Core.Rhythms;

/// <summary>Days that a rhythm leaves out: its moments of those days do not come.</summary>
/// <param name="Days">By the clock of the rhythm's zone.</param>
/// <param name="File">Absolute path of a file with further ones, a day a line; null: there is none.</param>
public sealed record Excepted(ImmutableSortedSet<DateOnly> Days, string? File)
{
    private const string DayFormat = "yyyy-MM-dd";

    public const string Allowed =
        "days such as 2026-12-24 2026-12-25, or the absolute path of a file with one a line, or days and then the path";

    /// <summary>Those of its file, as far as it has been read.</summary>
    public ImmutableSortedSet<DateOnly> OfFile { get; init; } = [];

    public bool Has(DateOnly day) => Days.Contains(day) || OfFile.Contains(day);

    /// <summary>As a definition writes it: days, and then the path, behind blanks.</summary>
    public override string ToString() =>
        string.Join(' ', [.. Days.Select(Write), .. File is null ? [] : new[] { File }]);

    public static bool TryRead(string text, [MaybeNullWhen(false)] out Excepted excepted)
    {
        excepted = null;
        var days = ImmutableSortedSet.CreateBuilder<DateOnly>();
        for (var rest = text.Trim(); rest.Length > 0; )
        {
            if (rest[0] == '/')
            {
                excepted = new(days.ToImmutable(), rest);
                return true;
            }

            var word = rest.Split(' ', 2);
            if (!TryDay(word[0], out var day))
                return false;
            days.Add(day);
            rest = word.Length == 1 ? "" : word[1].TrimStart();
        }

        if (days.Count > 0)
            excepted = new(days.ToImmutable(), null);
        return excepted is not null;
    }

    /// <summary>What is allowed in the place of the word that is wrong.</summary>
    public static string AllowedFor(string text) =>
        text.Split(' ', StringSplitOptions.RemoveEmptyEntries)
            .TakeWhile(word => word[0] != '/')
            .FirstOrDefault(word => !TryDay(word, out _))
            is { } wrong
            ? $"a day such as 2026-12-24 in place of '{wrong}', or an absolute path"
            : Allowed;

    /// <summary>
    /// The days of a file: one a line, and whatever stands behind it; empty lines and those that begin with # say nothing.
    /// </summary>
    /// <param name="wrong">What is wrong with it, as a clause; null: nothing.</param>
    public static ImmutableSortedSet<DateOnly> OfLines(string text, out string? wrong)
    {
        wrong = null;
        var days = ImmutableSortedSet.CreateBuilder<DateOnly>();
        var number = 0;
        foreach (var line in text.TrimStart('\uFEFF').Split('\n'))
        {
            number++;
            var word = line.Split((char[])[' ', '\t', '\r', ',', ';'], 2, StringSplitOptions.TrimEntries)[0];
            if (string.IsNullOrWhiteSpace(line) || word.StartsWith('#'))
                continue;
            if (TryDay(word, out var day))
                days.Add(day);
            else
                wrong ??= string.Create(
                    CultureInfo.InvariantCulture,
                    $"its line {number} begins with no day such as 2026-12-24"
                );
        }

        return days.ToImmutable();
    }

    public bool Equals(Excepted? other) =>
        other is not null && ToString() == other.ToString() && OfFile.SetEquals(other.OfFile);

    public override int GetHashCode() => ToString().GetHashCode(StringComparison.Ordinal);

    public static string Write(DateOnly day) => day.ToString(DayFormat, CultureInfo.InvariantCulture);

    public static bool TryDay(string text, out DateOnly day) =>
        DateOnly.TryParseExact(text, DayFormat, CultureInfo.InvariantCulture, DateTimeStyles.None, out day);
}

/// <summary>The moments of another rhythm, but for those of some days.</summary>
public sealed record Excepting(Rhythm Of, Excepted Except) : Rhythm
{
    public override DateTimeOffset? After(DateTimeOffset moment, TimeZoneInfo zone)
    {
        var from = moment;
        while (Of.After(from, zone) is { } next)
        {
            var day = DateOnly.FromDateTime(WallClock.Of(next, zone));
            if (!Except.Has(day))
                return next;
            // Not from moment to moment: a day may have thousands. A clock set back at midnight shows a day twice.
            var over = WallClock.At(day.AddDays(1).ToDateTime(TimeOnly.MinValue), zone).AddTicks(-1);
            from = over > next ? over : next;
        }

        return null;
    }

    public override string ToString() => $"{Of}, but not on {Except}";
}
