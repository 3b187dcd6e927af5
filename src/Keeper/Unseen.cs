using CalmSentry.Contract.Terminals;

namespace CalmSentry.Keeper;

/// <summary>
/// Answers for a terminal that nobody sees what every terminal answers, or a program that asks at its start would wait for ever: what it is
/// (ECMA-48, DA; a VT220 with colours) and that it is well (DSR). Where the cursor is, it does not know.
/// </summary>
/// <param name="type">Types an answer.</param>
internal sealed class Unseen(Unseen.Types type) : ControlCodes
{
    public delegate void Types(ReadOnlySpan<byte> keys);

    protected override void Plain(ReadOnlySpan<byte> bytes) { }

    protected override void Code(ReadOnlySpan<byte> sequence)
    {
        if (sequence.SequenceEqual("\u001b[c"u8) || sequence.SequenceEqual("\u001b[0c"u8))
            type("\u001b[?62;22c"u8);
        else if (sequence.SequenceEqual("\u001b[>c"u8) || sequence.SequenceEqual("\u001b[>0c"u8))
            type("\u001b[>1;0;0c"u8);
        else if (sequence.SequenceEqual("\u001b[5n"u8))
            type("\u001b[0n"u8);
    }

    /// <summary>From here on somebody answers.</summary>
    public void Seen() => Reset();
}
