using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace CalmSentry.Cli.Words;

/// <summary>
/// Everything the client prints goes through here. Texts come from programs, arguments and files that others control,
/// and a
/// terminal obeys what is in them: control codes are shown as text (<c>\x1b</c>), and only the client's own few are
/// passed on.
/// </summary>
internal sealed class Terminal(TextWriter to) : TextWriter
{
    private const char Mark = '\uFDD0';

    /// <summary>Known to this process alone, so that no text from elsewhere can pass for a code of ours.</summary>
    private static readonly string Key = Mark + Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(8));

    private static readonly string[] Codes =
    [
        "\u001b[31m",
        "\u001b[0m",
        "\u001b[?1049h\u001b[?25l",
        "\u001b[?25h\u001b[?1049l",
        "\u001b[H\u001b[J",
        "\u001b[K",
    ];

    /// <summary>Each stands for one of the client's own codes until it is written.</summary>
    public static readonly string Red = Key + "0",
        Plain = Key + "1",
        OtherScreen = Key + "2",
        Back = Key + "3",
        Home = Key + "4",
        ToLineEnd = Key + "5";

    public override Encoding Encoding => to.Encoding;

    public static void TakeOver()
    {
        Console.SetOut(new Terminal(Console.Out));
        Console.SetError(new Terminal(Console.Error));
    }

    public override void Write(char value) => Write(value.ToString());

    public override void Write(char[] buffer, int index, int count) => Write(new string(buffer, index, count));

    public override void Write(string? value)
    {
        if (value is not null)
            to.Write(Shown(value));
    }

    public override void WriteLine(string? value) => Write(value + "\n");

    public override void WriteLine() => Write("\n");

    public override void Flush() => to.Flush();

    private static string Shown(string text)
    {
        var first = FirstOdd(text);
        if (first < 0)
            return text;
        var shown = new StringBuilder(text, 0, first, text.Length + 32);
        for (var i = first; i < text.Length; i++)
        {
            var c = text[i];
            if (c == Mark && string.CompareOrdinal(text, i, Key, 0, Key.Length) == 0 && i + Key.Length < text.Length)
            {
                i += Key.Length;
                shown.Append(Codes[text[i] - '0']);
            }
            else if (!IsOdd(c))
                shown.Append(c);
            else if (c == '\r' && i + 1 < text.Length && text[i + 1] == '\n')
                continue;
            else
                shown.Append(CultureInfo.InvariantCulture, $"{(c < 256 ? $"\\x{(int)c:x2}" : $"\\u{(int)c:x4}")}");
        }

        return shown.ToString();
    }

    private static int FirstOdd(string text)
    {
        for (var i = 0; i < text.Length; i++)
            if (IsOdd(text[i]))
                return i;
        return -1;
    }

    /// <summary>
    /// Control codes of both sets but tab and line end, and what turns the direction of writing around.
    /// </summary>
    private static bool IsOdd(char c) =>
        (char.IsControl(c) && c is not ('\n' or '\t'))
        || c is (>= '\u202a' and <= '\u202e') or (>= '\u2066' and <= '\u2069') or '\u2028' or '\u2029' or Mark;
}
