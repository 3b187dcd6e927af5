using System.Globalization;
using System.Text.RegularExpressions;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Server.Services;
using CalmSentry.Store;

namespace CalmSentry.Server.Accounts;

/// <summary>
/// Gives an account just the right it lacks on a folder, and takes it back: by a POSIX access list where the file system has
/// them (acl(5)), else by the folder's group. Every change is noted with what was there before.
/// </summary>
internal sealed class FolderRights(House house)
{
    /// <returns>What was done, in sentences; or what prevented it.</returns>
    public async Task<(bool Done, IReadOnlyList<string> Said)> Grant(Account account, string folder, bool write)
    {
        if (!Directory.Exists(folder)) return (false, [$"There is no folder {folder}."]);
        var said = new List<string>();
        // Way in first: every folder above must let it pass.
        foreach (var above in Folders.Above(folder))
        {
            if (await May(account, 'x', above).ConfigureAwait(false)) continue;
            if (await Give(account, above, folder, "x").ConfigureAwait(false) is { } error) return (false, [.. said, error]);
            said.Add($"{account.Name} may pass through {above}.");
        }

        var wanted = write ? "rwx" : "rx";
        var lacks = false;
        foreach (var right in wanted) lacks |= !await May(account, right, folder).ConfigureAwait(false);
        if (lacks)
        {
            if (await Give(account, folder, folder, wanted).ConfigureAwait(false) is { } error) return (false, [.. said, error]);
            said.Add($"{account.Name} may {(write ? "read and write" : "read")} {folder} and what is in it.");
        }

        foreach (var right in wanted)
            if (!await May(account, right, folder).ConfigureAwait(false)) return (false, [.. said, $"Yet the kernel still refuses {account.Name} the right '{right}' on {folder}: the file system may be mounted read-only."]);
        return (true, said.Count == 0 ? [$"{account.Name} has what it needs on {folder} already; nothing was changed."] : said);
    }

    public async Task<(bool Done, IReadOnlyList<string> Said)> Take(Account account, string folder)
    {
        var grants = house.Store.Grants().Where(grant => grant.Account == account.Name && grant.Folder == folder).ToList();
        if (grants.Count == 0) return (false, [$"Nothing on {folder} was granted to {account.Name} here, so there is nothing to take back."]);
        var said = new List<string>();
        foreach (var grant in grants)
        {
            // Another grant may lead through the same folder.
            var needed = house.Store.Grants().FirstOrDefault(other => other.Account == account.Name && other.Folder != folder && grant.Path != other.Path && other.Path.StartsWith(grant.Path.TrimEnd('/') + "/", StringComparison.Ordinal));
            if (needed is not null && grant.Path != folder)
            {
                said.Add($"{grant.Path} stays open to pass through: it leads to {needed.Folder}.");
                continue;
            }

            var error = grant.How == "acl" ? await TakeEntry(account, grant).ConfigureAwait(false) : TakeGroup(grant);
            if (error is not null) return (false, [.. said, error]);
            house.Store.RemoveGrant(grant);
            said.Add($"{account.Name} has on {grant.Path} what it had before.");
        }

        return (true, said);
    }

    private async Task<bool> May(Account account, char right, string path) =>
        (await house.AsAccount.Ask(account, [], [new(right, path)]).ConfigureAwait(false))[0] == 0;

    private async Task<string?> Give(Account account, string path, string folder, string rights)
    {
        var whole = rights != "x";
        if (HostTools.Find("setfacl") is not null)
        {
            var (_, list, _) = await HostTools.Ask("getfacl", "-cpE", path).ConfigureAwait(false);
            var capital = rights == "x" ? "x" : rights.Replace("x", "X", StringComparison.Ordinal);
            var error = whole
                ? await HostTools.Run("setfacl", "-R", "-P", "-m", $"u:{account.Name}:{capital},d:u:{account.Name}:{capital}", path).ConfigureAwait(false)
                  // Of files there is no default entry: set those of folders and those of files apart.
                  is { } refused && refused.Contains("Only directories", StringComparison.Ordinal) ? await HostTools.Run("setfacl", "-R", "-P", "-m", $"u:{account.Name}:{capital}", path).ConfigureAwait(false) : null
                : await HostTools.Run("setfacl", "-m", $"u:{account.Name}:x", path).ConfigureAwait(false);
            if (error is null && await May(account, 'x', path).ConfigureAwait(false))
            {
                Note(new(account.Name, path, "acl", list, folder));
                return null;
            }
        }

        return await GiveGroup(account, path, folder, rights).ConfigureAwait(false);
    }

