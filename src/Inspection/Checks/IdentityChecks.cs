using CalmSentry.Core.Findings;
using CalmSentry.Core.Rhythms;
using CalmSentry.Inspection.Accounts;
using CalmSentry.Linux.Accounts;

namespace CalmSentry.Inspection.Checks;

/// <summary>Who the program is to be.</summary>
internal static class IdentityChecks
{
    /// <summary>Days before its end from which on an account is said to expire.</summary>
    private const int ExpiresSoon = 14;

    public static IEnumerable<Finding> Look(Subject subject)
    {
        var (name, account, tools) = (subject.Definition.Account, subject.Account, subject.Tools);
        if (name.Length == 0)
        {
            yield return new(
                FindingCode.AccountNeeded,
                Severity.Blocks,
                "No account is named, and you are root.",
                "A service runs as root only when that is said.",
                "Say --account NAME (a dedicated account is best: calm account create NAME), or --account root if "
                    + "it must be."
            );
            yield break;
        }

        if (account is null)
        {
            yield return new(
                FindingCode.AccountMissing,
                Severity.Blocks,
                $"This host has no account named '{name}'.",
                "It could not be launched as it.",
                $"Make it: calm account create {name}. Or name another."
            );
        }
        else if (Account.OwnId != 0 && account.Uid != Account.OwnId)
        {
            yield return new(
                FindingCode.AccountNotPossible,
                Severity.Blocks,
                $"This sentry runs as {Account.NameOf(Account.OwnId)} and can run services only as that account, "
                    + $"not as {name}.",
                "Only root may change to another account.",
                "Run the sentry as root, or leave --account out."
            );
        }
        else if (!tools.Permits.Permitted(name))
        {
            yield return new(
                FindingCode.AccountNotPermitted,
                Severity.Blocks,
                $"The account {name} is not permitted to run services.",
                "Whoever may define a service as an account can act as that account; an administrator decides which.",
                $"calm account permit {name}"
            );
        }

        foreach (var group in subject.Definition.Identity.Groups.Where(group => AccountGroup.Named(group) is null))
            yield return new(
                FindingCode.GroupMissing,
                Severity.Blocks,
                $"This host has no group named '{group}'.",
                "It could not be launched with it.",
                $"Make it ('groupadd --system {group}'), or leave it out."
            );
    }

    public static IEnumerable<Finding> Advice(Subject subject)
    {
        if (subject.Account is not { } account)
            yield break;
        var suggestion = $"calm account create {subject.Definition.Name}";
        if (account.Uid == 0)
        {
            yield return new(
                FindingCode.AccountIsRoot,
                Severity.Risk,
                "It runs as root.",
                "A mistake in it, or somebody who gets into it, can do everything to this machine.",
                $"Give it an account of its own: {suggestion}"
            );
        }
        else if (AccountPower.LogsIn(account))
        {
            yield return new(
                FindingCode.AccountIsAPerson,
                Severity.Note,
                $"The account {account.Name} is one people log in with (shell {account.Shell}).",
                "The program can read and change all that is theirs, and stops working when the account is closed.",
                $"Give it an account of its own: {suggestion}"
            );
        }

        if (
            Account.ExpiresOn(account.Name) is { } end
            && DateOnly.FromDateTime(WallClock.Of(subject.Clocks.Now, TimeZoneInfo.Local)) is var today
            && end.AddDays(-ExpiresSoon) <= today
        )
            yield return new(
                FindingCode.AccountExpires,
                Severity.Risk,
                $"The account {account.Name} {(end <= today ? "expired" : "expires")} on {end:yyyy-MM-dd}.",
                "Whoever set that date wants it closed then: logins, cron and su refuse it, and it may be removed.",
                $"Ask whoever looks after the accounts. To lift the date: chage --expiredate -1 {account.Name}",
                Subject: $"{account.Name} {end:yyyy-MM-dd}{(end <= today ? " over" : "")}"
            );

        if (account.Uid != 0 && AccountPower.GroupsOfPower(account).ToList() is { Count: > 0 } powers)
            yield return new(
                FindingCode.AccountIsPowerful,
                Severity.Risk,
                $"The account {account.Name} is in {string.Join(", ", powers)}.",
                "Members of these groups can make themselves root or read what is not theirs.",
                $"Take it out (gpasswd -d {account.Name} {powers[0]}), or use another account: {suggestion}"
            );
    }
}
