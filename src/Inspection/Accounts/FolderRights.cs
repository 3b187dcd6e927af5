using CalmSentry.Core.Definitions;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Native;
using CalmSentry.Store;

namespace CalmSentry.Inspection.Accounts;

/// <summary>
/// Gives an account just the right it lacks on a folder, and takes it back, by POSIX access lists (acl(5)): a right for
/// one
/// account alone, which takes nothing from anybody. Folders are walked by descriptors; only links of root are followed.
/// </summary>
internal sealed class FolderRights(RunTools tools)
{
    private const int Enter = 1,
        Read = 5,
        Write = 7;

    /// <summary>Entries that are granted without a question, at most.</summary>
    private const int MostUnasked = 10_000;

    /// <summary>Why a right there is given to nobody, in a sentence; null: it may be. No flag overrules it.</summary>
    /// <exception cref="IOException">The way there cannot be gone; in words.</exception>
    public string? Refuses(Account account, string folder, bool write)
    {
        using var way = Held.Walk(Ground.Grant, folder);
        if (tools.WhyHosts(way.Path) is { } why)
            return $"{account.Name} is given no right on {way.Path}: {why}.";
        return write && HostPlaces.IsReadAtMost(way.Path)
            ? $"{account.Name} is given no right to write in {way.Path}: below /etc an account may read at most (--read)."
            : null;
    }

    /// <summary>What a person is to know before anything is granted, in a sentence; null: nothing.</summary>
    /// <exception cref="IOException">The way there cannot be gone, or there is more than is ever granted.</exception>
    public static string? Asks(string folder, CancellationToken gone)
    {
        using var way = Held.Walk(Ground.Grant, folder);
        var leads = way.Links.Count == 0 ? "" : $"{folder} leads to {way.Path}, by the link {way.Links[0]} of root's. ";
        var count = 0;
        TreeWalk.Each(way.Held, (_, _) => count++, gone);
        return count > MostUnasked ? $"{leads}There are {count - 1} files and folders in {way.Path}."
            : leads.Length > 0 ? leads.TrimEnd()
            : null;
    }

    /// <returns>What was done, in sentences; or what prevented it. What is called off or fails on the way is taken back.</returns>
    public async Task<(bool Done, IReadOnlyList<string> Said)> Grant(
        Account account,
        string folder,
        bool write,
        CancellationToken gone
    )
    {
        var made = new List<(StoredGrant Now, StoredGrant? Before)>();
        try
        {
            using var way = Held.Walk(Ground.Grant, folder);
            if (way.Held.Identity().Type != FileType.Directory)
                return (false, [$"{way.Path} is no folder; nothing was changed."]);
            var said = new List<string>();
            if (way.Links.Count > 0)
                said.Add($"{folder} leads to {way.Path}, by the link {way.Links[0]} of root's.");
            // Way in first: every folder above must let it pass.
            foreach (var step in way.Above)
            {
                if (await May(account, "x", step.Path).ConfigureAwait(false))
                    continue;
                await Give(account, step.Held, step.Path, way.Path, Enter, made, gone).ConfigureAwait(false);
                said.Add($"{account.Name} may pass through {step.Path}.");
            }

            // The folder alone says little: a file in it may be closed to all but its owner.
            if (
                (await Closed(account, way, write, gone).ConfigureAwait(false)).Count > 0
                && !await GiveIn(account, way, write, said, made, gone).ConfigureAwait(false)
            )
                return (false, said);
            if (write && IsOfDefinitions(way))
                said.Add(NotSettled(account, way));
            return (
                true,
                said.Count == 0
                    ? [$"{account.Name} has what it needs on {way.Path} already; nothing was changed."]
                    : said
            );
        }
        catch (OperationCanceledException)
        {
            Undo(account, made);
            throw;
        }
        catch (NotSupportedException)
        {
            Undo(account, made);
            return (
                false,
                [
                    $"The file system under {folder} has no access lists, so a right cannot be given to one "
                        + $"account alone; nothing was changed there.",
                    $"Mount it with access lists (mount option acl), move the folder to a file system that has "
                        + $"them, or make the folder {account.Name}'s own: chown -R {account.Name} {CommandLine.Typed(folder)}",
                ]
            );
        }
        catch (IOException error)
        {
            Undo(account, made);
            return (false, [$"Nothing was granted: {error.Message}."]);
        }
    }

