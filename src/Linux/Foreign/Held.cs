using System.Runtime.InteropServices;
using System.Text;
using CalmSentry.Linux.Native;
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
    private const int MostLinks = 40;

    private readonly bool readable;

    private Held(int descriptor, bool readable) => (Descriptor, this.readable) = (descriptor, readable);

    public int Descriptor { get; }

    /// <summary>The held file by a path that cannot be bent (proc(5), /proc/PID/fd).</summary>
    public string Path => $"/proc/self/fd/{Descriptor}";

    /// <summary>What lies at an absolute path, with every folder on the way to it, the root first.</summary>
    /// <exception cref="IOException">Something on the way is not there, or is a link that root did not make; in words,
    /// without a full stop.</exception>
    public static HeldWay Walk(string path)
    {
        var left = new Stack<string>(path.Split('/', StringSplitOptions.RemoveEmptyEntries).Reverse());
        var way = new List<(string Path, Held Held)>
        {
            ("/", Open(Libc.AT_FDCWD, "/", Libc.O_PATH | Libc.O_DIRECTORY, "/")),
        };
        var links = 0;
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
                var what = next.Identity();
                if (what.Type != FileType.Link)
                {
                    way.Add((at, next));
                    continue;
                }

                using (next)
                {
                    if (what.Uid != 0 && what.Uid != Accounts.Account.OwnId)
                        throw new IOException(
                            $"{at} is a link that {Accounts.Account.NameOf(what.Uid)} made, and only links of "
                                + $"root are followed; name the folder it leads to"
                        );
                    if (++links > MostLinks)
                        throw new IOException($"{path} leads through more than {MostLinks} links");
                    var target = next.Target();
                    if (target.StartsWith('/'))
                        Drop(way, 1);
                    foreach (var part in target.Split('/', StringSplitOptions.RemoveEmptyEntries).Reverse())
                        left.Push(part);
                }
            }

            return new HeldWay(way);
        }
        catch
        {
            Drop(way, 0);
            throw;
        }
    }

    /// <summary>
    /// A regular file, opened to be read. Links are followed: for reading what the caller may name anyway.
    /// </summary>
    /// <exception cref="IOException">It is not there, or no regular file: a pipe would be waited for, a device could do
    /// anything.</exception>
    public static FileStream Read(string path)
    {
        using var place = Open(Libc.AT_FDCWD, path, Libc.O_PATH, path);
        if (place.Identity().Type is var type && type != FileType.Regular)
            throw new IOException($"{path} is no regular file but {Words(type)}");
        using var again = new CString(place.Path);
        var file = Libc.open(again.Pointer, Libc.O_RDONLY | Libc.O_NONBLOCK | Libc.O_NOCTTY | Libc.O_CLOEXEC, 0);
        if (file < 0)
            throw Refused(path, Marshal.GetLastSystemError());
        return new FileStream(new SafeFileHandle(file, ownsHandle: true), FileAccess.Read, 1);
    }

    /// <summary>At most so many bytes from the beginning of a regular file.</summary>
    public static byte[] Head(string path, int most)
    {
        using var file = Read(path);
        var room = new byte[(int)Math.Min(most, Math.Max(file.Length, 4096))];
        return room[..file.ReadAtLeast(room, room.Length, throwOnEndOfStream: false)];
    }

    /// <summary>At most so many bytes of a small text, such as a pid file; null when it cannot be read.</summary>
    public static string? Text(string path, int most)
    {
        try
        {
            return Encoding.UTF8.GetString(Head(path, most));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <summary>An entry of this directory, itself and not what it links to; null when it is not there.</summary>
    public Held? Entry(string name)
    {
        using var text = new CString(name);
        var entry = Libc.openat(Descriptor, text.Pointer, Libc.O_PATH | Libc.O_NOFOLLOW | Libc.O_CLOEXEC, 0);
        return entry < 0 ? null : new Held(entry, readable: false);
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
        using (var below = new Held(directory, readable: true))
            foreach (var entry in below.Names())
                below.Remove(entry, top, depth + 1, deeper);
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

    /// <summary>The content of a held regular file.</summary>
    /// <exception cref="IOException">It cannot be read.</exception>
    public FileStream Content()
    {
        using var again = new CString(Path);
        var file = Libc.open(again.Pointer, Libc.O_RDONLY | Libc.O_NONBLOCK | Libc.O_NOCTTY | Libc.O_CLOEXEC, 0);
        return file >= 0
            ? new FileStream(new SafeFileHandle(file, ownsHandle: true), FileAccess.Read, 1)
            : throw Refused("a file", Marshal.GetLastSystemError());
    }

    /// <summary>Names in this directory; none where they cannot be read.</summary>
    public IReadOnlyList<string> Names()
    {
        try
        {
            return All();
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return [];
        }
    }

    /// <summary>Names in this directory.</summary>
    /// <exception cref="IOException">They cannot be read.</exception>
    public IReadOnlyList<string> All() =>
        [
            .. Directory
                .EnumerateFileSystemEntries(readable ? Path : Path + "/.")
                .Select(entry => System.IO.Path.GetFileName(entry)!),
        ];

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
    public void SetMode(int mode) => File.SetUnixFileMode(Path, (UnixFileMode)mode);

    public FileIdentity Identity()
    {
        var room = stackalloc byte[256];
        var nothing = (byte)0;
        const uint basic = 0x7ff;
        if (Libc.statx(Descriptor, &nothing, Libc.AT_EMPTY_PATH, basic, room) < 0)
            throw new IOException($"a file cannot be looked at: {Names(Marshal.GetLastSystemError())}");
        var mode = *(ushort*)(room + 28);
        return new(
            (FileType)(mode >> 12),
            mode & 0xFFF,
            *(uint*)(room + 20),
            *(uint*)(room + 24),
            *(uint*)(room + 16),
            $"{*(uint*)(room + 136)}:{*(uint*)(room + 140)}",
            *(ulong*)(room + 32),
            *(long*)(room + 40)
        )
        {
            Written = DateTimeOffset
                .FromUnixTimeSeconds(Math.Clamp(*(long*)(room + 112), 0, DateTimeOffset.MaxValue.ToUnixTimeSeconds()))
                .AddTicks(*(uint*)(room + 120) / 100),
        };
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

    private static IOException Refused(string path, int errno) =>
        errno switch
        {
            Libc.ENOENT => new FileNotFoundException($"{path} is not there"),
            Libc.EMFILE or Libc.ENFILE or Libc.ENOMEM => new OwnTroubleException(
                $"the sentry is out of room ({Names(errno)})"
            ),
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

    private static void Drop(List<(string Path, Held Held)> way, int keep)
    {
        foreach (var (_, held) in way.Skip(keep))
            held.Dispose();
        way.RemoveRange(keep, way.Count - keep);
    }
}

/// <summary>A path as it was walked: the folders on the way, and what it leads to.</summary>
public sealed class HeldWay(IReadOnlyList<(string Path, Held Held)> all) : IDisposable
{
    /// <summary>The path without links.</summary>
    public string Path => all[^1].Path;

    public Held Held => all[^1].Held;

    /// <summary>Folders above it, the root first.</summary>
    public IEnumerable<(string Path, Held Held)> Above => all.SkipLast(1);

    public void Dispose()
    {
        foreach (var (_, held) in all)
            held.Dispose();
    }
}

/// <summary>
/// The sentry itself is at fault, such as being out of descriptors: it says nothing of what was looked at.
/// </summary>
public sealed class OwnTroubleException(string message) : IOException(message);
