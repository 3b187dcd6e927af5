using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Troubles;

/// <summary>
/// The sentry itself is at fault, such as being out of descriptors: it says nothing of what was looked at.
/// </summary>
public sealed class OwnTroubleException(string message) : IOException(message)
{
    /// <summary>Whether the runtime says of a file that there was no descriptor, or no memory, to open it with.</summary>
    public static bool IsBehind(IOException error) => error.HResult is Libc.EMFILE or Libc.ENFILE or Libc.ENOMEM;
}
