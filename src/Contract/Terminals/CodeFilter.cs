using System.Buffers;
using System.Buffers.Text;

namespace CalmSentry.Contract.Terminals;

/// <summary>Whether a sequence, with its first byte, goes through.</summary>
public delegate bool CodePasses(ReadOnlySpan<byte> sequence);

/// <summary>What becomes of single bytes that are controls of the C1 set to a terminal that does not read UTF-8.</summary>
public enum EightBits
{
    /// <summary>They go through.</summary>
    Pass,

    /// <summary>They go through as part of a character of UTF-8.</summary>
    InCharacters,

    /// <summary>None goes through, whatever it is part of: the terminal reads bytes, not characters.</summary>
    Never,
}

/// <summary>Hands on what a program wrote to its terminal, without some of its control sequences.</summary>
public sealed class CodeFilter(CodePasses passes, EightBits eightBits = EightBits.Pass) : ControlCodes
{
    private ArrayBufferWriter<byte> through = new();

    /// <summary>Bytes of a character that are still to come.</summary>
    private int toCome;

    /// <summary>What goes through of these bytes, and of a sequence that began before them.</summary>
    public ReadOnlyMemory<byte> Through(ReadOnlySpan<byte> bytes)
    {
        through = new(Math.Max(1, bytes.Length));
        Read(bytes);
        return through.WrittenMemory;
    }

    protected override void Plain(ReadOnlySpan<byte> bytes)
    {
        if (eightBits == EightBits.Pass)
        {
            through.Write(bytes);
            return;
        }

        var from = 0;
        for (var at = 0; at < bytes.Length; at++)
        {
            var one = bytes[at];
            var continues = toCome > 0 && one is >= 0x80 and <= 0xbf;
            toCome =
                continues ? toCome - 1
                : one is >= 0xc2 and <= 0xdf ? 1
                : one is >= 0xe0 and <= 0xef ? 2
                : one is >= 0xf0 and <= 0xf4 ? 3
                : 0;
            if (one is < 0x80 or > 0x9f || (continues && eightBits == EightBits.InCharacters))
                continue;
            through.Write(bytes[from..at]);
            from = at + 1;
        }

        through.Write(bytes[from..]);
    }

    protected override void Code(ReadOnlySpan<byte> sequence)
    {
        toCome = 0;
        if (passes(sequence))
            through.Write(sequence);
    }

    /// <summary>
    /// What a terminal answers to by typing (device attributes and status, modes, colours, settings, ENQ): where it is only shown
    /// once more, nobody is to answer.
    /// </summary>
    public static bool AsksNothing(ReadOnlySpan<byte> sequence)
    {
        if (sequence.Length < 2)
            return false; // ENQ
        var last = sequence[^1];
        return sequence[1] switch
        {
            (byte)'[' => !(
                last is (byte)'c' or (byte)'n' or (byte)'x'
                || (last == (byte)'p' && sequence[^2] == (byte)'$')
                || (last == (byte)'q' && sequence[2] == (byte)'>')
                || (last == (byte)'u' && sequence[2] == (byte)'?')
                || last == (byte)'t'
            ),
            (byte)']' => sequence.IndexOf((byte)'?') < 0,
            (byte)'P' => sequence.Length < 4 || !(sequence[2] is (byte)'$' or (byte)'+' && sequence[3] == (byte)'q'),
            (byte)'Z' => false,
            _ => true,
        };
    }

    /// <summary>
    /// What only a program uses that draws its whole screen: the cursor is put to another line, the screen is cleared, or there is another
    /// screen.
    /// </summary>
    public static bool Draws(ReadOnlySpan<byte> sequence)
    {
        if (sequence.Length < 3 || sequence[1] != (byte)'[')
            return false;
        return sequence[^1] switch
        {
            (byte)'A' or (byte)'E' or (byte)'F' or (byte)'H' or (byte)'L' or (byte)'d' or (byte)'f' => true,
            (byte)'h' => sequence[2] == (byte)'?' && sequence.IndexOf("1049"u8) >= 0,
            _ => false,
        };
    }

    private static ReadOnlySpan<byte> PlainFinals => "@ABCDEFGHIJKLMPSTXZ`abcdefghlmnrsu"u8;

