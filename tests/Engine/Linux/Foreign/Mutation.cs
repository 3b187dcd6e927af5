using System.Text;

namespace CalmSentry.Tests.Engine.Linux.Foreign;

/// <summary>
/// Makes one input out of others: bits turned, parts cut, doubled, moved, taken from another input or from a list of
/// words that mean something to a reader.
/// </summary>
internal sealed class Mutation(int seed, IReadOnlyList<string> words)
{
    private const int Longest = 1 << 16;

    private readonly Random random = new(seed);

    public byte[] Of(IReadOnlyList<byte[]> inputs)
    {
        var bytes = Pick(inputs).ToList();
        for (var times = 1 + random.Next(6); times > 0; times--)
            Change(bytes, inputs);
        return bytes.Count > Longest ? [.. bytes.Take(Longest)] : [.. bytes];
    }

    private T Pick<T>(IReadOnlyList<T> all) => all[random.Next(all.Count)];

    private void Change(List<byte> bytes, IReadOnlyList<byte[]> inputs)
    {
        var at = random.Next(bytes.Count + 1);
        var length = Math.Min(bytes.Count - at, 1 + random.Next(1 << random.Next(10)));
        switch (random.Next(9))
        {
            case 0 when at < bytes.Count:
                bytes[at] ^= (byte)(1 << random.Next(8));
                break;
            case 1 when at < bytes.Count:
                bytes[at] = (byte)random.Next(256);
                break;
            case 2:
                bytes.RemoveRange(at, length);
                break;
            case 3:
                bytes.InsertRange(at, bytes.GetRange(at, length));
                break;
            case 4:
                bytes.InsertRange(at, Encoding.UTF8.GetBytes(Pick(words)));
                break;
            case 5:
                var other = Pick(inputs);
                var from = random.Next(other.Length + 1);
                bytes.InsertRange(at, other[from..Math.Min(other.Length, from + random.Next(200))]);
                break;
            case 6 when bytes.Count < Longest:
                var part = bytes.GetRange(at, Math.Min(length, 64));
                for (var times = random.Next(200); times > 0; times--)
                    bytes.InsertRange(at, part);
                break;
            case 7 when at + 4 <= bytes.Count:
                BitConverter
                    .GetBytes(Pick<int>([0, 1, -1, int.MaxValue, int.MinValue, 255, 65535, 1 << 24]))
                    .CopyTo(System.Runtime.InteropServices.CollectionsMarshal.AsSpan(bytes)[at..]);
                break;
            default:
                bytes.Insert(
                    at,
                    (byte)
                        Pick<int>([0, '\n', '"', '\'', '\\', '{', '[', ':', '&', '*', '#', ' ', ')', 0x7f, 0xc3, 0xff])
                );
                break;
        }
    }
}
