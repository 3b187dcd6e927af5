using System.Runtime.InteropServices;
using System.Text;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Troubles;
using Microsoft.Win32.SafeHandles;

namespace CalmSentry.Linux.Foreign;

/// <summary>What a file is, by its descriptor (statx(2)).</summary>
/// <param name="Links">Names it has.</param>
/// <param name="Device">Of the file system it lies on, as MAJOR:MINOR.</param>
public readonly record struct FileIdentity(
    FileType Type,
    int Mode,
    uint Uid,
    uint Gid,
    long Links,
    string Device,
    ulong Inode,
    long Size
)
{
    /// <summary>Tells it from every other file of this machine for as long as it is there.</summary>
    public string Id => $"{Device}:{Inode}";

    /// <summary>When its content was last changed.</summary>
    public DateTimeOffset Written { get; init; }

    /// <summary>The mount it was reached through (statx(2), stx_mnt_id): nothing is moved from one to another.</summary>
    public ulong Mount { get; init; }

    /// <summary>
    /// Of a folder: only root (or the account the sentry runs as) can put anything there, or take anything away. An access list
    /// that lets somebody else write shows in the mode, as its mask.
    /// </summary>
    public bool IsRootsAlone =>
        Type == FileType.Directory && Accounts.Account.IsTrusted(Uid) && (Mode & WrittenByOthers) == 0;

    private const int WrittenByOthers = 0x12, // group and others
        Sticky = 0x200;

    /// <summary>Of a folder that all can write: what somebody put there only they can move (the sticky bit).</summary>
    public bool KeepsNames => Type == FileType.Directory && Accounts.Account.IsTrusted(Uid) && (Mode & Sticky) != 0;
}

public enum FileType
{
    Pipe = 1,
    CharacterDevice = 2,
    Directory = 4,
    BlockDevice = 6,
    Regular = 8,
    Link = 10,
    Socket = 12,
}

/// <summary>
/// A file or directory held by its descriptor. Between two looks at a path whoever owns a directory on it can put
/// something
/// else there; what is held stays what it is. Everything the sentry does, as root, to files that others control goes
/// through
/// here: no link is followed that root did not make, nothing is opened that could make it wait.
/// </summary>
public sealed unsafe class Held : IDisposable
{
    private const int MostLinks = 40,
        AtOnce = 4096;

    /// <summary>It can be read, or written, and does not only name a place (O_PATH).</summary>
    private readonly bool isOpen;

    private Held(int descriptor, bool isOpen) => (Descriptor, this.isOpen) = (descriptor, isOpen);

    public int Descriptor { get; }

    /// <summary>The held file by a path that cannot be bent (proc(5), /proc/PID/fd).</summary>
    public string Path => $"/proc/self/fd/{Descriptor}";

    /// <summary>What lies at an absolute path, with every folder on the way to it, the root first.</summary>
    /// <exception cref="IOException">Something on the way is not there, or is a link that is not followed there; in words,
    /// without a full stop.</exception>
    public static HeldWay Walk(Ground ground, string path)
    {
        var left = new Stack<string>(path.Split('/', StringSplitOptions.RemoveEmptyEntries).Reverse());
        var way = new List<HeldStep> { HeldStep.Root(Open(Libc.AT_FDCWD, "/", Libc.O_PATH | Libc.O_DIRECTORY, "/")) };
        var links = new List<string>();
        try
        {
            while (left.TryPop(out var name))
            {
                if (name == ".")
                    continue;
                if (name == "..")
                {
                    if (way.Count == 1)
                        continue;
                    way[^1].Held.Dispose();
                    way.RemoveAt(way.Count - 1);
                    continue;
                }

                var at = System.IO.Path.Combine(way[^1].Path, name);
                var next = Open(way[^1].Held.Descriptor, name, Libc.O_PATH | Libc.O_NOFOLLOW, at);
                var step = way[^1].Into(at, next);
                if (step.Identity.Type != FileType.Link)
                {
                    way.Add(step);
                    continue;
                }

                using (next)
                {
                    NotFollowed(ground, at, step.Identity, way[^1]);
                    links.Add(at);
                    if (links.Count > MostLinks)
                        throw new IOException($"{path} leads through more than {MostLinks} links");
                    var target = next.Target();
                    if (target.StartsWith('/'))
                        Drop(way, 1);
                    foreach (var part in target.Split('/', StringSplitOptions.RemoveEmptyEntries).Reverse())
                        left.Push(part);
                }
            }

            return new HeldWay(way, links);
        }
        catch
        {
            Drop(way, 0);
            throw;
        }
    }

