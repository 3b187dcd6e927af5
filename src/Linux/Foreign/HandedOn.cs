namespace CalmSentry.Linux.Foreign;

/// <summary>A right that new files do not get, although files of the same path had it.</summary>
/// <param name="What">The right, as a noun.</param>
public sealed record GivenUp(string Path, string What);

/// <summary>
/// Owners and rights of new files, and what comes along of the old ones, in one walk: what is looked at is what is copied and what
/// its owner is taken from, by one descriptor.
/// <para>
/// A name is no identity where somebody else can rename things: there a file's owner and rights are not handed on to another file of
/// the same path. The right to become another account, and the kernel's rights, are handed on to nothing there.
/// </para>
/// </summary>
/// <param name="over">Files that the new ones do not replace are copied, too.</param>
/// <param name="skip">Paths that are not.</param>
/// <param name="room">What copies may take.</param>
public sealed class HandedOn(bool over, Func<string, bool> skip, DiskRoom room, Gathering kept)
{
    private const int BecomesAnother = 0xC00; // set-user-ID and set-group-ID

    private readonly byte[] buffer = new byte[1 << 17];
    private readonly List<GivenUp> givenUp = [];

    /// <summary>How the new files differ from those they replace, with what came along; set by <see cref="Adopt"/>.</summary>
    public TreeDifference? Difference { get; private set; }

    /// <param name="before">The present files, which others may be at work in.</param>
    /// <param name="isRootsAlone">Root alone can write in every folder down to them; what is in them is looked at here.</param>
    /// <param name="after">A tree that nobody else reaches yet.</param>
    /// <returns>What was given up.</returns>
    /// <exception cref="IOException">Something cannot be read or set.</exception>
    public IReadOnlyList<GivenUp> Adopt(Held before, bool isRootsAlone, Held after)
    {
        var top = before.Identity();
        var pairs = new TreePairs(skip, kept, this);
        pairs.Folder(before, after, "", 0, isRootsAlone && top.IsRootsAlone, top);
        Give(before, top, isRootsAlone, after, "");
        Difference = pairs.Found();
        givenUp.Sort((one, other) => string.CompareOrdinal(one.Path, other.Path));
        return givenUp;
    }

    internal void Give(FilePair pair)
    {
        if (pair.Alone && pair.Then is { } replaced)
        {
            Give(pair.Old!, replaced, alone: true, pair.New, pair.Path);
            return;
        }

        Own(pair.New, pair.Owner.Uid, pair.Owner.Gid);
        if (pair.Then is { } lost)
            Say(pair.Old!, lost, pair.Owner, pair.Path);
    }

    /// <summary>Copies what the new files do not replace.</summary>
    /// <param name="pairs">Counts what is copied.</param>
    /// <returns>False: it does not come along.</returns>
    internal bool TakesAlong(
        Held old,
        FileIdentity what,
        bool alone,
        Held after,
        string name,
        string path,
        int depth,
        TreePairs pairs
    )
    {
        if (!over)
            return false;
        switch (what.Type)
        {
            case FileType.Directory:
                using (var made = after.MakeDirectory(name, (UnixFileMode)0x1C0))
                {
                    pairs.Folder(old, made, path, depth + 1, alone && what.IsRootsAlone);
                    Give(old, what, alone, made, path);
                }

                return true;
            case FileType.Regular:
                Copy(old, Path.Combine(after.Path, name));
                using (var copy = after.Entry(name)!)
                    Give(old, what, alone, copy, path);
                break;
            case FileType.Link:
                File.CreateSymbolicLink(Path.Combine(after.Path, name), old.Target());
                using (var link = after.Entry(name)!)
                    Own(link, what.Uid, what.Gid);
                break;
            default:
                return false;
        }

        pairs.CameAlong(what);
        return true;
    }

    private void Copy(Held from, string to)
    {
        using var content = from.Content();
        using var copy = Held.Made(to);
        var at = 0L;
        for (int got; (got = content.Read(buffer, at)) > 0; at += got)
        {
            room.Take(got);
            copy.Write(buffer.AsSpan(0, got));
        }

        copy.SetWritten(content.Identity().Written);
    }

    /// <summary>Owner, mode and access lists of the very file they are read from.</summary>
    private void Give(Held from, FileIdentity then, bool alone, Held to, string path)
    {
        Own(to, then.Uid, then.Gid);
        if (then.Type == FileType.Link)
            return;
        // A file with a second name may be somebody else's: what it may do is not handed to another content.
        var powers = alone && (then.Type == FileType.Directory || then.Links == 1);
        // The mode last: to change an owner or a list takes the right to become another account away.
        var none = ExtendedAttributes.None(from);
        if (!none)
            WhereKept(() =>
            {
                if (AccessLists.Of(from, ListKind.Access) is { } access)
                    AccessLists.Set(to, ListKind.Access, access);
                if (then.Type == FileType.Directory && AccessLists.Of(from, ListKind.Default) is { } given)
                    AccessLists.Set(to, ListKind.Default, given);
            });
        to.SetMode(powers ? then.Mode : then.Mode & ~BecomesAnother);
        if (!powers)
            Say(then, path, []);
        if (then.Type == FileType.Regular && !none)
            WhereKept(() =>
            {
                if (ExtendedAttributes.Of(from, ExtendedAttributes.Capabilities) is not { } rights)
                    return;
                if (powers)
                    ExtendedAttributes.Set(to, ExtendedAttributes.Capabilities, rights);
                else
                    GiveUp(path, "the kernel's rights");
            });
    }

    /// <summary>What a new file of the same path does not get of the old one's.</summary>
    private void Say(Held old, FileIdentity then, FileIdentity owner, string path)
    {
        if (then.Type == FileType.Link)
            return;
        var lost = new List<string>();
        if (then.Uid != owner.Uid)
            lost.Add($"its owner {Accounts.Account.NameOf(then.Uid)}");
        WhereKept(() =>
        {
            if (AccessLists.Of(old, ListKind.Access) is { NamesAnybody: true })
                lost.Add("its access list");
        });
        if (then.Type == FileType.Regular)
            WhereKept(() =>
            {
                if (ExtendedAttributes.Of(old, ExtendedAttributes.Capabilities) is not null)
                    lost.Add("the kernel's rights");
            });
        Say(then, path, lost);
    }

    private void Say(FileIdentity then, string path, List<string> lost)
    {
        if (then.Type == FileType.Regular && (then.Mode & BecomesAnother) != 0)
            lost.Add((then.Mode & 0x800) != 0 ? "set-user-ID" : "set-group-ID");
        if (lost.Count > 0)
            GiveUp(path, string.Join(" and ", lost));
    }

    private void GiveUp(string path, string what)
    {
        lock (givenUp)
        {
            kept.Keep(what);
            givenUp.Add(new(path, what));
        }
    }

    private static void WhereKept(Action take)
    {
        try
        {
            take();
        }
        catch (NotSupportedException)
        {
            // There is nothing of its kind on this file system.
        }
    }

    private static void Own(Held now, uint uid, uint gid)
    {
        if (now.Give(uid, gid) is var errno and not 0)
            throw new IOException($"its owner cannot be set: {Native.Names.Errno(errno)}");
    }
}
