using System.Collections.Immutable;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Telling;

/// <summary>Who is told: the recipients that are set, and the addresses that definitions name beside them.</summary>
/// <param name="Set">In the settings.</param>
/// <param name="HasMail">There is a server that takes mail.</param>
public readonly record struct RecipientSet(ImmutableArray<Recipient> Set, bool HasMail)
{
    /// <summary>With those who are there for what definitions name.</summary>
    /// <param name="named">By any definition.</param>
    public ImmutableArray<Recipient> With(IEnumerable<string> named)
    {
        if (!HasMail)
            return Set;
        var set = Set;
        return
        [
            .. set,
            .. named
                .Where(who => MailAddress.IsOne(who) && set.All(one => one.Name != who))
                .Distinct(StringComparer.Ordinal)
                .Order(StringComparer.Ordinal)
                .Select(Recipient.OfAddress),
        ];
    }

    /// <summary>Of those a definition names: who would not be told.</summary>
    public IReadOnlyList<string> Unheard(IEnumerable<string> named)
    {
        var (set, mail) = this;
        return [.. named.Where(who => MailAddress.IsOne(who) ? !mail : set.All(one => one.Name != who))];
    }
}