    /// <summary>A link of root's says where root wants to go only where nobody else can have moved it to.</summary>
    private static void NotFollowed(Ground ground, string at, FileIdentity link, HeldStep folder)
    {
        if (ground.Links == Links.All)
            return;
        if (ground.Links == Links.None)
            throw new IOException($"{at} is a link, and none is followed there");
        if (!Accounts.Account.IsTrusted(link.Uid))
            throw new IOException(
                $"{at} is a link that {Accounts.Account.NameOf(link.Uid)} made, and only links of "
                    + $"root are followed; name the folder it leads to"
            );
        if (!folder.IsRootsAlone)
            throw new IOException(
                $"{at} is a link in a folder that others than root can write, who may have moved it there; name what it leads to"
            );
    }

    /// <summary>A regular file, opened to be read.</summary>
    /// <exception cref="IOException">It is not there, or no regular file: a pipe would be waited for, a device could do
    /// anything.</exception>
    public static FileStream Read(Ground ground, string path)
    {
        if (ground.Links != Links.All)
        {
            using var way = Walk(ground, path);
            return way.Held.RegularContent(path);
        }

        using var place = Open(Libc.AT_FDCWD, path, Libc.O_PATH, path);
        return place.RegularContent(path);
    }

    /// <summary>The content of this file, which must be a regular one.</summary>
    /// <param name="path">What it is called in an error.</param>
    /// <exception cref="IOException">It is none, or cannot be read.</exception>
    public FileStream RegularContent(string path)
    {
        if (Identity().Type is var type && type != FileType.Regular)
            throw new IOException($"{path} is no regular file but {Words(type)}");
        using var again = new CString(Path);
        var file = Libc.open(again.Pointer, Libc.O_RDONLY | Libc.O_NONBLOCK | Libc.O_NOCTTY | Libc.O_CLOEXEC, 0);
        if (file < 0)
            throw Refused(path, Marshal.GetLastSystemError());
        return new FileStream(new SafeFileHandle(file, ownsHandle: true), FileAccess.Read, 1);
    }

    /// <summary>At most so many bytes from the beginning of a regular file.</summary>
    public static byte[] Head(Ground ground, string path, int most)
    {
        using var file = Read(ground, path);
        var room = new byte[(int)Math.Min(most, Math.Max(file.Length, 4096))];
        return room[..file.ReadAtLeast(room, room.Length, throwOnEndOfStream: false)];
    }

