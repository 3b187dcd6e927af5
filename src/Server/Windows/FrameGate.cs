using System.Buffers.Binary;

namespace CalmSentry.Server.Windows;

/// <summary>
/// What a viewer sends to a display by the remote framebuffer protocol (RFC 6143, 7.1 to 7.5), message by message however it is cut into
/// pieces: what acts (pointer, keys, clipboard) goes through for one who may, what would change the display's size for nobody.
/// </summary>
/// <param name="mayAct">Whether what acts goes through now.</param>
/// <param name="acting">Called before something that acts goes through.</param>
internal sealed class FrameGate(Func<bool> mayAct, Action acting)
{
    /// <summary>The version, the kind of security, and that others go on seeing it: one byte each but the first, as they stand.</summary>
    private const int Greeting = 12 + 1 + 1;

    private const int LongestMessage = 256 << 10;

    private readonly List<byte> begun = [];
    private int greeted;

    /// <returns>What goes through; null: it is no message there is, or too long a one.</returns>
    public byte[]? Through(ReadOnlySpan<byte> bytes)
    {
        var through = new List<byte>();
        var greeting = Math.Min(Greeting - greeted, bytes.Length);
        through.AddRange(bytes[..greeting]);
        greeted += greeting;
        begun.AddRange(bytes[greeting..]);
        while (begun.Count > 0)
        {
            var all = System.Runtime.InteropServices.CollectionsMarshal.AsSpan(begun);
            if (LengthOf(all) is not { } length || length > LongestMessage)
                return null;
            if (length == 0 || begun.Count < length)
                break;
            if (Passes(all[0]))
                through.AddRange(all[..length]);
            begun.RemoveRange(0, length);
        }

        return [.. through];
    }

    private bool Passes(byte kind)
    {
        switch (kind)
        {
            case SetDesktopSize:
                return false;
            case Key or Pointer or CutText or Extended:
                if (!mayAct())
                    return false;
                acting();
                return true;
            default:
                return true;
        }
    }

    private const byte SetPixelFormat = 0,
        SetEncodings = 2,
        UpdateRequest = 3,
        Key = 4,
        Pointer = 5,
        CutText = 6,
        ContinuousUpdates = 150,
        Fence = 248,
        SetDesktopSize = 251,
        Extended = 255;

    /// <returns>Its length in bytes; 0: not enough of it is there to say; null: no such message.</returns>
    private static int? LengthOf(ReadOnlySpan<byte> message) =>
        message[0] switch
        {
            SetPixelFormat => 20,
            SetEncodings => message.Length < 4 ? 0 : 4 + (4 * BinaryPrimitives.ReadUInt16BigEndian(message[2..])),
            UpdateRequest or ContinuousUpdates => 10,
            Key => 8,
            Pointer => 6,
            // Where the sign is set it is the length of the extended form.
            CutText => message.Length < 8
                ? 0
                : 8 + (int)Math.Min(LongestMessage, Math.Abs((long)BinaryPrimitives.ReadInt32BigEndian(message[4..]))),
            Fence => message.Length < 9 ? 0 : 9 + message[8],
            SetDesktopSize => message.Length < 8 ? 0 : 8 + (16 * message[6]),
            Extended => message.Length < 2 ? 0
            : message[1] == 0 ? 12
            : null,
            _ => null,
        };
}
