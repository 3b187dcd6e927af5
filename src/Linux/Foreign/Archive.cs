using System.Buffers;
using System.Formats.Tar;
using System.IO.Compression;

namespace CalmSentry.Linux.Foreign;

/// <summary>An archive that is not unpacked: which member of it is at fault, and why, as a clause.</summary>
public sealed class ArchiveException(string member, string why, Exception? inner = null)
    : IOException($"{member}: {why}", inner)
{
    public string Member => member;

    public string Why => why;
}

/// <summary>
/// Unpacks what somebody else has packed (tar, tar.gz, zip; told apart by their first bytes) into an empty directory that nobody
/// else can write to. Nothing of it comes to lie outside, whatever its members are called: no path outside, no link that leads
/// there, nothing through a link; no devices, pipes or sockets; no more than is allowed, whatever it says of its size; nothing whose
/// checksum does not fit. Owners and the right to change accounts (set-user-id) are not taken over.
/// </summary>
public static class Archive
{
    private const int MostMembers = 200_000,
        LongestPath = 1000,
        LongestTail = 64 << 20;

    private const UnixFileMode Rights =
        UnixFileMode.UserRead
        | UnixFileMode.UserWrite
        | UnixFileMode.UserExecute
        | UnixFileMode.GroupRead
        | UnixFileMode.GroupWrite
        | UnixFileMode.GroupExecute
        | UnixFileMode.OtherRead
        | UnixFileMode.OtherExecute;

    /// <param name="archive">Its bytes, from the beginning; can be read anywhere.</param>
    /// <param name="into">An empty directory.</param>
    /// <param name="room">So much may all files together have.</param>
    /// <param name="kept">What is remembered of its members.</param>
    /// <exception cref="ArchiveException">One member is at fault; what was unpacked before it is left for the caller to remove.</exception>
    public static void Unpack(Stream archive, string into, DiskRoom room, Gathering kept)
    {
        var unpacking = new Unpacking(Path.GetFullPath(into), room, kept);
        var head = new byte[6];
        var length = archive.ReadAtLeast(head, head.Length, throwOnEndOfStream: false);
        archive.Position = 0;
        try
        {
            switch (head.AsSpan(0, length))
            {
                case [(byte)'P', (byte)'K', 3 or 5, 4 or 6, ..]:
                    Unzip(archive, unpacking);
                    break;
                case [0x1f, 0x8b, ..]:
                    using (var plain = new GZipStream(archive, CompressionMode.Decompress, leaveOpen: true))
                    {
                        Untar(new TarHeads(plain), unpacking);
                        Finish(plain);
                    }

                    break;
                default:
                    if (OtherKind(head.AsSpan(0, length)) is { } other)
                        throw new ArchiveException(
                            "the archive",
                            $"it is packed by {other}; what is taken is tar, tar.gz and zip"
                        );
                    Untar(new TarHeads(archive), unpacking);
                    break;
            }
        }
        catch (Exception error)
            when (error
                    is InvalidDataException
                        or FormatException
                        or EndOfStreamException
                        // So the runtime's readers speak of fields that are none.
                        or InvalidOperationException
                        or ArgumentException
                        or OverflowException
                        or NotSupportedException
            )
        {
            throw new ArchiveException(
                unpacking.Last,
                unpacking.Any
                    ? $"it is damaged ({error.Message.TrimEnd('.')})"
                    : "it is no tar, tar.gz or zip archive, or one that is damaged from its beginning on"
            );
        }

        unpacking.Finish();
    }

    /// <summary>What is packed otherwise, by its first bytes.</summary>
    private static string? OtherKind(ReadOnlySpan<byte> head) =>
        head switch
        {
            [0xFD, (byte)'7', (byte)'z', (byte)'X', (byte)'Z', 0] => "xz",
            [(byte)'B', (byte)'Z', (byte)'h', ..] => "bzip2",
            [0x28, 0xB5, 0x2F, 0xFD, ..] => "zstd",
            [(byte)'7', (byte)'z', 0xBC, 0xAF, 0x27, 0x1C] => "7z",
            [(byte)'R', (byte)'a', (byte)'r', (byte)'!', ..] => "rar",
            [(byte)'0', (byte)'7', (byte)'0', (byte)'7', (byte)'0', (byte)'1' or (byte)'2' or (byte)'7'] => "cpio",
            _ => null,
        };

