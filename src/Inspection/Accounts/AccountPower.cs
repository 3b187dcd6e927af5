using CalmSentry.Linux.Accounts;

namespace CalmSentry.Inspection.Accounts;

/// <summary>What an account may do beyond running a program.</summary>
internal static class AccountPower
{
    private static readonly string[] Powerful =
    [
        "root",
        "sudo",
        "wheel",
        "admin",
        "adm",
        "disk",
        "shadow",
        "docker",
        "lxd",
        "kmem",
    ];

    public static bool LogsIn(Account account) =>
        account.Shell.Length > 0 && Path.GetFileName(account.Shell) is not ("nologin" or "false" or "sync");

    /// <summary>Groups whose members can make themselves root or read what is not theirs.</summary>
    public static IEnumerable<string> GroupsOfPower(Account account) =>
        account.Groups.Select(AccountGroup.NameOf).Where(Powerful.Contains);

    public static bool MayBecomeRoot(Account account) =>
        account.Uid == 0 || GroupsOfPower(account).Any() || MentionedToSudo(account);

    public static IReadOnlyList<string> Of(Account account)
    {
        var may = new List<string>();
        if (account.Uid == 0)
            may.Add("Everything: it is root.");
        if (LogsIn(account))
            may.Add($"Log in, with the shell {account.Shell}, if it has a password or key.");
        if (account.Uid != 0)
            foreach (var group in GroupsOfPower(account))
                may.Add($"What the group {group} may: enough to become root or to read what is not its own.");
        if (MentionedToSudo(account))
            may.Add("Run commands as others: /etc/sudoers or a file in /etc/sudoers.d names it.");
        if (may.Count == 0)
            may.Add(
                "Nothing beyond running programs with its own files: it cannot log in and is in no powerful group."
            );
        return may;
    }

    private static bool MentionedToSudo(Account account)
    {
        try
        {
            var files = (File.Exists("/etc/sudoers") ? ["/etc/sudoers"] : Array.Empty<string>()).Concat(
                Directory.Exists("/etc/sudoers.d") ? Directory.GetFiles("/etc/sudoers.d") : []
            );
            return files.SelectMany(File.ReadLines).Any(line => line.Split([' ', '\t'], 2)[0] == account.Name);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    }
}
