using System.Text;

namespace CalmSentry.Core.Text;

/// <summary>
/// Values of an enumeration as the words that are stored and sent: <c>NeverLaunched</c> is <c>never-launched</c>.
/// </summary>
public static class Words
{
    public static string Of<T>(T value)
        where T : struct, Enum => Known<T>.Words.GetValueOrDefault(value) ?? Dashed(value.ToString());

    /// <exception cref="FormatException">There is no such value.</exception>
    public static T To<T>(string word)
        where T : struct, Enum => Find<T>(word) ?? throw new FormatException($"'{word}' is no {typeof(T).Name}");

    public static T? Find<T>(string word)
        where T : struct, Enum => Known<T>.Values.TryGetValue(word, out var value) ? value : null;

    /// <summary>Every word there is, in the order of the values.</summary>
    public static IReadOnlyCollection<string> All<T>()
        where T : struct, Enum => Known<T>.Values.Keys;

    /// <summary>Every entry and every situation that is written or read asks for several.</summary>
    private static class Known<T>
        where T : struct, Enum
    {
        public static readonly Dictionary<T, string> Words = Enum.GetValues<T>()
            .Distinct()
            .ToDictionary(value => value, value => Dashed(value.ToString()));

        public static readonly Dictionary<string, T> Values = Words.ToDictionary(
            known => known.Value,
            known => known.Key,
            StringComparer.Ordinal
        );
    }

    /// <summary>Lower case with dashes, as the keys of a definition are.</summary>
    public static string Dashed(string name)
    {
        var text = new StringBuilder();
        foreach (var c in name)
        {
            if (char.IsUpper(c) && text.Length > 0)
                text.Append('-');
            text.Append(char.ToLowerInvariant(c));
        }

        return text.ToString();
    }
}