    /// <summary>The checksum stands at the very end, behind what the tar reader reads: it is looked at when that is reached.</summary>
    private static void Finish(GZipStream plain)
    {
        var room = new byte[81920];
        var tail = 0L;
        for (int got; (got = plain.Read(room)) > 0; )
            if ((tail += got) > LongestTail)
                throw new ArchiveException("the archive", $"more than {LongestTail >> 20} MiB follow its end");
    }

    /// <summary>The same of a directory that somebody else may be at work in: what is swapped for a link is not followed.</summary>
    /// <exception cref="ArchiveException">One entry is at fault.</exception>
    public static void Copy(Held directory, string into, DiskRoom room, Gathering kept)
    {
        var unpacking = new Unpacking(Path.GetFullPath(into), room, kept, eachOnce: true);
        Below(directory, "", unpacking, 0);
        unpacking.Finish();
    }

    /// <summary>One file, as it is, at its place in the directory.</summary>
    /// <param name="at">Its path from there.</param>
    /// <param name="executable">Whoever may read it may execute it.</param>
    /// <exception cref="ArchiveException">It is at fault.</exception>
    public static void Put(Held file, string at, bool executable, string into, DiskRoom room, Gathering kept)
    {
        var unpacking = new Unpacking(Path.GetFullPath(into), room, kept);
        var what = file.Identity();
        if (what.Type != FileType.Regular)
            throw new ArchiveException(at, "it is no file");
        var mode = (UnixFileMode)(what.Mode | (executable ? (what.Mode & ForReading) >> 2 : 0));
        using (var content = file.Content())
            unpacking.File(at, content, mode, what.Written);
        unpacking.Finish();
    }

    private const int ForReading = 0x124; // 0444

    private static void Below(Held directory, string path, Unpacking unpacking, int depth)
    {
        TreeWalk.NotTooDeep(depth);
        foreach (var names in directory.All().Chunk(Together.AtOnce))
        {
            var entries = new (Held? File, FileIdentity What)[names.Length];
            try
            {
                Together.Each(
                    names.Length,
                    i =>
                    {
                        entries[i].File = directory.Entry(names[i]);
                        if (entries[i].File is { } entry)
                            entries[i].What = entry.Identity();
                    }
                );
                var files = new List<(Held File, FileIdentity What, string Name)>();
                for (var i = 0; i < names.Length; i++)
                {
                    var at = Path.Combine(path, names[i]);
                    if (entries[i].File is not { } entry)
                        throw new ArchiveException(at, "it cannot be found by its name");
                    if (entries[i].What.Type == FileType.Regular)
                        files.Add((entry, entries[i].What, at));
                    else
                        Other(entry, entries[i].What, at);
                }

                unpacking.Files(files);
            }
            finally
            {
                foreach (var (entry, _) in entries)
                    entry?.Dispose();
            }
        }

        void Other(Held entry, FileIdentity what, string at)
        {
            switch (what.Type)
            {
                case FileType.Directory:
                    unpacking.Directory(at);
                    Below(entry, at, unpacking, depth + 1);
                    break;
                case FileType.Link:
                    unpacking.Link(at, entry.Target());
                    break;
                default:
                    throw new ArchiveException(at, "it is no file, directory or link");
            }
        }
    }

    private static void Untar(TarHeads plain, Unpacking unpacking)
    {
        using var tar = new TarReader(plain, leaveOpen: true);
        while (tar.GetNextEntry() is { } entry)
        {
            var name = entry.Name;
            if (entry is PaxTarEntry { ExtendedAttributes: var more })
            {
                if (
                    more.Keys.FirstOrDefault(key => key.StartsWith("GNU.sparse.", StringComparison.Ordinal)) is not null
                )
                    throw new ArchiveException(more.GetValueOrDefault("GNU.sparse.name", name), TarHeads.Sparse);
                // The reader leaves the first half of a long name out, unless the words before say the whole of it.
                if (plain.Prefix.Length > 0 && !more.ContainsKey("path"))
                    name = $"{plain.Prefix}/{name}";
            }

            switch (entry.EntryType)
            {
                case TarEntryType.Directory:
                    unpacking.Directory(name);
                    break;
                case TarEntryType.RegularFile or TarEntryType.V7RegularFile or TarEntryType.ContiguousFile:
                    unpacking.File(name, entry.DataStream ?? Stream.Null, entry.Mode, entry.ModificationTime);
                    break;
                case TarEntryType.SymbolicLink:
                    unpacking.Link(name, entry.LinkName);
                    break;
                case TarEntryType.HardLink:
                    unpacking.Same(name, entry.LinkName);
                    break;
                case TarEntryType.GlobalExtendedAttributes:
                    break;
                default:
                    throw new ArchiveException(name, $"it is no file, directory or link ({entry.EntryType})");
            }
        }
    }

