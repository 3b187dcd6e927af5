namespace CalmSentry.Core.Findings;

public enum Severity
{
    /// <summary>
    /// It would not work: wrapping or starting is refused unless the finding is accepted by its code.
    /// </summary>
    Blocks,

    /// <summary>It may go wrong one day.</summary>
    Risk,

    /// <summary>Worth knowing.</summary>
    Note,
}

/// <summary>One thing a check saw.</summary>
/// <param name="Code">By its word it can be accepted: <c>directory-missing</c>.</param>
/// <param name="Seen">What is so, as a sentence.</param>
/// <param name="Why">Why it matters, as a sentence.</param>
/// <param name="Mend">What to do or type, as a sentence.</param>
/// <param name="OnlyNow">It is of this moment, not of the definition: it blocks a start, not the wrapping.</param>
/// <param name="Subject">
/// What of its kind it is about, so that it is known again among others of its code, however it is said; null: there is one of its code
/// at a time.
/// </param>
public sealed record Finding(
    FindingCode Code,
    Severity Severity,
    string Seen,
    string Why,
    string Mend,
    bool OnlyNow = false,
    string? Subject = null
)
{
    /// <summary>The dotted key of a definition that it is about.</summary>
    public string Key => FindingCodes.KeyOf(Code);

    /// <summary>A person may be offered to overrule it.</summary>
    public bool MayBeAccepted => Severity == Severity.Blocks && !OnlyNow && !FindingCodes.PreventsLaunch(Code);

    /// <summary>Its code as it is shown, sent and accepted.</summary>
    public string Word => FindingCodes.WordOf(Code);
}
