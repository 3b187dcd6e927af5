namespace CalmSentry.Linux.Troubles;

/// <summary>What was held is not where it was a moment ago: somebody is at work there; in words, as a clause.</summary>
public sealed class MovedException(string message) : IOException(message);