    /// <summary>At most so many bytes of a small text, such as a pid file; null when it cannot be read.</summary>
    public static string? Text(Ground ground, string path, int most)
    {
        try
        {
            return Encoding.UTF8.GetString(Head(ground, path, most));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <summary>An entry of this directory, itself and not what it links to; null when it is not there.</summary>
    /// <exception cref="OwnTroubleException">The sentry is out of descriptors or memory, which says nothing of the entry.</exception>
    public Held? Entry(string name)
    {
        using var text = new CString(name);
        var entry = Libc.openat(Descriptor, text.Pointer, Libc.O_PATH | Libc.O_NOFOLLOW | Libc.O_CLOEXEC, 0);
        if (entry >= 0)
            return new Held(entry, isOpen: false);
        return Marshal.GetLastSystemError() is var errno && IsOwnTrouble(errno) ? throw Refused(name, errno) : null;
    }

    /// <summary>Makes a directory in this one, or takes the one that is there; it must be this process's own.</summary>
    /// <exception cref="IOException">It cannot be made, or there is something of somebody else's.</exception>
    public Held MakeDirectory(string name, UnixFileMode mode)
    {
        using var text = new CString(name);
        var made = Libc.mkdirat(Descriptor, text.Pointer, 0x1C0) == 0;
        if (!made && Marshal.GetLastSystemError() is var errno and not Libc.EEXIST)
            throw Refused(name, errno);
        var directory = Open(Descriptor, name, Libc.O_RDONLY | Libc.O_DIRECTORY | Libc.O_NOFOLLOW, name);
        if (directory.Identity().Uid != Accounts.Account.OwnId)
        {
            directory.Dispose();
            throw new IOException($"{name} is there already and belongs to somebody else");
        }

        _ = Libc.fchmod(directory.Descriptor, (uint)mode);
        return directory;
    }

    /// <summary>
    /// Puts a file into this directory, whole or not at all, given away before anybody can see it under its name.
    /// </summary>
    /// <exception cref="IOException">It cannot be written.</exception>
    public void Put(string name, ReadOnlySpan<byte> content, UnixFileMode mode, Accounts.Account owner)
    {
        var beside = $".{Guid.NewGuid():N}";
        using var hidden = new CString(beside);
        using var final = new CString(name);
        var file = Libc.openat(
            Descriptor,
            hidden.Pointer,
            Libc.O_WRONLY | Libc.O_CREAT | Libc.O_EXCL | Libc.O_NOFOLLOW | Libc.O_CLOEXEC,
            0x180
        );
        if (file < 0)
            throw Refused(name, Marshal.GetLastSystemError());
        var errno = 0;
        fixed (byte* bytes = content)
            for (var put = 0; put < content.Length && errno == 0; )
            {
                var more = Libc.write(file, bytes + put, content.Length - put);
                if (more < 0)
                    errno = Marshal.GetLastSystemError();
                else
                    put += (int)more;
            }

        if (errno == 0 && owner.Uid != Accounts.Account.OwnId && Libc.fchown(file, owner.Uid, owner.Gid) < 0)
            errno = Marshal.GetLastSystemError();
        if (errno == 0 && Libc.fchmod(file, (uint)mode) < 0)
            errno = Marshal.GetLastSystemError();
        _ = Libc.close(file);
        if (errno == 0 && Libc.renameat(Descriptor, hidden.Pointer, Descriptor, final.Pointer) < 0)
            errno = Marshal.GetLastSystemError();
        if (errno == 0)
            return;
        _ = Libc.unlinkat(Descriptor, hidden.Pointer, 0);
        throw Refused(name, errno);
    }

    /// <summary>
    /// Removes an entry of this directory and all below it; links are removed, never followed. However deep it is, few folders
    /// are held at a time: what lies deeper is brought up first.
    /// </summary>
    public void Remove(string name)
    {
        var deeper = new Queue<string>();
        deeper.Enqueue(name);
        while (deeper.TryDequeue(out var next))
            Remove(next, this, 0, deeper);
        // What was brought up stood in it.
        Remove(name, this, 0, deeper);
    }

    private void Remove(string name, Held top, int depth, Queue<string> deeper)
    {
        using var text = new CString(name);
        if (Libc.unlinkat(Descriptor, text.Pointer, 0) == 0)
            return;
        const int deepest = 64;
        if (depth > deepest)
        {
            var up = $".removed-{Guid.NewGuid():N}";
            if (Move(name, top, up))
                deeper.Enqueue(up);
            return;
        }

        var directory = Libc.openat(
            Descriptor,
            text.Pointer,
            Libc.O_RDONLY | Libc.O_DIRECTORY | Libc.O_NOFOLLOW | Libc.O_CLOEXEC,
            0
        );
        if (directory < 0)
            return;
        // Some at a time: what is removed while names are read may or may not be among them.
        using (var below = new Held(directory, isOpen: true))
            for (List<string> some; (some = [.. below.Names().Take(AtOnce)]).Count > 0; )
            {
                foreach (var entry in some)
                    below.Remove(entry, top, depth + 1, deeper);
                if (below.Names().Take(AtOnce).SequenceEqual(some))
                    break; // none of them goes
            }
        _ = Libc.unlinkat(Descriptor, text.Pointer, Libc.AT_REMOVEDIR);
    }

    /// <summary>Removes a directory in this one if nothing is in it.</summary>
    public void RemoveEmpty(string name)
    {
        using var text = new CString(name);
        _ = Libc.unlinkat(Descriptor, text.Pointer, Libc.AT_REMOVEDIR);
    }

    /// <summary>Moves an entry of this directory into another one on the same file system.</summary>
    public bool Move(string name, Held to, string newName)
    {
        using var from = new CString(name);
        using var into = new CString(newName);
        return Libc.renameat(Descriptor, from.Pointer, to.Descriptor, into.Pointer) == 0;
    }

    /// <summary>The same, where there is nothing of that name yet (rename(2), RENAME_NOREPLACE).</summary>
    /// <returns>errno, 0 when it is done.</returns>
    public int MoveNew(string name, Held to, string newName) => Rename(name, to, newName, Libc.RENAME_NOREPLACE);

    /// <summary>Exchanges two entries in one stroke: at no moment is either missing (rename(2), RENAME_EXCHANGE).</summary>
    /// <returns>errno, 0 when it is done.</returns>
    public int Exchange(string name, Held other, string otherName) =>
        Rename(name, other, otherName, Libc.RENAME_EXCHANGE);

    private int Rename(string name, Held to, string newName, uint flags)
    {
        using var from = new CString(name);
        using var into = new CString(newName);
        return Libc.renameat2(Descriptor, from.Pointer, to.Descriptor, into.Pointer, flags) == 0
            ? 0
            : Marshal.GetLastSystemError();
    }

    /// <summary>What was changed in this directory survives a power cut from here on (fsync(2)).</summary>
    /// <param name="all">And all else on its file system (syncfs(2)).</param>
    /// <exception cref="IOException">It does not.</exception>
    public void Flush(bool all = false)
    {
        using var same = Open(Descriptor, ".", Libc.O_RDONLY | Libc.O_DIRECTORY, ".");
        if ((all ? Libc.syncfs(same.Descriptor) : Libc.fsync(same.Descriptor)) < 0)
            throw Refused("it cannot be written to the disk", Marshal.GetLastSystemError());
    }

    /// <summary>A held regular file once more, to be read.</summary>
    /// <exception cref="IOException">It cannot be.</exception>
    public Held Content()
    {
        using var again = new CString(Path);
        var file = Libc.open(again.Pointer, Libc.O_RDONLY | Libc.O_NONBLOCK | Libc.O_NOCTTY | Libc.O_CLOEXEC, 0);
        return file >= 0 ? new Held(file, isOpen: true) : throw Refused("a file", Marshal.GetLastSystemError());
    }

    /// <summary>
    /// An entry of this directory, which nobody else reaches, to be read; a link itself. Null when it is not there.
    /// </summary>
    public Held? Opened(string name)
    {
        using var text = new CString(name);
        var entry = Libc.openat(
            Descriptor,
            text.Pointer,
            Libc.O_RDONLY | Libc.O_NOFOLLOW | Libc.O_NONBLOCK | Libc.O_NOCTTY | Libc.O_CLOEXEC,
            0
        );
        return entry < 0 ? Entry(name) : new Held(entry, isOpen: true);
    }

    /// <summary>A regular file that was not there before and that nobody but its owner can read or write, to be written.</summary>
    /// <exception cref="IOException">There is something of this name already, or it cannot be made.</exception>
    public static Held Made(string path)
    {
        using var text = new CString(path);
        var file = Libc.open(
            text.Pointer,
            Libc.O_WRONLY | Libc.O_CREAT | Libc.O_EXCL | Libc.O_NOFOLLOW | Libc.O_CLOEXEC,
            0x180
        );
        return file >= 0 ? new Held(file, isOpen: true) : throw Refused(path, Marshal.GetLastSystemError());
    }

    /// <summary>Bytes of a file that is open, from a place on; 0: it ends there.</summary>
    public int Read(Span<byte> room, long at)
    {
        fixed (byte* bytes = room)
            return Libc.pread(Descriptor, bytes, room.Length, at) is >= 0 and var got
                ? (int)got
                : throw Refused("a file", Marshal.GetLastSystemError());
    }

    /// <summary>Writes to the end of a file that is open.</summary>
    public void Write(ReadOnlySpan<byte> content)
    {
        fixed (byte* bytes = content)
            for (nint put = 0, more; put < content.Length; put += more)
                if ((more = Libc.write(Descriptor, bytes + put, content.Length - put)) < 0)
                    throw Refused("a file", Marshal.GetLastSystemError());
    }

    /// <summary>When the content of a file that is open was last changed; when it was last read stays as it is.</summary>
    public void SetWritten(DateTimeOffset time)
    {
        const long omit = (1 << 30) - 2; // UTIME_OMIT
        var ticks = time.UtcTicks - DateTimeOffset.UnixEpoch.Ticks;
        var (seconds, rest) = Math.DivRem(ticks, TimeSpan.TicksPerSecond);
        var times = stackalloc long[4] { 0, omit, seconds, rest * 100 };
        _ = Libc.futimens(Descriptor, times);
    }

    /// <summary>Names in this directory, as they are read; none where they cannot be.</summary>
    public IEnumerable<string> Names()
    {
        IEnumerable<string> all;
        try
        {
            all = All();
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            yield break;
        }

        using var names = all.GetEnumerator();
        while (Next(names))
            yield return names.Current;

        static bool Next(IEnumerator<string> names)
        {
            try
            {
                return names.MoveNext();
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                return false;
            }
        }
    }

    /// <summary>Names in this directory, as they are read: there may be more than memory holds.</summary>
    /// <exception cref="IOException">They cannot be read.</exception>
    public IEnumerable<string> All() =>
        Directory
            .EnumerateFileSystemEntries(isOpen ? Path : Path + "/.")
            .Select(entry => System.IO.Path.GetFileName(entry)!);

    /// <summary>Gives the held file to an account, itself and not what it links to.</summary>
    /// <returns>errno, 0 when it is done.</returns>
    public int Give(uint uid, uint gid)
    {
        var nothing = (byte)0;
        return Libc.fchownat(Descriptor, &nothing, uid, gid, Libc.AT_EMPTY_PATH) == 0
            ? 0
            : Marshal.GetLastSystemError();
    }

    /// <summary>Sets the rights of the held file; never used on a link.</summary>
    /// <exception cref="IOException">They cannot be set.</exception>
    public void SetMode(int mode)
    {
        if (!isOpen)
            File.SetUnixFileMode(Path, (UnixFileMode)mode);
        else if (Libc.fchmod(Descriptor, (uint)mode) < 0)
            throw Refused("its rights cannot be set", Marshal.GetLastSystemError());
    }

    public FileIdentity Identity()
    {
        var room = stackalloc byte[256];
        var nothing = (byte)0;
        const uint basic = 0x7ff,
            mount = 0x1000;
        if (Libc.statx(Descriptor, &nothing, Libc.AT_EMPTY_PATH, basic | mount, room) < 0)
            throw new IOException($"a file cannot be looked at: {Names(Marshal.GetLastSystemError())}");
        var mode = *(ushort*)(room + 28);
        return new(
            (FileType)(mode >> 12),
            mode & 0xFFF,
            *(uint*)(room + 20),
            *(uint*)(room + 24),
            *(uint*)(room + 16),
            Device(*(uint*)(room + 136), *(uint*)(room + 140)),
            *(ulong*)(room + 32),
            *(long*)(room + 40)
        )
        {
            Written = DateTimeOffset
                .FromUnixTimeSeconds(Math.Clamp(*(long*)(room + 112), 0, DateTimeOffset.MaxValue.ToUnixTimeSeconds()))
                .AddTicks(*(uint*)(room + 120) / 100),
            Mount = *(ulong*)(room + 144),
        };
    }

    [ThreadStatic]
    private static (uint Major, uint Minor, string Text)? device; // of a tree all lies on the same

    private static string Device(uint major, uint minor)
    {
        if (device is { } known && known.Major == major && known.Minor == minor)
            return known.Text;
        device = (major, minor, $"{major}:{minor}");
        return device.Value.Text;
    }

    public void Dispose() => _ = Libc.close(Descriptor);

    /// <summary>Where a held link leads, as it is written in it.</summary>
    public string Target()
    {
        var room = stackalloc byte[4096];
        var nothing = (byte)0;
        var length = Libc.readlinkat(Descriptor, &nothing, room, 4096);
        return length <= 0 ? "" : Encoding.UTF8.GetString(room, (int)length);
    }

    private static Held Open(int directory, string name, int flags, string path)
    {
        using var text = new CString(name);
        var file = Libc.openat(directory, text.Pointer, flags | Libc.O_CLOEXEC, 0);
        return file >= 0
            ? new Held(file, (flags & Libc.O_PATH) == 0)
            : throw Refused(path, Marshal.GetLastSystemError());
    }

    private static bool IsOwnTrouble(int errno) => errno is Libc.EMFILE or Libc.ENFILE or Libc.ENOMEM;

    private static IOException Refused(string path, int errno) =>
        errno switch
        {
            Libc.ENOENT => new FileNotFoundException($"{path} is not there"),
            _ when IsOwnTrouble(errno) => new OwnTroubleException($"the sentry is out of room ({Names(errno)})"),
            _ => new IOException($"{path}: {Names(errno)}"),
        };

    private static string Names(int errno) => Native.Names.Errno(errno);

    private static string Words(FileType type) =>
        type switch
        {
            FileType.Directory => "a directory",
            FileType.Pipe => "a named pipe",
            FileType.Socket => "a socket",
            _ => "a device",
        };

    private static void Drop(List<HeldStep> way, int keep)
    {
        foreach (var step in way.Skip(keep))
            step.Held.Dispose();
        way.RemoveRange(keep, way.Count - keep);
    }
}

/// <summary>One step of a way.</summary>
/// <param name="IsFirm">Nobody but root can have put something else at this path, from the root on.</param>
public sealed record HeldStep(string Path, Held Held, FileIdentity Identity, bool IsFirm)
{
    public static HeldStep Root(Held held) => new("/", held, held.Identity(), IsFirm: true);

    /// <summary>Only root can put anything here, and nobody can have put another folder in its place.</summary>
    public bool IsRootsAlone => IsFirm && Identity.IsRootsAlone;

    /// <summary>
    /// The step from here to an entry. In a folder whose entries only their owners can move, root's own folders stay root's: to move a
    /// folder there from somewhere else takes the right to write in it.
    /// </summary>
    public HeldStep Into(string path, Held entry)
    {
        var identity = entry.Identity();
        var kept =
            Identity.KeepsNames && identity.Type == FileType.Directory && Accounts.Account.IsTrusted(identity.Uid);
        return new(path, entry, identity, IsFirm && (Identity.IsRootsAlone || kept));
    }
}

/// <summary>A path as it was walked: the folders on the way, and what it leads to.</summary>
/// <param name="links">The links that were followed.</param>
public sealed class HeldWay(IReadOnlyList<HeldStep> all, IReadOnlyList<string> links) : IDisposable
{
    /// <summary>The path without links.</summary>
    public string Path => all[^1].Path;

    public Held Held => all[^1].Held;

    /// <summary>Links of root's that led there.</summary>
    public IReadOnlyList<string> Links => links;

    /// <summary>The last step, and the folders above it, the root first.</summary>
    public HeldStep Last => all[^1];

    public IEnumerable<HeldStep> Above => all.SkipLast(1);

    /// <summary>
    /// The nearest folder, this one or above it and on the same mount, that root alone can write as it can every one above that; null:
    /// there is none.
    /// </summary>
    public HeldStep? NearestOfRoot() =>
        all.LastOrDefault(step => step.IsRootsAlone && step.Identity.Mount == all[^1].Identity.Mount);

    public void Dispose()
    {
        foreach (var step in all)
            step.Held.Dispose();
    }
}
