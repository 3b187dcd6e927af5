namespace CalmSentry.Contract.Api;

/// <summary>One line that a program printed.</summary>
/// <param name="Service">Its short name.</param>
/// <param name="Place">Where its first byte lies in all of the service's output, in bytes.</param>
/// <param name="At">When its first byte came; null: it was written before that was noted.</param>
/// <param name="Stream">output, error, terminal, or sentry: not the program's, but what is missing here.</param>
/// <param name="Run">The run that printed it; null: that run is not on record any more.</param>
/// <param name="Cut">So many bytes of a very long line are not in the text; 0: all of it is.</param>
/// <param name="Around">It does not fit what was asked for itself, but stands beside one that does.</param>
/// <param name="Apart">Lines between it and the one before it were left out.</param>
public sealed record OutputLineView(
    string Service,
    long Place,
    DateTimeOffset? At,
    string Stream,
    long? Run,
    string Text,
    long Cut,
    bool Around,
    bool Apart
);
