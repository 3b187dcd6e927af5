using System.Buffers;

namespace CalmSentry.Linux.Foreign;

/// <summary>A new file and what lies at its path among the present ones, both held.</summary>
internal sealed record FilePair(Held New, FileIdentity What, Held? Old, FileIdentity? Seen, string Path) : IDisposable
{
    /// <summary>Root alone can write in every folder down to the present one.</summary>
    public bool Alone { get; init; }

    /// <summary>Whose new files are there, where there is none of before.</summary>
    public FileIdentity Owner { get; init; }

    /// <summary>The present one, where it is of the same kind.</summary>
    public FileIdentity? Then => Seen is { } seen && seen.Type == What.Type ? seen : null;

    public void Dispose()
    {
        New.Dispose();
        Old?.Dispose();
    }
}

/// <summary>
/// One walk through two trees, the present one, which others may be at work in, and a new one, which nobody else reaches: what differs,
/// and what is to be done for each pair. Files are looked at some at a time, on all processors.
/// </summary>
/// <param name="skip">Paths that do not count.</param>
/// <param name="rights">Hands owners and rights on, for each pair; null: nothing is changed.</param>
internal sealed class TreePairs(Func<string, bool> skip, Gathering kept, HandedOn? rights = null)
{
    private const int Block = 81920;

    private readonly Lock finding = new();
    private readonly List<string> added = [],
        changed = [],
        gone = [];
    private int same;
    private long bytes;

    public TreeDifference Found()
    {
        foreach (var list in new[] { added, changed, gone })
            list.Sort(StringComparer.Ordinal);
        return new(added, changed, gone, same, bytes);
    }

    /// <param name="before">Null: there was no such folder.</param>
    /// <param name="after">Null: there is none any more.</param>
    /// <param name="alone">As of <see cref="FilePair"/>, of what is in it.</param>
    /// <exception cref="IOException">Something cannot be read or set.</exception>
    public void Folder(
        Held? before,
        Held? after,
        string path,
        int depth,
        bool alone = false,
        FileIdentity owner = default
    )
    {
        TreeWalk.NotTooDeep(depth);
        var present = new HashSet<string>(StringComparer.Ordinal);
        foreach (var names in (after?.All() ?? []).Chunk(Together.AtOnce))
        {
            foreach (var name in names)
            {
                kept.Keep(Path.Combine(path, name));
                kept.Keep(name);
                present.Add(name);
            }

            var others = new FilePair?[names.Length];
            try
            {
                Together.Each(names.Length, i => others[i] = Look(before, after!, path, names[i], alone, owner));
                foreach (var other in others)
                    if (other is not null)
                        Other(other, depth);
            }
            finally
            {
                foreach (var other in others)
                    other?.Dispose();
            }
        }

        foreach (var name in before?.All() ?? [])
        {
            var at = Path.Combine(path, name);
            kept.GoesOn();
            if (present.Contains(name) || skip(at))
                continue;
            kept.Keep(at);
            using var old = before!.Entry(name);
            if (old?.Identity() is not { } what)
                continue; // it went meanwhile
            if (after is not null && rights?.TakesAlong(old, what, alone, after, name, at, depth, this) == true)
                continue;
            if (what.Type == FileType.Directory)
                Folder(old, null, at, depth + 1);
            else
                gone.Add(at);
        }
    }

    /// <summary>A file that came along of the present ones.</summary>
    public void CameAlong(FileIdentity what)
    {
        same++;
        bytes += what.Size;
    }

    /// <summary>A file is done with at once; of whatever else there is, or was, the pair comes back.</summary>
    private FilePair? Look(Held? before, Held after, string path, string name, bool alone, FileIdentity owner)
    {
        var at = Path.Combine(path, name);
        if (rights is null && skip(at))
            return null;
        var entry = after.Opened(name);
        if (entry is null)
            return rights is null ? null : throw new IOException($"{name} is not there any more");
        Held? old = null;
        FilePair? pair = null;
        try
        {
            old = before?.Entry(name);
            pair = new(entry, entry.Identity(), old, old?.Identity(), at) { Alone = alone, Owner = owner };
            if (pair.What.Type != FileType.Regular || pair.Seen?.Type == FileType.Directory)
                return pair;
            Compare(pair);
            rights?.Give(pair);
        }
        catch
        {
            entry.Dispose();
            old?.Dispose();
            throw;
        }

        pair.Dispose();
        return null;
    }

    private void Other(FilePair pair, int depth)
    {
        var (folder, folderBefore) = (pair.What.Type == FileType.Directory, pair.Seen?.Type == FileType.Directory);
        if (folder || folderBefore)
            Folder(
                folderBefore ? pair.Old : null,
                folder ? pair.New : null,
                pair.Path,
                depth + 1,
                pair.Alone && folder && pair.Then?.IsRootsAlone == true,
                pair.Alone && folder && pair.Then is { } then ? then : pair.Owner
            );
        if (folder && pair.Seen is not null && !folderBefore)
            gone.Add(pair.Path);
        if (!folder)
            Compare(pair);
        rights?.Give(pair);
    }

    private void Compare(FilePair pair)
    {
        var (now, was) = (pair.What, pair.Seen);
        var found =
            was is null || was.Value.Type == FileType.Directory ? added
            : was.Value.Type != now.Type || was.Value.Size != now.Size ? changed
            : now.Type == FileType.Regular && now.Size > 0 && !SameContent(pair) ? changed
            : now.Type == FileType.Link && pair.Old!.Target() != pair.New.Target() ? changed
            : null;
        lock (finding)
        {
            bytes += now.Size;
            if (found is null)
                same++;
            else
                found.Add(pair.Path);
        }
    }

    private static bool SameContent(FilePair pair)
    {
        using var was = pair.Old!.Content();
        var (one, other) = (ArrayPool<byte>.Shared.Rent(Block), ArrayPool<byte>.Shared.Rent(Block));
        try
        {
            for (var at = 0L; at < pair.What.Size; )
            {
                var block = (int)Math.Min(Block, pair.What.Size - at);
                var (old, young) = (Next(was, one.AsSpan(0, block), at), Next(pair.New, other.AsSpan(0, block), at));
                if (!one.AsSpan(0, old).SequenceEqual(other.AsSpan(0, young)))
                    return false;
                if (old == 0)
                    break; // both have become shorter
                at += old;
            }

            return true;
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(one);
            ArrayPool<byte>.Shared.Return(other);
        }
    }

    private static int Next(Held from, Span<byte> room, long at)
    {
        var all = 0;
        for (int got; all < room.Length && (got = from.Read(room[all..], at + all)) > 0; )
            all += got;
        return all;
    }
}
