namespace CalmSentry.Linux.Foreign;

/// <summary>
/// Names and paths that one call keeps in memory: bounded in bytes, for a folder can hold more of them than there is memory. What
/// is called off ends at the next one.
/// </summary>
public sealed class Gathering(CancellationToken gone = default)
{
    /// <summary>Bytes of memory at most, in one call.</summary>
    public const long Most = 64L << 20;

    /// <summary>What a text costs beside its characters: the object, and its places in lists.</summary>
    private const int Each = 128;

    private long bytes;

    /// <summary>Makes room for a text that is to be kept.</summary>
    /// <exception cref="TooMuchException">There is none.</exception>
    public void Keep(string text) => Keep(text.Length * sizeof(char));

    /// <summary>Makes room for so many bytes.</summary>
    /// <exception cref="TooMuchException">There is none.</exception>
    /// <exception cref="OperationCanceledException">It was called off.</exception>
    public void Keep(long length)
    {
        gone.ThrowIfCancellationRequested();
        if ((bytes += length + Each) > Most)
            throw new TooMuchException($"the names in it take more than {Most >> 20} MiB");
    }

    public void GoesOn() => gone.ThrowIfCancellationRequested();
}

/// <summary>There is more than is kept in memory; in words, as a clause.</summary>
public sealed class TooMuchException(string message) : IOException(message);
