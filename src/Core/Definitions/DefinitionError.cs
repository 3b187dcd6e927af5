namespace CalmSentry.Core.Definitions;

/// <summary>
/// One thing wrong in a definition: where, what was found, what is allowed, and the nearest key when it looks like a
/// typo.
/// </summary>
public sealed record DefinitionError(
    string Key,
    string Found,
    string Allowed,
    Place? Place = null,
    string? Nearest = null
)
{
    public override string ToString() =>
        (Place is { } at ? $"line {at.Line}, column {at.Column}: " : "")
        + $"{Key}: {Found}; allowed: {Allowed}"
        + (Nearest is null ? "" : $" (did you mean {Nearest}?)");
}
