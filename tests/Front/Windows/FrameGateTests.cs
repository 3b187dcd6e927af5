using CalmSentry.Server.Windows;
using CsCheck;

namespace CalmSentry.Tests.Front.Windows;

/// <summary>What a viewer sends to a display: who only sees does nothing there, however the messages are cut into pieces.</summary>
public class FrameGateTests
{
    private static readonly byte[] Greeting = [.. "RFB 003.008\n"u8, 1, 1];

    /// <summary>A message that only sees, and one that acts.</summary>
    private static readonly Gen<(byte[] Bytes, bool Acts)> Message = Gen.OneOf(
        Gen.Const(((byte[])[3, 1, 0, 0, 0, 0, 0, 9, 0, 9], false)),
        Gen.Const(((byte[])[0, .. new byte[19]], false)),
        Gen.Int[0, 5].Select(many => ((byte[])[2, 0, 0, (byte)many, .. new byte[many * 4]], false)),
        Gen.Byte.Array[0, 20].Select(more => ((byte[])[248, 0, 0, 0, 0, 0, 0, 0, (byte)more.Length, .. more], false)),
        Gen.Byte.Select(key => ((byte[])[4, 1, 0, 0, 0, 0, 0, key], true)),
        Gen.Select(Gen.Byte, Gen.Byte).Select((x, y) => ((byte[])[5, 1, 0, x, 0, y], true)),
        Gen.Byte.Array[0, 50].Select(text => ((byte[])[6, 0, 0, 0, 0, 0, 0, (byte)text.Length, .. text], true)),
        Gen.Byte.Select(key => ((byte[])[255, 0, 0, 1, .. new byte[7], key], true))
    );

    [Fact]
    public void What_acts_goes_through_for_one_who_may_and_the_rest_for_all() =>
        Gen.Select(Message.Array[0, 20], Gen.Int[1, 40], Gen.Bool)
            .Sample(
                (messages, piece, mayAct) =>
                {
                    var acted = 0;
                    var gate = new FrameGate(() => mayAct, () => acted++);
                    byte[] sent = [.. Greeting, .. messages.SelectMany(one => one.Bytes)];
                    var through = sent.Chunk(piece).SelectMany(some => gate.Through(some)!).ToArray();
                    Assert.Equal(
                        [.. Greeting, .. messages.Where(one => mayAct || !one.Acts).SelectMany(one => one.Bytes)],
                        through
                    );
                    Assert.Equal(mayAct ? messages.Count(one => one.Acts) : 0, acted);
                }
            );

    [Fact]
    public void The_display_s_size_is_nobody_s_to_change_and_no_message_is_endless()
    {
        var gate = new FrameGate(() => true, () => { });
        _ = gate.Through(Greeting);
        Assert.Empty(gate.Through([251, 0, 9, 9, 9, 9, 1, 0, .. new byte[16]])!);
        Assert.Null(new FrameGate(() => true, () => { }).Through([.. Greeting, 77]));
        Assert.Null(new FrameGate(() => true, () => { }).Through([.. Greeting, 6, 0, 0, 0, 0x7f, 0xff, 0xff, 0xff]));
        Assert.Null(new FrameGate(() => true, () => { }).Through([.. Greeting, 6, 0, 0, 0, 0x80, 0, 0, 0]));
    }
}
