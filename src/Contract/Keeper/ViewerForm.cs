using System.Buffers.Binary;

namespace CalmSentry.Contract.Keeper;

/// <summary>
/// What goes over the socket on which a keeper lets others see the terminal of its program. The head is that of a
/// <see cref="Message"/>: u32 little-endian length of the body, u8 of this. A place in a terminal's output is one number, the bytes
/// that were ever written to it in this run before that place.
/// </summary>
public enum ViewerWord : byte
{
    None = 0,

    /// <summary>
    /// From a viewer, first: let me see. Body: u64, the place to go on at; <see cref="ViewerForm.AllThereIs"/>: from the first that is
    /// still kept.
    /// </summary>
    Join = 1,

    /// <summary>From a viewer: keys, as a terminal sends them.</summary>
    Keys = 2,

    /// <summary>From a viewer: the terminal has another size. Body: u16 columns, u16 rows.</summary>
    Size = 3,

    /// <summary>
    /// To a viewer, first, and again behind each gap: what follows begins here. Body: u64 place, u64 place where what was there already
    /// ends, u64 bytes left out before, u16 columns, u16 rows, then what puts a terminal into the state it had at the place.
    /// </summary>
    Begins = 65,

    /// <summary>To a viewer: what the program wrote.</summary>
    Wrote = 66,

    /// <summary>To a viewer: the terminal has another size. Body: u16 columns, u16 rows.</summary>
    Resized = 67,
}

/// <param name="Place">Of what follows.</param>
/// <param name="Until">What is before it was there already.</param>
/// <param name="LeftOut">Bytes before the place that this viewer did not get.</param>
public readonly record struct ViewBegins(long Place, long Until, long LeftOut, TerminalSize Size)
{
    public const int Length = 28;

    public void Write(Span<byte> into)
    {
        BinaryPrimitives.WriteInt64LittleEndian(into, Place);
        BinaryPrimitives.WriteInt64LittleEndian(into[8..], Until);
        BinaryPrimitives.WriteInt64LittleEndian(into[16..], LeftOut);
        Size.Write(into[24..]);
    }

    public static ViewBegins Read(ReadOnlySpan<byte> from) =>
        new(
            BinaryPrimitives.ReadInt64LittleEndian(from),
            BinaryPrimitives.ReadInt64LittleEndian(from[8..]),
            BinaryPrimitives.ReadInt64LittleEndian(from[16..]),
            TerminalSize.Read(from[24..])
        );
}

/// <summary>Of a terminal, in characters.</summary>
public readonly record struct TerminalSize(int Columns, int Rows)
{
    public const int Length = 4,
        Most = 1000,
        FewestColumns = 20,
        FewestRows = 5;

    /// <summary>What is sensible for people: 20x5 to 1000x1000.</summary>
    public bool IsAllowed => Columns is >= FewestColumns and <= Most && Rows is >= FewestRows and <= Most;

    public void Write(Span<byte> into)
    {
        BinaryPrimitives.WriteUInt16LittleEndian(into, (ushort)Columns);
        BinaryPrimitives.WriteUInt16LittleEndian(into[2..], (ushort)Rows);
    }

    public static TerminalSize Read(ReadOnlySpan<byte> from) =>
        new(BinaryPrimitives.ReadUInt16LittleEndian(from), BinaryPrimitives.ReadUInt16LittleEndian(from[2..]));

    /// <returns>Null: no size such as 120x40.</returns>
    public static TerminalSize? Parse(ReadOnlySpan<char> text)
    {
        var times = text.IndexOf('x');
        return
            times > 0
            && int.TryParse(text[..times], System.Globalization.NumberStyles.None, null, out var columns)
            && int.TryParse(text[(times + 1)..], System.Globalization.NumberStyles.None, null, out var rows)
            ? new(columns, rows)
            : null;
    }

    public override string ToString() => FormattableString.Invariant($"{Columns}x{Rows}");
}

public static class ViewerForm
{
    /// <summary>The socket, in the run directory.</summary>
    public const string Socket = "viewers";

    public const long AllThereIs = -1;

    /// <summary>Longest body, in bytes.</summary>
    public const int Longest = 16384;

    /// <summary>So many see one terminal at a time.</summary>
    public const int MostViewers = 32;
}
