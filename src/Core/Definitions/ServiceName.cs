using System.Text;

namespace CalmSentry.Core.Definitions;

/// <summary>Short names: what a service is called in commands, files and addresses.</summary>
public static class ServiceName
{
    public const int Longest = 48;

    public const string Allowed =
        "lower-case letters a-z, digits and dashes, beginning with a letter or digit, at most 48 characters";

    public static bool IsValid(string name) =>
        name.Length is > 0 and <= Longest
        && name[0] != '-'
        && name.All(c => c is (>= 'a' and <= 'z') or (>= '0' and <= '9') or '-');

    /// <summary>
    /// Makes a short name of a title: "Fare ledger (North quay)" becomes <c>fare-ledger-north-quay</c>. Empty if
    /// nothing is left.
    /// </summary>
    public static string From(string title)
    {
        var name = new StringBuilder();
        foreach (var c in title.ToLowerInvariant())
        {
            if (c is (>= 'a' and <= 'z') or (>= '0' and <= '9'))
                name.Append(c);
            else if (Plain(c) is { } plain)
                name.Append(plain);
            else if (name.Length > 0 && name[^1] != '-')
                name.Append('-');
        }

        if (name.Length > Longest)
            name.Length = Longest;
        return name.ToString().TrimEnd('-');
    }

    private static string? Plain(char c) =>
        c switch
        {
            'å' or 'ä' or 'á' or 'à' or 'â' or 'ã' => "a",
            'æ' => "ae",
            'ø' or 'ö' or 'ó' or 'ò' or 'ô' or 'õ' => "o",
            'œ' => "oe",
            'é' or 'è' or 'ê' or 'ë' => "e",
            'í' or 'ì' or 'î' or 'ï' => "i",
            'ú' or 'ù' or 'û' or 'ü' => "u",
            'ß' => "ss",
            'ñ' => "n",
            'ç' => "c",
            'ð' => "d",
            'þ' => "th",
            _ => null,
        };
}
