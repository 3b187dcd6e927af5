using System.Diagnostics.CodeAnalysis;
using System.Globalization;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Definitions;

/// <summary>Reads a value from its text; false when the text is none that is allowed.</summary>
public delegate bool TryRead<T>(string text, [MaybeNullWhen(false)] out T value);

/// <summary>How one value of a definition is written as text, in both directions.</summary>
/// <param name="Allowed">What is allowed, as an error says it.</param>
/// <param name="Write">The text that <paramref name="Read"/> reads back as the same value.</param>
public sealed record Form<T>(string Allowed, TryRead<T> Read, Func<T, string> Write)
{
    public KeyType Type { get; init; } = KeyType.Text;

    /// <summary>Regular expression its text matches (ECMA 262), or null.</summary>
    public string? Pattern { get; init; }

    /// <summary>All texts there are, or null.</summary>
    public IReadOnlyList<string>? Choices { get; init; }

    /// <summary>What is allowed in the place of the one word of a text that is wrong; null: the form says the same of each.</summary>
    public Func<string, string>? AllowedFor { get; init; }

    /// <summary>Words that people type for one of those, and which they mean.</summary>
    public IReadOnlyDictionary<string, string>? Often { get; init; }

    /// <summary>Which of its choices somebody probably meant, or null.</summary>
    public string? Nearest(string text) =>
        Choices is null ? null
        : Often?.GetValueOrDefault(text.ToLowerInvariant()) is { } meant ? meant
        : Spelling.Nearest(text.ToLowerInvariant(), Choices);

    public string? Example { get; init; }

    /// <summary>What a client does with it before it sends it.</summary>
    public Resolve Resolve { get; init; }
}

/// <summary>How a text typed at a command line is completed from where it is typed.</summary>
public enum Resolve
{
    /// <summary>It stays as it is.</summary>
    Not,

    /// <summary>It is a path, from the caller's directory.</summary>
    Path,

    /// <summary>It is a program, found as the caller's shell would find it.</summary>
    Program,
}

/// <summary>Whether a program runs at a terminal, and of which size where that is for people.</summary>
public readonly record struct AtTerminal(bool Has, ScreenSize? Screen);

/// <summary>The forms that values of a definition have.</summary>
public static class Forms
{
    public const string PathPattern = "^/";

    private const string LengthPattern = @"^(0|[0-9]+(\.[0-9]+)? ?(ms|s|min|h|d))$";

    public static Form<string> Text(string allowed, Func<string, bool>? isAllowed = null) =>
        new(
            allowed,
            (string text, [MaybeNullWhen(false)] out string value) =>
            {
                value = text;
                return isAllowed?.Invoke(text) ?? true;
            },
            text => text
        );

    public static Form<string> Path { get; } =
        Text("an absolute path", System.IO.Path.IsPathRooted) with
        {
            Pattern = PathPattern,
            Resolve = Resolve.Path,
        };

    public static Form<string> Program { get; } =
        Text("an absolute path", System.IO.Path.IsPathRooted) with
        {
            Pattern = PathPattern,
            Resolve = Resolve.Program,
        };

    public static Form<string> ServiceName { get; } =
        Text(Definitions.ServiceName.Allowed, Definitions.ServiceName.IsValid) with
        {
            Pattern = "^[a-z0-9][a-z0-9-]{0,47}$",
        };

    public static Form<string> Address { get; } =
        Text(NetworkAddress.Allowed, text => NetworkAddress.Read(text) is not null);

    public static Form<string> Url { get; } =
        Text(
            "an address such as http://127.0.0.1:7411/health",
            text => Uri.TryCreate(text, UriKind.Absolute, out var url) && url.Scheme is "http" or "https"
        );

    public static Form<TimeSpan> Length { get; } =
        new(Duration.Allowed, Duration.TryRead, Duration.Write) { Pattern = LengthPattern, Example = "10 s" };

