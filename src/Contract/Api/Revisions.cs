namespace CalmSentry.Contract.Api;

/// <summary>A definition as it was given at one time.</summary>
/// <param name="Revision">1 is the one that it was wrapped with.</param>
/// <param name="By">Who gave it.</param>
/// <param name="From">Where that account sat; null: nobody knows any more.</param>
/// <param name="InEffect">It is the one that holds now.</param>
/// <param name="Changes">What it changed of the one before, as clauses; what looks like a secret is masked. Empty for the first.</param>
public sealed record RevisionView(
    int Revision,
    DateTimeOffset At,
    string By,
    string? From,
    bool InEffect,
    IReadOnlyList<string> Changes
);

/// <summary>What differs between two revisions.</summary>
/// <param name="Changes">From the one to the other, as clauses; what looks like a secret is masked.</param>
public sealed record RevisionDifference(int From, int To, IReadOnlyList<string> Changes);
