using System.Text;
using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Contract.Keeper;
using CalmSentry.Keeper;
using CsCheck;

namespace CalmSentry.Tests.Engine.Keeper;

public class MessageTests
{
    private static readonly Gen<string> Values = Gen.String[
        Gen.Char.Where(c => c != '\0' && !char.IsSurrogate(c)),
        0,
        200
    ];

    [Fact]
    public void Any_value_without_nul_passes_unchanged_and_in_order() =>
        Values
            .Array[0, 30]
            .Sample(values =>
            {
                var message = new Message(KeeperWord.Launch);
                foreach (var value in values)
                    message.With("argument", value);
                var bytes = message.ToBytes().ToArray();
                Assert.True(Message.TryReadHead(bytes, out var word, out var length));
                Assert.Equal((KeeperWord.Launch, bytes.Length - Message.HeadLength), (word, length));
                var read = new List<string>();
                foreach (var field in new Fields(bytes.AsSpan(Message.HeadLength)))
                    read.Add(Encoding.UTF8.GetString(field.Value));
                Assert.Equal(values, read);
            });

    [Fact]
    public void A_body_of_impossible_length_is_refused() =>
        Assert.Throws<InvalidDataException>(() => Message.TryReadHead([0xff, 0xff, 0xff, 0x7f, 1], out _, out _));

    [Fact]
    public void Any_bytes_are_read_without_failing() =>
        Gen
            .Byte.Array[0, 300]
            .Sample(bytes =>
            {
                var seen = 0;
                foreach (var field in new Fields(bytes))
                    seen += field.Key.Length + field.Value.Length;
                Assert.True(seen <= bytes.Length);
            });

    /// <summary>A server of a later version may say more than this keeper knows.</summary>
    [Fact]
    public unsafe void An_order_with_a_field_that_is_not_known_is_the_order_without_it()
    {
        Assert.Equal(Read(more: false), Read(more: true));

        static (string? Program, string? First, long Uid, long Gid, bool Terminal) Read(bool more)
        {
            var message = new Message(KeeperWord.Launch);
            message.With(LaunchField.Program, "/usr/bin/printenv");
            if (more)
                message.With("of-a-later-version", "7");
            message.With(LaunchField.Argument, "printenv");
            message.With(LaunchField.UserId, "65534");
            if (more)
                message.With("argument-of-a-later-version", "");
            message.With(LaunchField.GroupId, "65533");
            byte[] body = [.. message.ToBytes().ToArray()[Message.HeadLength..], 0];
            fixed (byte* bytes = body)
            {
                var order = Enter.Order.Of(bytes, body.Length - 1);
                var read = (Text(order.Program), Text(order.Argv[0]), order.Uid, order.Gid, order.Terminal);
                order.Dispose();
                return read;
            }
        }

        static string? Text(byte* text) => System.Runtime.InteropServices.Marshal.PtrToStringUTF8((nint)text);
    }

    /// <summary>The same over HTTP: what a client does not know of an answer, it passes over.</summary>
    [Fact]
    public void An_answer_with_a_field_that_is_not_known_is_the_answer_without_it()
    {
        const string fields = "\"code\":\"started\",\"came-true\":true,\"said\":\"gate-counter is running\"";
        var plain = JsonSerializer.Deserialize("{" + fields + "}", ApiJson.Plain.Answer);
        var more = JsonSerializer.Deserialize(
            "{\"of-a-later-version\":[{\"a\":1}]," + fields + ",\"more\":{}}",
            ApiJson.Plain.Answer
        );
        Assert.Equivalent(plain, more, strict: true);
    }
}
