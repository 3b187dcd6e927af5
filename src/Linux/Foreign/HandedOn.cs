using CalmSentry.Linux.Files;

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

    /// <summary>New files, whose owners and rights are set some at a time.</summary>
    private readonly List<(
        Held New,
        Held? Old,
        FileIdentity? Then,
        bool Alone,
        FileIdentity Owner,
        string Path
    )> files = [];

    /// <param name="before">The present files, which others may be at work in.</param>
    /// <param name="isRootsAlone">Root alone can write in every folder down to them; what is in them is looked at here.</param>
    /// <param name="after">A tree that nobody else reaches yet.</param>
    /// <returns>What was given up.</returns>
    /// <exception cref="IOException">Something cannot be read or set.</exception>
    public IReadOnlyList<GivenUp> Adopt(Held before, bool isRootsAlone, Held after)
    {
        var top = before.Identity();
        try
        {
            Folder(before, isRootsAlone && top.IsRootsAlone, after, top, "", 0);
            GiveAll();
        }
        finally
        {
            Leave();
        }

        Give(before, top, isRootsAlone, after, "");
        givenUp.Sort((one, other) => string.CompareOrdinal(one.Path, other.Path));
        return givenUp;
    }

    private void GiveAll()
    {
        Together.Each(
            files.Count,
            i =>
            {
                var (entry, old, then, alone, owner, path) = files[i];
                Give(entry, old, then, alone, owner, path);
            }
        );
        Leave();
    }

    private void Leave()
    {
        foreach (var (entry, old, _, _, _, _) in files)
        {
            entry.Dispose();
            old?.Dispose();
        }

        files.Clear();
    }

    private void Give(Held entry, Held? old, FileIdentity? then, bool alone, FileIdentity owner, string path)
    {
        if (alone && then is { } replaced)
        {
            Give(old!, replaced, alone: true, entry, path);
            return;
        }

        Own(entry, owner.Uid, owner.Gid);
        if (then is { } lost)
            Say(old!, lost, owner, path);
    }

    /// <param name="before">Null: there is no such folder among the present files.</param>
    /// <param name="owner">Whose new files are.</param>
    private void Folder(Held? before, bool alone, Held after, FileIdentity owner, string path, int depth)
    {
        TreeWalk.NotTooDeep(depth);
        var present = new HashSet<string>(StringComparer.Ordinal);
        foreach (var name in after.All())
        {
            var at = Path.Combine(path, name);
            kept.Keep(at);
            present.Add(name);
            var entry = after.Entry(name) ?? throw new IOException($"{name} is not there any more");
            var old = before?.Entry(name);
            var what = entry.Identity();
            var then = old?.Identity() is { } seen && seen.Type == what.Type ? seen : (FileIdentity?)null;
            if (what.Type == FileType.Regular)
            {
                files.Add((entry, old, then, alone, owner, at));
                if (files.Count >= Together.AtOnce)
                    GiveAll();
                continue;
            }

            using var hold = entry;
            using var holdOld = old;
            if (what.Type == FileType.Directory)
                Folder(
                    then is null ? null : old,
                    alone && then?.IsRootsAlone == true,
                    entry,
                    alone && then is { } same ? same : owner,
                    at,
                    depth + 1
                );
            Give(entry, old, then, alone, owner, at);
        }

        if (over && before is not null)
            CopyRest(before, alone, after, present, path, depth);
    }

    private void CopyRest(Held before, bool alone, Held after, HashSet<string> present, string path, int depth)
    {
        foreach (var name in before.All())
        {
            var at = Path.Combine(path, name);
            kept.GoesOn();
            if (present.Contains(name) || skip(at))
                continue;
            kept.Keep(at);
            using var old = before.Entry(name);
            if (old?.Identity() is not { } what)
                continue; // it went meanwhile
            switch (what.Type)
            {
                case FileType.Directory:
                    using (var made = after.MakeDirectory(name, (UnixFileMode)0x1C0))
                    {
                        TreeWalk.NotTooDeep(depth + 1);
                        CopyRest(old, alone && what.IsRootsAlone, made, [], at, depth + 1);
                        Give(old, what, alone, made, at);
                    }

                    break;
                case FileType.Regular:
                    Copy(old, Path.Combine(after.Path, name), at);
                    using (var copy = after.Entry(name)!)
                        Give(old, what, alone, copy, at);
                    break;
                case FileType.Link:
                    File.CreateSymbolicLink(Path.Combine(after.Path, name), old.Target());
                    using (var link = after.Entry(name)!)
                        Own(link, what.Uid, what.Gid);
                    break;
            }
        }
    }

    private void Copy(Held from, string to, string name)
    {
        using var content = from.RegularContent(name);
        using var copy = NewFile.Begin(to, buffer: 0);
        for (int got; (got = content.Read(buffer)) > 0; )
        {
            room.Take(got);
            copy.Write(buffer, 0, got);
        }

        File.SetLastWriteTimeUtc(copy.SafeFileHandle, File.GetLastWriteTimeUtc(content.SafeFileHandle));
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
        if (then.Type == FileType.Regular)
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
