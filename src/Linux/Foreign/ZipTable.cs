using System.Buffers.Binary;

namespace CalmSentry.Linux.Foreign;

/// <summary>The table of members at the end of a zip archive (APPNOTE.TXT 4.3.12, 4.3.14, 4.3.16), counted before anybody keeps it.</summary>
internal static class ZipTable
{
    private const int End = 22,
        End64 = 56,
        Locator = 20,
        Head = 46,
        LongestComment = 65535;

    /// <summary>How many members it lists, counted up to one more than <paramref name="most"/>: what it says of itself may be wrong.</summary>
    public static int Members(Stream archive, int most)
    {
        archive.Position = Begin(archive) ?? archive.Length;
#pragma warning disable CA2000 // it only reads ahead; the archive is its caller's
        var table = new BufferedStream(archive, 1 << 16);
#pragma warning restore CA2000
        var head = new byte[Head];
        var count = 0;
        while (
            count <= most
            && table.ReadAtLeast(head, Head, throwOnEndOfStream: false) == Head
            && head.AsSpan().StartsWith("PK\x01\x02"u8)
        )
        {
            count++;
            for (
                var rest = Length(head, 28) + Length(head, 30) + Length(head, 32);
                rest > 0 && table.ReadByte() >= 0;
                rest--
            ) { }
        }

        archive.Position = 0;
        return count;
    }

    private static int Length(byte[] head, int at) => BinaryPrimitives.ReadUInt16LittleEndian(head.AsSpan(at));

    /// <summary>Where the table begins; null: there is none.</summary>
    private static long? Begin(Stream archive)
    {
        var length = archive.Length;
        var tail = new byte[(int)Math.Min(length, End + LongestComment + Locator)];
        archive.Position = length - tail.Length;
        archive.ReadExactly(tail);
        var at = tail.AsSpan().LastIndexOf("PK\x05\x06"u8);
        if (at < 0 || tail.Length - at < End)
            return null;
        long begin = BinaryPrimitives.ReadUInt32LittleEndian(tail.AsSpan(at + 16));
        if (at >= Locator && tail.AsSpan(at - Locator).StartsWith("PK\x06\x07"u8))
        {
            var end64 = BinaryPrimitives.ReadInt64LittleEndian(tail.AsSpan(at - Locator + 8));
            if (end64 < 0 || end64 > length - End64)
                return null;
            var record = new byte[End64];
            archive.Position = end64;
            archive.ReadExactly(record);
            begin = BinaryPrimitives.ReadInt64LittleEndian(record.AsSpan(48));
        }

        return begin >= 0 && begin <= length ? begin : null;
    }
}
