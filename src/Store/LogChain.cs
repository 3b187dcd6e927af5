using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;

namespace CalmSentry.Store;

/// <summary>
/// How entries of the logbook are chained: each carries the digest of what is in it, and a hash of the hash of the entry
/// before it and that digest. Whoever changes, removes, adds or moves an entry has to make every hash after it anew; and
/// whoever does that no longer has the hash that somebody else was given (SHA-256, FIPS 180-4).
/// </summary>
internal static class LogChain
{
    /// <summary>The hash before the first entry there ever was.</summary>
    public static byte[] Start { get; } = SHA256.HashData("calm-sentry logbook 1"u8);

    /// <summary>
    /// Of what is in an entry: of each column in its order, a letter for its kind (i, t, or n for nothing) and its length
    /// in bytes before it, so that nothing can be moved from one to the next.
    /// </summary>
    public static byte[] Digest(IEnumerable<object?> columns)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        Span<byte> head = stackalloc byte[5];
        foreach (var column in columns)
        {
            var (kind, bytes) = column switch
            {
                null => ('n', []),
                string text => ('t', Encoding.UTF8.GetBytes(text)),
                _ => ('i', Number(Convert.ToInt64(column, System.Globalization.CultureInfo.InvariantCulture))),
            };
            head[0] = (byte)kind;
            BinaryPrimitives.WriteInt32BigEndian(head[1..], bytes.Length);
            hash.AppendData(head);
            hash.AppendData(bytes);
        }

        return hash.GetHashAndReset();
    }

    /// <summary>The hash of an entry.</summary>
    /// <param name="before">That of the entry before it.</param>
    public static byte[] Next(ReadOnlySpan<byte> before, ReadOnlySpan<byte> digest) =>
        SHA256.HashData((byte[])[.. before, .. digest]);

    private static byte[] Number(long value)
    {
        var bytes = new byte[sizeof(long)];
        BinaryPrimitives.WriteInt64BigEndian(bytes, value);
        return bytes;
    }
}