    /// <summary>The folder itself and what is in it.</summary>
    /// <returns>Whether the account may do all of it now; <paramref name="said"/> says what was done, and what not.</returns>
    private async Task<bool> GiveIn(
        Account account,
        HeldWay way,
        bool write,
        List<string> said,
        List<(StoredGrant Now, StoredGrant? Before)> made,
        CancellationToken gone
    )
    {
        var left = await Give(account, way.Held, way.Path, way.Path, write ? Write : Read, made, gone)
            .ConfigureAwait(false);
        var still = await Closed(account, way, write, CancellationToken.None).ConfigureAwait(false);
        if (still.Count > 0 && still[0].Path == way.Path)
        {
            said.Add(
                $"Yet the kernel still refuses {account.Name} some of it on {way.Path}: "
                    + $"{Names.Errno(still[0].Errno)}. The file system may be mounted read-only."
            );
            return false;
        }

        said.Add(
            $"{account.Name} may {(write ? "read and write" : "read")} {way.Path} and what is in it"
                + (still.Count == 0 ? "." : $", but for {StillClosed(still)}.")
        );
        if (left > 0)
            said.Add(
                $"{left} {(left == 1 ? "file has" : "files have")} a second name somewhere else, or "
                    + $"{(left == 1 ? "is a device" : "are devices")}, and "
                    + $"{(left == 1 ? "was" : "were")} left as {(left == 1 ? "it is" : "they are")}."
            );
        return still.Count == 0;
    }

    /// <summary>Takes back what was granted until then, the latest first.</summary>
    private void Undo(Account account, List<(StoredGrant Now, StoredGrant? Before)> made)
    {
        foreach (var (now, before) in made.AsEnumerable().Reverse())
        {
            _ = TakeBack(account, now);
            tools.Store.RemoveGrant(now);
            if (before is null)
                continue;
            tools.Store.AddGrant(before);
            Again(account, before);
        }
    }

    /// <summary>Gives what was granted before, where a further right on it was taken back.</summary>
    private static void Again(Account account, StoredGrant grant)
    {
        try
        {
            using var way = Held.Walk(Ground.Grant, grant.Path);
            if (GrantBefore.Read(grant) is { } before && way.Held.Identity().Id == before.Id)
                Everything(
                    way.Held,
                    before.Rights,
                    (one, identity) => _ = Add(one, identity, account.Uid, before.Rights)
                );
        }
        catch (Exception error) when (error is IOException or NotSupportedException)
        {
            // It went, and its rights with it.
        }
    }

    private static bool IsOfDefinitions(HeldWay way)
    {
        try
        {
            using var folder = way.Held.Content();
            return folder
                .Names()
                .Take(AskedAtOnce)
                .Any(name =>
                    name.EndsWith(".yaml", StringComparison.Ordinal) || name.EndsWith(".yml", StringComparison.Ordinal)
                );
        }
        catch (IOException)
        {
            return false;
        }
    }

    private static string NotSettled(Account account, HeldWay way) =>
        $"Definition files in {way.Path} cannot be settled any more: {account.Name} would decide what runs here.";

    /// <summary>What a grant would do, as a sentence.</summary>
    public async Task<string> WouldGrant(Account account, string folder, bool write, CancellationToken gone)
    {
        try
        {
            using var way = Held.Walk(Ground.Grant, folder);
            if (way.Held.Identity().Type != FileType.Directory)
                return $"{way.Path} is no folder: it would be refused.";
            var shut = new List<string>();
            foreach (var step in way.Above)
                if (!await May(account, "x", step.Path).ConfigureAwait(false))
                    shut.Add(step.Path);
            var closed = await Closed(account, way, write, gone).ConfigureAwait(false);
            if (shut.Count == 0 && closed.Count == 0)
                return $"{account.Name} has what it needs on {way.Path} already: a grant would change nothing.";
            return (way.Links.Count == 0 ? "" : $"{folder} leads to {way.Path}, by the link {way.Links[0]} of root's. ")
                + (shut.Count == 0 ? "" : $"{account.Name} would be let pass through {string.Join(", ", shut)}. ")
                + (
                    closed.Count == 0
                        ? ""
                        : $"{account.Name} would be let {(write ? "read and write" : "read")} {way.Path} and what is in it; now "
                            + $"it is refused {StillClosed(closed)}."
                )
                + (write && IsOfDefinitions(way) ? $" {NotSettled(account, way)}" : "");
        }
        catch (IOException error)
        {
            return $"It would be refused: {error.Message}.";
        }
    }

