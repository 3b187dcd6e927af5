using static CalmSentry.Core.Definitions.KeyOf<CalmSentry.Core.Definitions.IdentityPart>;

namespace CalmSentry.Core.Definitions;

/// <summary>The keys of <c>identity</c>.</summary>
public static class IdentityKeys
{
    /// <summary>A mode in octal (umask(2)): <c>0027</c>.</summary>
    public static Form<int> Umask { get; } =
        Forms.Of(
            "an octal number from 0000 to 0777",
            text =>
                text.Length is > 0 and <= 4
                && text.All(c => c is >= '0' and <= '7')
                && Convert.ToInt32(text, 8) is var mask and <= 0x1FF
                    ? mask
                    : (int?)null,
            mask => Convert.ToString(mask, 8).PadLeft(4, '0')
        ) with
        {
            Pattern = "^[0-7]{1,4}$",
            Example = "0027",
        };

    public static Form<bool> MoreRights { get; } = Forms.Choice(("denied", false), ("allowed", true));

    internal static Shape<IdentityPart> Shape { get; } =
        new(
            Value(
                "account",
                Forms.Text("an account's name", text => text.Length > 0),
                identity => identity.Account.Length == 0 ? null : identity.Account, // not named yet: a finding says so
                (identity, account) => identity with { Account = account },
                "The account it runs as; it must be permitted (calm account permit)."
            ) with
            {
                Default = "whoever wraps it; root must be said",
                Example = "skerry-ledger",
            },
            Texts(
                "groups",
                identity => identity.Groups,
                (identity, groups) => identity with { Groups = groups },
                "Groups it is given beside those of its account.",
                Forms.Text("a group's name", text => text.Length > 0),
                always: true
            ) with
            {
                Default = "none",
                IsNothingLeftOut = true,
                Example = "[skerry]",
                Flag = "group",
                WordForm = "GROUP",
            },
            Value(
                "umask",
                Umask,
                identity => identity.Umask,
                (identity, mask) => identity with { Umask = mask },
                "Rights that files it makes do not get, octal."
            ) with
            {
                Default = "0022",
            },
            Texts(
                "rights",
                identity => identity.Rights,
                (identity, rights) => identity with { Rights = [.. rights.Distinct(StringComparer.Ordinal)] },
                "Rights it gets though its account is not root. low-ports: it may open ports below 1024, and nothing more.",
                Forms.OneOf(IdentityPart.LowPorts)
            ) with
            {
                Default = "none",
                IsNothingLeftOut = true,
                Example = "[low-ports]",
                Flag = "right",
                WordForm = "low-ports",
            },
            Value(
                "more-rights",
                MoreRights,
                identity => identity.MoreRights,
                (identity, more) => identity with { MoreRights = more },
                "Whether it may gain more rights than its account has, through programs such as sudo."
            ) with
            {
                Default = "denied",
            }
        );
}
