using System.Globalization;

namespace CalmSentry.Core.Lifecycle;

/// <summary>
/// Which service it is, for as long as there is anything of it: given once, never changed, never used twice. Marks,
/// control groups, run directories and records go by it; names are labels on it.
/// </summary>
/// <param name="Number">1 or more.</param>
public readonly record struct ServiceId(long Number)
{
    /// <summary>As directories, groups and marks have it: <c>S12</c>, which no short name can be.</summary>
    public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"S{Number}");
}