    private static void Unzip(Stream archive, Unpacking unpacking)
    {
        const int kind = 0xF000,
            link = 0xA000,
            regular = 0x8000,
            directory = 0x4000;
        // Its table of members is read as a whole: how large that is, is looked at before.
        if (ZipTable.Members(archive, MostMembers) > MostMembers)
            throw new ArchiveException("the archive", $"it has more than {MostMembers} members");
        var rest = new byte[1];
        using var zip = new ZipArchive(archive, ZipArchiveMode.Read, leaveOpen: true);
        foreach (var entry in zip.Entries)
        {
            var mode = entry.ExternalAttributes >> 16 & 0xFFFF;
            using var bytes = new Crc32(entry.Open());
            if (entry.FullName.EndsWith('/') || (mode & kind) == directory)
                unpacking.Directory(entry.FullName);
            else if ((mode & kind) == link)
                unpacking.Link(entry.FullName, Text(bytes));
            else if ((mode & kind) is 0 or regular)
                unpacking.File(
                    entry.FullName,
                    bytes,
                    (mode & 0x1FF) == 0
                        ? UnixFileMode.UserRead
                            | UnixFileMode.UserWrite
                            | UnixFileMode.GroupRead
                            | UnixFileMode.OtherRead
                        : (UnixFileMode)(mode & 0x1FF),
                    entry.LastWriteTime
                );
            else
                throw new ArchiveException(entry.FullName, "it is no file, directory or link");
            if (bytes.Read(rest) == 0 && bytes.Sum != entry.Crc32)
                throw new ArchiveException(entry.FullName, "it is damaged: its checksum does not fit");
        }

        static string Text(Stream bytes)
        {
            var room = new byte[LongestPath + 1];
            var length = bytes.ReadAtLeast(room, room.Length, throwOnEndOfStream: false);
            return System.Text.Encoding.UTF8.GetString(room, 0, length);
        }
    }

    /// <param name="eachOnce">Its names are a directory's, which has none twice: they need not be remembered.</param>
    private sealed class Unpacking(string into, DiskRoom disk, Gathering kept, bool eachOnce = false)
    {
        private const int Block = 81920;

        private readonly HashSet<string> directories = new(StringComparer.Ordinal) { "" };
        private readonly HashSet<string> others = new(StringComparer.Ordinal);
        private readonly List<(string Path, string Target, string Member)> links = [];
        private int members;
        private string folder = "";

        public string Last { get; private set; } = "the archive";

        /// <summary>A member was come to.</summary>
        public bool Any { get; private set; }

        public void Directory(string name)
        {
            var path = Take(name);
            Make(path, name);
        }

        public void File(string name, Stream from, UnixFileMode mode, DateTimeOffset written) =>
            Write(Path.Combine(into, New(name)), name, (_, into) => from.Read(into, 0, Block), mode, written);

        /// <summary>Copies held files, some at a time.</summary>
        public void Files(List<(Held File, FileIdentity What, string Name)> files)
        {
            var paths = files.Select(one => Path.Combine(into, New(one.Name))).ToList();
            Together.Each(
                files.Count,
                i =>
                {
                    var (file, what, name) = files[i];
                    using var content = file.Content();
                    Write(
                        paths[i],
                        name,
                        (at, into) => content.Read(into.AsSpan(0, Block), at),
                        (UnixFileMode)what.Mode,
                        what.Written
                    );
                }
            );
        }

        public void File(string name, Held from, UnixFileMode mode, DateTimeOffset written) =>
            Write(
                Path.Combine(into, New(name)),
                name,
                (at, into) => from.Read(into.AsSpan(0, Block), at),
                mode,
                written
            );

        private void Write(
            string path,
            string name,
            Func<long, byte[], int> read,
            UnixFileMode mode,
            DateTimeOffset written
        )
        {
            using var to = Held.Made(path);
            var room = ArrayPool<byte>.Shared.Rent(Block);
            try
            {
                var at = 0L;
                for (int got; (got = read(at, room)) > 0; at += got)
                {
                    Take(name, got);
                    to.Write(room.AsSpan(0, got));
                }
            }
            finally
            {
                ArrayPool<byte>.Shared.Return(room);
            }

            to.SetMode((int)((mode & Rights) | UnixFileMode.UserRead | UnixFileMode.UserWrite));
            if (written.Year is > 1970 and < 2200)
                to.SetWritten(written);
        }