    /// <summary>Private modes that end with the view (<see cref="Afterwards"/>) and change nothing outside of it.</summary>
    private static bool IsModeInside(int mode) =>
        mode
            is 1
                or 5
                or 6
                or 7
                or 9
                or 12
                or 25
                or 45
                or 47
                or 66
                or 69
                or (>= 1000 and <= 1006)
                or 1015
                or 1016
                or (>= 1047 and <= 1049)
                or 2004
                or 2026;

    /// <summary>
    /// What changes only what is seen inside: no titles, colours or clipboard of the window, no printing, no sizes, no keyboard that is
    /// locked or remapped.
    /// </summary>
    public static bool StaysInside(ReadOnlySpan<byte> sequence)
    {
        // Nothing but printable ASCII is in one that is known: bytes above could become a control with what follows.
        if (
            sequence.Length < 2
            || sequence[0] != 0x1b
            || sequence[1..].ContainsAnyExceptInRange((byte)0x20, (byte)0x7e)
        )
            return false;
        var (second, last) = (sequence[1], sequence[^1]);
        if (second != (byte)'[')
            return second
                    is (byte)'7'
                        or (byte)'8'
                        or (byte)'='
                        or (byte)'>'
                        or (byte)'D'
                        or (byte)'E'
                        or (byte)'H'
                        or (byte)'M'
                || (sequence.Length == 3 && second is (byte)'(' or (byte)')' or (byte)'*' or (byte)'+' or (byte)'#');
        var inner = sequence[2..^1];
        if (inner.Length > 0 && inner[0] == (byte)'?')
            return last switch
            {
                (byte)'h' or (byte)'l' or (byte)'s' or (byte)'r' => AllInside(inner[1..]),
                (byte)'J' or (byte)'K' or (byte)'n' => true,
                (byte)'p' => inner[^1] == (byte)'$',
                _ => false,
            };
        if (inner.Length > 0 && inner[0] is (byte)'>' or (byte)'=' or (byte)'<')
            return last == (byte)'c';
        if (inner.Length > 0 && inner[^1] is >= 0x20 and <= 0x2f)
            return last switch
            {
                (byte)'q' => inner[^1] is (byte)' ' or (byte)'"', // the cursor's form, what is protected
                (byte)'p' => inner[^1] is (byte)'!' or (byte)'$',
                _ => false,
            };
        // A terminal does as often as it is told.
        if (last is (byte)'b' or (byte)'I' or (byte)'Z')
            return inner.Length == 0
                || (
                    Utf8Parser.TryParse(inner, out int times, out var read)
                    && read == inner.Length
                    && times <= MostRepeats
                );
        if (last is (byte)'h' or (byte)'l')
            return inner.SequenceEqual("4"u8) || inner.SequenceEqual("20"u8);
        return PlainFinals.Contains(last);
    }

    private const int MostRepeats = 1000;

    private static bool AllInside(ReadOnlySpan<byte> numbers)
    {
        foreach (var range in numbers.Split((byte)';'))
            if (
                !Utf8Parser.TryParse(numbers[range], out int mode, out var read)
                || read != numbers[range].Length
                || !IsModeInside(mode)
            )
                return false;
        return true;
    }

    /// <summary>
    /// Puts a terminal back to what it was before it was joined: all that <see cref="StaysInside"/> lets through. Tab stops are set anew at
    /// each eighth column, for 320 of them.
    /// </summary>
    public static ReadOnlySpan<byte> Afterwards => BackToUsual;

    private static readonly byte[] BackToUsual =
    [
        .. "\u001b[?1000;1001;1002;1003;1004;1005;1006;1015;1016;9l\u001b[?2004;2026;5;69l\u001b[?1049l\u001b[!p\u001b[?7;25h\u001b[?12l\u001b[20l\u001b[4l\u001b[?6l\u001b[r\u001b[0m\u001b[0 q\u001b(B\u001b)B\u000f\u001b>\u001b[?1l\r\u001b[3g"u8,
        .. System.Text.Encoding.ASCII.GetBytes(string.Concat(Enumerable.Repeat("\u001b[8C\u001bH", 40))),
        (byte)'\r',
    ];
}
