namespace CalmSentry.Linux.Troubles;

/// <summary>
/// The sentry itself is at fault, such as being out of descriptors: it says nothing of what was looked at.
/// </summary>
public sealed class OwnTroubleException(string message) : IOException(message);