    private async Task<string?> GiveGroup(Account account, string path, string folder, string rights)
    {
        var (exit, stat, _) = await HostTools.Ask("stat", "-c", "%g %a", path).ConfigureAwait(false);
        if (exit != 0) return $"The right on {path} cannot be looked up.";
        var mode = File.GetUnixFileMode(path);
        var add = (rights.Contains('r') ? UnixFileMode.GroupRead : 0) | (rights.Contains('w') ? UnixFileMode.GroupWrite : 0) | UnixFileMode.GroupExecute;
        if (Ownership.ChangeGroup(path, account.Gid) is { } error) return $"Neither an access list nor the group of {path} can be changed: {error}.";
        File.SetUnixFileMode(path, mode | add);
        Note(new(account.Name, path, "group", stat.Trim(), folder));
        return null;
    }

    private static async Task<string?> TakeEntry(Account account, StoredGrant grant)
    {
        if (!Directory.Exists(grant.Path)) return null;
        var user = $"u:{account.Name}";
        var before = grant.Before.Split('\n');
        if (before.FirstOrDefault(line => line.StartsWith($"user:{account.Name}:", StringComparison.Ordinal)) is { } own) return await HostTools.Run("setfacl", "-m", $"{user}:{own.Split(':')[2]}", grant.Path).ConfigureAwait(false);
        var whole = grant.Path == grant.Folder;
        var error = whole
            ? await HostTools.Run("setfacl", "-R", "-P", "-x", $"{user},d:{user}", grant.Path).ConfigureAwait(false)
            : await HostTools.Run("setfacl", "-x", user, grant.Path).ConfigureAwait(false);
        return error ?? await ClearEmptyLists(grant.Path, whole).ConfigureAwait(false);
    }

    /// <summary>Access lists that name nobody any more are what taking an entry leaves behind: they go, all others stay.</summary>
    private static async Task<string?> ClearEmptyLists(string path, bool whole)
    {
        var (_, lists, _) = await HostTools.Ask("getfacl", whole ? "-RPspE" : "-spE", path).ConfigureAwait(false);
        var empty = lists.Split("\n\n", StringSplitOptions.RemoveEmptyEntries).Select(list => list.Split('\n'))
            .Where(list => !list.Any(line => !line.StartsWith('#') && line.Replace("default:", "", StringComparison.Ordinal).Split(':') is [_, { Length: > 0 }, _]))
            .Select(list => Regex.Replace(list[0]["# file: ".Length..], @"\\([0-7]{3})", octal => ((char)Convert.ToInt32(octal.Groups[1].Value, 8)).ToString()));
        foreach (var some in empty.Chunk(500))
            if (await HostTools.Run("setfacl", ["-b", "--", .. some]).ConfigureAwait(false) is { } error) return error;
        return null;
    }

    private static string? TakeGroup(StoredGrant grant)
    {
        if (!Directory.Exists(grant.Path)) return null;
        var parts = grant.Before.Split(' ');
        if (Ownership.ChangeGroup(grant.Path, uint.Parse(parts[0], CultureInfo.InvariantCulture)) is { } error) return $"The group of {grant.Path} cannot be changed back: {error}.";
        File.SetUnixFileMode(grant.Path, (UnixFileMode)Convert.ToInt32(parts[1], 8));
        return null;
    }

    private void Note(StoredGrant grant) => house.Store.AddGrant(grant);
}
