using System.Buffers.Binary;
using System.IO.Compression;

namespace CalmSentry.Engine.Windows;

/// <summary>A picture as a file (PNG, ISO/IEC 15948): 8 bits of red, green and blue each.</summary>
internal static class Png
{
    private static readonly uint[] Table = MakeTable();

    private static ReadOnlySpan<byte> Sign => [0x89, (byte)'P', (byte)'N', (byte)'G', 13, 10, 26, 10];

    /// <param name="pixels">Row by row from the top, four bytes each: red, green, blue, and one that is left out.</param>
    /// <param name="step">Of every so many pixels of a row, and rows, one is taken.</param>
    public static byte[] Of(ReadOnlySpan<byte> pixels, int width, int height, int step = 1)
    {
        var (wide, high) = ((width + step - 1) / step, (height + step - 1) / step);
        using var file = new MemoryStream();
        file.Write(Sign);
        Span<byte> head = stackalloc byte[13];
        head.Clear();
        BinaryPrimitives.WriteInt32BigEndian(head, wide);
        BinaryPrimitives.WriteInt32BigEndian(head[4..], high);
        (head[8], head[9]) = (8, 2); // bits, and the kind of colour
        Part(file, "IHDR"u8, head);
        using (var packed = new MemoryStream())
        {
            using (var zlib = new ZLibStream(packed, CompressionLevel.Fastest, leaveOpen: true))
            {
                var row = new byte[1 + (wide * 3)]; // not filtered, and the pixels
                for (var y = 0; y < height; y += step)
                {
                    var line = pixels.Slice(y * width * 4, width * 4);
                    for (int x = 0, to = 1; x < line.Length; x += 4 * step, to += 3)
                        (row[to], row[to + 1], row[to + 2]) = (line[x], line[x + 1], line[x + 2]);
                    zlib.Write(row);
                }
            }

            Part(file, "IDAT"u8, packed.GetBuffer().AsSpan(0, (int)packed.Length));
        }

        Part(file, "IEND"u8, []);
        return file.ToArray();
    }

    private static void Part(MemoryStream file, ReadOnlySpan<byte> kind, ReadOnlySpan<byte> content)
    {
        Span<byte> number = stackalloc byte[4];
        BinaryPrimitives.WriteInt32BigEndian(number, content.Length);
        file.Write(number);
        file.Write(kind);
        file.Write(content);
        BinaryPrimitives.WriteUInt32BigEndian(number, ~Checked(Checked(uint.MaxValue, kind), content));
        file.Write(number);
    }

    private static uint Checked(uint sum, ReadOnlySpan<byte> bytes)
    {
        foreach (var one in bytes)
            sum = Table[(sum ^ one) & 0xff] ^ (sum >> 8);
        return sum;
    }

    private static uint[] MakeTable()
    {
        var table = new uint[256];
        for (var i = 0u; i < table.Length; i++)
        {
            var sum = i;
            for (var bit = 0; bit < 8; bit++)
                sum = (sum & 1) != 0 ? 0xedb88320 ^ (sum >> 1) : sum >> 1;
            table[i] = sum;
        }

        return table;
    }
}
