using System.Globalization;
using System.Text;
using CalmSentry.Contract.Terminals;

namespace CalmSentry.Keeper;

/// <summary>
/// What of a terminal's state lasts although what set it is not kept any more: private modes, keypad, character set, margins,
/// colours. It reads what is forgotten, in order.
/// </summary>
internal sealed class ScreenModes : ControlCodes
{
    private const int LongestColours = 256,
        MostModes = 64;

    private readonly Dictionary<int, bool> modes = [];
    private string keypad = "",
        charset = "",
        margins = "",
        colours = "";

    public void Clear()
    {
        modes.Clear();
        keypad = charset = margins = colours = "";
        Reset();
    }

    protected override void Plain(ReadOnlySpan<byte> bytes) { }

    protected override void Code(ReadOnlySpan<byte> sequence)
    {
        if (sequence.Length < 2 || sequence[0] != 0x1b)
            return;
        switch (sequence[1])
        {
            case (byte)'=' or (byte)'>':
                keypad = Encoding.Latin1.GetString(sequence);
                break;
            case (byte)'(':
                charset = Encoding.Latin1.GetString(sequence);
                break;
            case (byte)'c':
                Forget();
                break;
            case (byte)'[':
                Sequence(Encoding.Latin1.GetString(sequence));
                break;
        }
    }

    private void Sequence(string text)
    {
        var (inner, final) = (text[2..^1], text[^1]);
        if (inner.StartsWith('?') && final is 'h' or 'l')
        {
            foreach (var number in inner[1..].Split(';'))
                if (
                    int.TryParse(number, NumberStyles.None, CultureInfo.InvariantCulture, out var mode)
                    && (modes.ContainsKey(mode) || modes.Count < MostModes)
                )
                    modes[mode] = final == 'h';
        }
        else if (final == 'r' && !inner.StartsWith('?'))
            margins = text;
        else if (final == 'm' && (inner.Length == 0 || char.IsAsciiDigit(inner[0]) || inner[0] == ';'))
            colours =
                inner is "" or "0"
                || colours.Length > LongestColours
                || inner.StartsWith("0;", StringComparison.Ordinal)
                    ? text
                    : colours + text;
        else if (final == 'p' && inner == "!")
            Forget();
    }

    private void Forget()
    {
        modes.Clear();
        keypad = charset = margins = colours = "";
    }

    /// <summary>What puts a terminal that was just switched on into this state, and the beginning of a sequence that is under way.</summary>
    public byte[] Write()
    {
        var text = new StringBuilder();
        foreach (var (mode, on) in modes)
            text.Append(CultureInfo.InvariantCulture, $"\u001b[?{mode}{(on ? 'h' : 'l')}");
        text.Append(keypad).Append(charset).Append(margins).Append(colours);
        return [.. Encoding.Latin1.GetBytes(text.ToString()), .. Begun];
    }
}