    /// <summary>What taking back would do, as a sentence.</summary>
    public string WouldTake(Account account, string folder)
    {
        var grants = GrantsOn(account, folder);
        return grants.Count == 0
            ? $"Nothing on {folder} was granted to {account.Name} here, so there is nothing to take back."
            : $"{account.Name} would have what it had before on {string.Join(", ", grants.Select(grant => grant.Path))}.";
    }

    private List<StoredGrant> GrantsOn(Account account, string folder)
    {
        var own = tools.Store.Grants().Where(grant => grant.Account == account.Name).ToList();
        var grants = own.Where(grant => grant.Folder == folder).ToList();
        return grants.Count == 0 && WalkedPath(folder) is { } real
            ? [.. own.Where(grant => grant.Folder == real)]
            : grants;
    }

    private const int Named = 5,
        AskedAtOnce = 1000,
        LettersAtOnce = 1 << 17,
        MostAsked = 100_000;

    private static string StillClosed(List<(string Path, int Errno)> still) =>
        string.Join(", ", still.Take(Named).Select(one => $"{one.Path} ({Names.Errno(one.Errno)})"))
        + (still.Count > Named ? $" and {still.Count - Named} more" : "");

    /// <summary>
    /// What of a folder, and of all below it, the account may not read (or write, where it is to), asked as the account, the
    /// folder first. Of very many entries the first are asked about.
    /// </summary>
    private async Task<List<(string Path, int Errno)>> Closed(
        Account account,
        HeldWay way,
        bool write,
        CancellationToken gone
    )
    {
        var closed = new List<(string Path, int Errno)>();
        var kept = new Gathering(gone);
        var questions = new List<AccessQuestion>();
        var (asked, letters) = (0, 0);
        // Some at a time, while they are found: of all of them there may be more than memory holds.
        await Task.Run(
                () =>
                {
                    TreeWalk.Each(
                        way.Held,
                        way.Path,
                        (_, identity, path) =>
                        {
                            if (asked >= MostAsked)
                                return;
                            var rights =
                                identity.Type == FileType.Directory ? (write ? "rwx" : "rx")
                                : identity.Type == FileType.Regular ? (write ? "rw" : "r")
                                : "";
                            questions.AddRange(rights.Select(right => new AccessQuestion(right, path)));
                            asked += rights.Length;
                            letters += rights.Length * path.Length;
                            if (questions.Count >= AskedAtOnce || letters >= LettersAtOnce)
                                Ask();
                        },
                        gone
                    );
                    Ask();
                },
                gone
            )
            .ConfigureAwait(false);
        return closed;

        void Ask()
        {
            var errnos = tools.AsAccount.Ask(account, [], questions, gone).GetAwaiter().GetResult();
            for (var i = 0; i < questions.Count; i++)
            {
                if (errnos[i] is 0 or Gone || (closed.Count > 0 && closed[^1].Path == questions[i].Path))
                    continue;
                kept.Keep(questions[i].Path);
                closed.Add((questions[i].Path, errnos[i]));
            }

            questions.Clear();
            letters = 0;
        }
    }

    /// <summary>It went while it was looked at (ENOENT).</summary>
    private const int Gone = 2;

    public Task<(bool Done, IReadOnlyList<string> Said)> Take(Account account, string folder)
    {
        var own = tools.Store.Grants().Where(grant => grant.Account == account.Name).ToList();
        var grants = GrantsOn(account, folder);
        if (grants.Count == 0)
            return Task.FromResult<(bool, IReadOnlyList<string>)>(
                (false, [$"Nothing on {folder} was granted to {account.Name} here, so there is nothing to take back."])
            );
        var said = new List<string>();
        foreach (var grant in grants)
        {
            // Another grant may lead through the same folder.
            var needed = own.FirstOrDefault(other =>
                other.Folder != grant.Folder
                && grant.Path != other.Path
                && other.Path.StartsWith(grant.Path.TrimEnd('/') + "/", StringComparison.Ordinal)
            );
            if (needed is not null && grant.Path != grant.Folder)
            {
                said.Add($"{grant.Path} stays open to pass through: it leads to {needed.Folder}.");
                continue;
            }

            if (TakeBack(account, grant) is { } error)
                return Task.FromResult<(bool, IReadOnlyList<string>)>((false, [.. said, error]));
            tools.Store.RemoveGrant(grant);
            said.Add($"{account.Name} has on {grant.Path} what it had before.");
        }

        return Task.FromResult<(bool, IReadOnlyList<string>)>((true, said));
    }