    public static Form<TimeSpan> LengthFrom(TimeSpan least) =>
        Length with
        {
            Allowed = $"{Duration.Allowed}, at least {Duration.Write(least)}",
            Read = (string text, out TimeSpan length) => Duration.TryRead(text, out length) && length >= least,
        };

    public static Form<long> Size { get; } =
        Of(Core.Text.Size.Allowed, Core.Text.Size.Read, Core.Text.Size.Write) with
        {
            Pattern = @"^[0-9]+(\.[0-9]+)? ?(KiB|MiB|GiB|TiB|kB|MB|GB|TB)$",
            Example = "512 MiB",
        };

    /// <param name="of">What it is a percentage of, with the words before it: " of one processor".</param>
    public static Form<int> Percent(int least, int most, string of = "") =>
        Of(
            string.Create(CultureInfo.InvariantCulture, $"percent{of}, from {least} % to {most} %"),
            text => WholeOf(text.TrimEnd('%').TrimEnd(), least, most),
            number => string.Create(CultureInfo.InvariantCulture, $"{number} %")
        ) with
        {
            Pattern = "^[0-9]+ ?%?$",
            Example = "90 %",
        };

    public static Form<int> Whole(int least, int most) =>
        Of(
            string.Create(CultureInfo.InvariantCulture, $"a whole number from {least} to {most}"),
            text => WholeOf(text, least, most),
            number => number.ToString(CultureInfo.InvariantCulture)
        ) with
        {
            Type = KeyType.Number,
        };

    public static Form<double> Number(double least, double most) =>
        Of<double>(
            string.Create(CultureInfo.InvariantCulture, $"a number from {least} to {most}"),
            text =>
                double.TryParse(text, NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var number)
                && number >= least
                && number <= most
                    ? number
                    : null,
            number => number.ToString(CultureInfo.InvariantCulture)
        ) with
        {
            Type = KeyType.Number,
        };

    public static Form<bool> Switch { get; } =
        Choice(("true", true), ("false", false)) with
        {
            Type = KeyType.Switch,
            Choices = null,
        };

    /// <summary>None, one for its output, or one for people of a size.</summary>
    public static Form<AtTerminal> OfTerminal { get; } =
        Of<AtTerminal>(
            "true | false | a size such as 120x40 (columns x rows, from 20x5 to 1000x1000)",
            text =>
                text switch
                {
                    "true" => new(true, null),
                    "false" => new(false, null),
                    _ => ScreenSize.Read(text) is { } size ? new(true, size) : null,
                },
            at => at.Screen?.ToString() ?? (at.Has ? "true" : "false")
        ) with
        {
            Type = KeyType.Switch,
            Pattern = "^(true|false|[0-9]{2,4}x[0-9]{1,4})$",
        };

    public static Form<T> Choice<T>(params (string Word, T Value)[] words)
        where T : struct
    {
        var (names, values) = (new string[words.Length], new T[words.Length]);
        for (var i = 0; i < words.Length; i++)
            (names[i], values[i]) = words[i];
        return Of(
            string.Join(" | ", names),
            text => Array.IndexOf(names, text) is var at and >= 0 ? values[at] : (T?)null,
            value => names[Array.IndexOf(values, value)]
        ) with
        {
            Type = KeyType.Choice,
            Choices = names,
        };
    }

    /// <summary>One of some texts.</summary>
    public static Form<string> OneOf(params string[] words) =>
        Text(string.Join(" | ", words), words.Contains) with
        {
            Type = KeyType.Choice,
            Choices = words,
        };

    public static Form<T> Of<T>(string allowed, Func<string, T?> read, Func<T, string> write)
        where T : struct =>
        new(
            allowed,
            (string text, out T value) =>
            {
                var found = read(text);
                value = found.GetValueOrDefault();
                return found is not null;
            },
            write
        );

    public static int? WholeOf(string text, int least, int most) =>
        int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
        && number >= least
        && number <= most
            ? number
            : null;
}