        /// <summary>Links are made when all else is: until then no path leads through one.</summary>
        public void Link(string name, string target)
        {
            var path = New(name);
            if (target.Length is 0 or > LongestPath || target.Contains('\0', StringComparison.Ordinal))
                throw new ArchiveException(name, "it is a link to nowhere");
            if (Path.IsPathRooted(target) || Inside(Path.GetDirectoryName(path) ?? "", target) is null)
                throw new ArchiveException(name, $"it is a link that leads outside ({target})");
            kept.Keep(target);
            links.Add((path, target, name));
        }

        /// <summary>A second name of a file of this archive: a copy, so that the two are files of their own.</summary>
        public void Same(string name, string other)
        {
            var path = New(name);
            var first = Inside("", other);
            if (first is null || !others.Contains(first) || links.Exists(link => link.Path == first))
                throw new ArchiveException(name, $"it is a second name of what is not a file before it ({other})");
            Take(name, new FileInfo(Path.Combine(into, first)).Length);
            System.IO.File.Copy(Path.Combine(into, first), Path.Combine(into, path));
        }

        public void Finish()
        {
            if (members == 0)
                throw new ArchiveException("the archive", "there is nothing in it");
            foreach (var (path, target, member) in links)
            {
                // Behind a link '..' is somewhere else than it looks: no link leads through another, only to one.
                var parts = target.Split('/', StringSplitOptions.RemoveEmptyEntries);
                for (var i = 1; i < parts.Length; i++)
                    if (
                        Inside(Path.GetDirectoryName(path) ?? "", string.Join('/', parts[..i])) is { } way
                        && links.Exists(link => link.Path == way)
                    )
                        throw new ArchiveException(member, $"it is a link that leads through another ({target})");
                System.IO.File.CreateSymbolicLink(Path.Combine(into, path), target);
            }
        }

        private void Take(string name, long bytes)
        {
            try
            {
                disk.Take(bytes);
            }
            catch (NoRoomException error)
            {
                throw new ArchiveException(name, $"with it {error.Message}", error);
            }
        }

        private string New(string name)
        {
            var path = Take(name);
            if (path.Length == 0 || directories.Contains(path) || (!eachOnce && !others.Add(path)))
                throw new ArchiveException(name, "it is there already");
            // Members of one folder come one after the other: its path is made once, not for each.
            if (!Path.GetDirectoryName(path.AsSpan()).SequenceEqual(folder))
                Make(folder = Path.GetDirectoryName(path) ?? "", name);
            return path;
        }

        private string Take(string name)
        {
            (Last, Any) = (name, true);
            if (++members > MostMembers)
                throw new ArchiveException(name, $"it is one of more than {MostMembers} members");
            kept.Keep(name);
            if (name.Length is 0 or > LongestPath || name.Any(char.IsControl))
                throw new ArchiveException(name, "that is no name of a file");
            if (Path.IsPathRooted(name) || Inside("", name) is not { } path)
                throw new ArchiveException(name, "it would lie outside");
            return path;
        }

        /// <summary>Directories to here are directories, and none of them is a link or a file.</summary>
        private void Make(string path, string member)
        {
            if (directories.Contains(path))
                return;
            if (others.Contains(path))
                throw new ArchiveException(member, $"{path} is no directory");
            Make(Path.GetDirectoryName(path) ?? "", member);
            directories.Add(path);
            System.IO.Directory.CreateDirectory(
                Path.Combine(into, path),
                UnixFileMode.UserRead
                    | UnixFileMode.UserWrite
                    | UnixFileMode.UserExecute
                    | UnixFileMode.GroupRead
                    | UnixFileMode.GroupExecute
                    | UnixFileMode.OtherRead
                    | UnixFileMode.OtherExecute
            );
        }

        /// <summary>It is as short as it can be said.</summary>
        private static bool IsPlain(string path)
        {
            if (path.Length == 0)
                return false;
            foreach (var part in path.AsSpan().Split('/'))
                if (path.AsSpan(part) is "" or "." or "..")
                    return false;
            return true;
        }

        /// <summary>A path from a directory, without dots; null: it leads outside.</summary>
        private static string? Inside(string from, string path)
        {
            if (from.Length == 0 && IsPlain(path))
                return path;
            var parts = new List<string>(from.Split('/', StringSplitOptions.RemoveEmptyEntries));
            foreach (var part in path.Split('/', StringSplitOptions.RemoveEmptyEntries))
            {
                if (part == ".")
                    continue;
                if (part != "..")
                    parts.Add(part);
                else if (parts.Count == 0)
                    return null;
                else
                    parts.RemoveAt(parts.Count - 1);
            }

            return string.Join('/', parts);
        }
    }
}