    /// <summary>Whether the account has all these rights there, asked in a process that is the account.</summary>
    private async Task<bool> May(Account account, string rights, string path) =>
        (
            await tools
                .AsAccount.Ask(account, [], [.. rights.Select(right => new AccessQuestion(right, path))])
                .ConfigureAwait(false)
        ).All(errno => errno == 0);

    /// <returns>How many files were left as they are.</returns>
    private async Task<int> Give(
        Account account,
        Held held,
        string path,
        string folder,
        int rights,
        List<(StoredGrant Now, StoredGrant? Before)> made,
        CancellationToken gone
    )
    {
        // What is there now is on record before anything is changed: taking it back must work after a power cut in the
        // middle.
        var known = tools.Store.Grants().FirstOrDefault(grant => grant.Account == account.Name && grant.Path == path);
        var before =
            known is not null && GrantBefore.Read(known) is { } first
                ? first with
                {
                    Rights = first.Rights | rights,
                }
                : new GrantBefore(held.Identity().Id, rights, []);
        var kept = new Gathering(gone);
        if (known is null)
            Everything(held, rights, (one, identity) => before.Keep(one, identity, kept), gone);
        if (known is not null)
            tools.Store.RemoveGrant(known);
        var now = new StoredGrant(account.Name, path, GrantBefore.How, before.Write(), known?.Folder ?? folder);
        tools.Store.AddGrant(now);
        made.Add((now, known));
        await tools.Store.Kept().ConfigureAwait(false);
        if (tools.Store.Failure is { } unwritten)
            throw new IOException(
                $"what is there now cannot be put on record ({unwritten}), and without that it could not be taken back"
            );
        var left = 0;
        Everything(
            held,
            rights,
            (one, identity) =>
            {
                if (!Add(one, identity, account.Uid, rights))
                    left++;
            },
            gone
        );
        return left;
    }

    /// <returns>False: it is left as it is.</returns>
    private static bool Add(Held one, FileIdentity identity, uint uid, int rights)
    {
        // A file with a second name may be somebody else's file, linked to from here.
        var foreign = identity.Type == FileType.Regular && identity.Links > 1 && identity.Uid != uid;
        if (foreign || identity.Type is FileType.BlockDevice or FileType.CharacterDevice)
            return false;
        var (access, standard) = GrantBefore.With(
            AccessLists.Of(one, ListKind.Access),
            identity.Type == FileType.Directory ? AccessLists.Of(one, ListKind.Default) : null,
            identity,
            uid,
            rights
        );
        AccessLists.Set(one, ListKind.Access, access);
        if (standard is not null)
            AccessLists.Set(one, ListKind.Default, standard);
        return true;
    }

    private static void Everything(
        Held held,
        int rights,
        Action<Held, FileIdentity> visit,
        CancellationToken gone = default
    )
    {
        if (rights == Enter)
            visit(held, held.Identity());
        else
            TreeWalk.Each(held, visit, gone);
    }

    private static string? TakeBack(Account account, StoredGrant grant)
    {
        try
        {
            using var way = Held.Walk(Ground.Grant, grant.Path);
            if (GrantBefore.Read(grant) is not { } before)
                return OlderGrants.TakeBack(account, grant, way);
            if (way.Held.Identity().Id != before.Id)
                return $"{grant.Path} is not the folder the right was granted on: that one was moved or removed, and "
                    + $"another lies there now. Nothing was changed. Put it back and take it again.";
            Everything(way.Held, before.Rights, (one, identity) => before.Restore(one, identity, account.Uid));
            return null;
        }
        catch (FileNotFoundException)
        {
            return null; // it went, and its rights with it
        }
        catch (NotSupportedException)
        {
            return null; // without access lists there is none of ours
        }
        catch (IOException error)
        {
            return $"{grant.Path}: {error.Message}. Nothing was taken back there.";
        }
    }

    private static string? WalkedPath(string folder)
    {
        try
        {
            using var way = Held.Walk(Ground.Grant, folder);
            return way.Path;
        }
        catch (IOException)
        {
            return null;
        }
    }
}
