using System.Text;
using CalmSentry.Contract.Keeper;
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
}
