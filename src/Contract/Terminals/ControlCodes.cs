namespace CalmSentry.Contract.Terminals;

/// <summary>
/// Tells control sequences from all else in what a program writes to its terminal (ECMA-48, section 5; UTF-8), however it is cut into
/// pieces.
/// </summary>
public abstract class ControlCodes
{
    /// <summary>Of a longer sequence nothing is handed on.</summary>
    public const int Longest = 4096;

    private const byte Escape = 0x1b,
        Cancel = 0x18,
        Substitute = 0x1a,
        Enquiry = 0x05,
        Bell = 0x07,
        FirstOfC1 = 0xc2;

    private readonly byte[] begun = new byte[Longest];
    private int length;
    private bool isText,
        escapes,
        isTooLong;

    /// <summary>Text, and controls of one byte but ENQ.</summary>
    protected abstract void Plain(ReadOnlySpan<byte> bytes);

    /// <summary>One whole sequence with its first byte; ENQ and the controls of the C1 set as UTF-8 are sequences, too.</summary>
    protected abstract void Code(ReadOnlySpan<byte> sequence);

    /// <summary>A sequence that is under way.</summary>
    protected ReadOnlySpan<byte> Begun => begun.AsSpan(0, length);

    /// <summary>From the beginning of a terminal's output.</summary>
    protected void Reset() => (length, isText, escapes, isTooLong) = (0, false, false, false);

    public void Read(ReadOnlySpan<byte> bytes)
    {
        while (!bytes.IsEmpty)
        {
            if (length == 0)
            {
                var next = bytes.IndexOfAny(Escape, FirstOfC1, Enquiry);
                if (next != 0)
                    Plain(next < 0 ? bytes : bytes[..next]);
                if (next < 0)
                    return;
                bytes = bytes[next..];
            }

            Take(bytes[0]);
            bytes = bytes[1..];
        }
    }

    private void Take(byte one)
    {
        if (length == 0)
        {
            Add(one);
            if (one == Enquiry)
                End();
        }
        else if (begun[0] == FirstOfC1)
            OfTwo(one);
        else if (one is Cancel or Substitute)
            Reset();
        else if (isText)
            OfText(one);
        else if (one == Escape)
        {
            Reset();
            Add(one);
        }
        // These are obeyed within a sequence.
        else if (one == Enquiry)
            Code([one]);
        else if (one < 0x20)
            Plain([one]);
        else
            OfSequence(one);
    }

    private void OfTwo(byte one)
    {
        if (one is >= 0x80 and <= 0x9f)
        {
            Add(one);
            End();
            return;
        }

        if (one is > 0x9f and <= 0xbf)
        {
            Add(one);
            Plain(Begun);
            Reset();
            return;
        }

        // The first byte of none: handed on, it could become one of a control with what follows a sequence that is not.
        Reset();
        if (one is Escape or FirstOfC1 or Enquiry)
            Take(one);
        else
            Plain([one]);
    }

    private void OfSequence(byte one)
    {
        Add(one);
        if (length == 2 && one is (byte)']' or (byte)'P' or (byte)'X' or (byte)'^' or (byte)'_')
            isText = true;
        else if (begun[1] == (byte)'[')
        {
            if (length > 2 && one is >= 0x40 and <= 0x7e)
                End();
        }
        else if (one >= 0x30)
            End();
    }

    private void OfText(byte one)
    {
        if (escapes && one != (byte)'\\')
        {
            // Another sequence begins.
            Reset();
            Add(Escape);
            OfSequence(one);
            return;
        }

        Add(one);
        if (escapes || one == Bell)
            End();
        else
            escapes = one == Escape;
    }

    private void Add(byte one)
    {
        if (length < Longest)
            begun[length++] = one;
        else
            isTooLong = true;
    }

    private void End()
    {
        if (!isTooLong)
            Code(Begun);
        Reset();
    }
}
