using System.Runtime.InteropServices;
using CalmSentry.Contract.Keeper;
using CalmSentry.Linux.Accounts;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// Being an account for a moment, so that what it may do is asked of the kernel and not worked out:
/// <c>as UID GID GROUP,GROUP… JOIN:JOIN… run DIRECTORY PROGRAM ARGUMENT…</c> becomes a program; <c>… ask</c> answers
/// questions;
/// <c>… send SOCKET</c> connects to a Unix socket; <c>… read FILE</c> prints one; <c>… list DIRECTORY BEGINNING</c> names what is there. JOIN are control groups, entered first. <c>… seeing FROM AT …</c>, before one of
/// these: the directory FROM is seen at AT, by this process and what it starts alone; <c>… offline …</c>: they have no network,
/// and may take so much memory, processes and disk as reading a program takes, and no more (setrlimit(2)).
/// </summary>
internal static unsafe class As
{
    private const int Failed = 126,
        Unseen = 125,
        Gone = 124,
        NotOffline = 123;

    public static int Become(string uid, string gid, string groups, string join, ReadOnlySpan<string> rest)
    {
        foreach (var group in join.Split(':', StringSplitOptions.RemoveEmptyEntries))
            // Of version 1 the one thread that goes on is enough, and is moved without stopping others.
            if (
                !Enter.Joined(new Linux.Native.CString($"{group}/tasks").Pointer)
                && !Enter.Joined(new Linux.Native.CString($"{group}/cgroup.procs").Pointer)
            )
                return Failed;
        Enter.TakeUsualStanding(keepsProcessors: false);
        if (rest is ["seeing", var from, var at, ..])
        {
            if (See(from, at) is not 0 and var why)
                return why;
            rest = rest[3..];
        }

        if (rest is ["offline", ..])
        {
            const int CLONE_NEWNET = 0x40000000;
            if (unshare(CLONE_NEWNET) < 0)
                return NotOffline;
            Bound(RLIMIT_DATA, 1UL << 30);
            Bound(RLIMIT_FSIZE, 16 << 20);
            Bound(RLIMIT_CORE, 0);
            Bound(RLIMIT_NPROC, 4096); // all of the account's count
            rest = rest[1..];
        }

        var environment = Environ(); // while it is still ours to read: changing the account closes it
        if (uid != "-")
        {
            var ids = groups.Split(',', StringSplitOptions.RemoveEmptyEntries);
            var numbers = (uint*)NativeMemory.Alloc((nuint)ids.Length + 1, sizeof(uint));
            for (var i = 0; i < ids.Length; i++)
                numbers[i] = uint.Parse(ids[i]);
            if (Enter.TakeIdentity(long.Parse(uid), long.Parse(gid), numbers, ids.Length) != LaunchStep.None)
                return Failed;
        }

        return rest switch
        {
            ["ask"] => Answer(),
            ["send", var socket] => Send(socket),
            ["read", var file] => ReadOut(file),
            ["list", var directory, var beginning] => ListOut(directory, beginning),
            ["run", var directory, .. var program] => Run(directory, program, environment),
            _ => 2,
        };
    }

    private static void Bound(int resource, ulong most)
    {
        var limits = stackalloc ulong[2] { most, most };
        _ = setrlimit(resource, limits);
    }

    /// <summary>No link is followed on either way, so that it is these two and no others.</summary>
    /// <returns>0, or with which exit code it ends.</returns>
    private static int See(string from, string at)
    {
        using var none = new Linux.Native.CString("none");
        using var root = new Linux.Native.CString("/");
        if (unshare(CLONE_NEWNS) < 0 || mount(none.Pointer, root.Pointer, null, MS_REC | MS_PRIVATE, null) < 0)
            return Unseen;
        var (there, here) = (Place(from), Place(at));
        using var source = new Linux.Native.CString($"/proc/self/fd/{there}");
        using var target = new Linux.Native.CString($"/proc/self/fd/{here}");
        var seen =
            there < 0 || here < 0 ? Gone
            : mount(source.Pointer, target.Pointer, null, MS_BIND, null) == 0 ? 0
            : Unseen;
        _ = close(there);
        _ = close(here);
        return seen;

        static int Place(string path)
        {
            using var text = new Linux.Native.CString(path);
            return openat2(
                AT_FDCWD,
                text.Pointer,
                O_PATH | O_DIRECTORY | O_CLOEXEC,
                RESOLVE_NO_SYMLINKS | RESOLVE_NO_MAGICLINKS
            );
        }
    }

    private static int Run(string directory, ReadOnlySpan<string> program, byte** environment)
    {
        using var place = new Linux.Native.CString(directory);
        if (chdir(place.Pointer) < 0)
            _ = chdir(new Linux.Native.CString("/").Pointer);
        _ = setsid();
        _ = prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
        Enter.ResetSignals();
        var argv = (byte**)NativeMemory.AllocZeroed((nuint)program.Length + 1, (nuint)sizeof(byte*));
        for (var i = 0; i < program.Length; i++)
            argv[i] = new Linux.Native.CString(program[i]).Pointer;
        _ = syscall(SYS_close_range, 3, unchecked((nint)uint.MaxValue), (nint)CLOSE_RANGE_CLOEXEC);
        // From here on an exit code is the program's, which may be any.
        var word = AsWord.Begun;
        _ = write(1, &word, 1);
        _ = execve(argv[0], argv, environment);
        word = AsWord.NotBegun;
        _ = write(1, &word, 1);
        return Failed;
    }

    /// <summary>
    /// Standard input goes to the socket; of what comes back, up to the first line's end, all to standard output. Exit
    /// code: errno.
    /// </summary>
    private static int Send(string path)
    {
        var name = System.Text.Encoding.UTF8.GetBytes(path);
        const int longest = 107;
        if (name.Length > longest)
            return 36; // ENAMETOOLONG
        var address = stackalloc byte[longest + 3];
        new Span<byte>(address, longest + 3).Clear();
        *(ushort*)address = AF_UNIX;
        name.CopyTo(new Span<byte>(address + 2, longest));
        var to = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
        if (to < 0 || connect(to, address, (uint)name.Length + 3) < 0)
            return Marshal.GetLastSystemError();
        var text = stackalloc byte[4096];
        nint got;
        while ((got = read(0, text, 4096)) > 0)
            for (nint put = 0; put < got; )
            {
                var more = send(to, text + put, got - put, MSG_NOSIGNAL);
                if (more < 0)
                    return Marshal.GetLastSystemError();
                put += more;
            }

        for (var left = 4096; left > 0 && (got = read(to, text, left)) > 0; left -= (int)got)
        {
            _ = write(1, text, got);
            if (new ReadOnlySpan<byte>(text, (int)got).Contains((byte)'\n'))
                break;
        }

        return 0;
    }

    /// <summary>A regular file of at most 64 KiB goes to standard output. Exit code: errno.</summary>
    private static int ReadOut(string path)
    {
        const int most = 64 << 10,
            notRegular = 22, // EINVAL
            tooLong = 27; // EFBIG
        using var name = new Linux.Native.CString(path);
        // A pipe or a device would keep whoever opens it waiting.
        var file = open(name.Pointer, O_RDONLY | O_NONBLOCK | O_NOCTTY | O_CLOEXEC, 0);
        if (file < 0)
            return Marshal.GetLastSystemError();
        if (Linux.Files.FileFacts.Of(file) is not { IsRegular: true })
            return notRegular;
        var text = (byte*)NativeMemory.Alloc(most + 1);
        var length = 0;
        nint got = 0;
        while (length <= most && (got = read(file, text + length, most + 1 - length)) > 0)
            length += (int)got;
        if (got < 0)
            return Marshal.GetLastSystemError();
        if (length > most)
            return tooLong;
        for (var put = 0; put < length; put += (int)got)
            if ((got = write(1, text + put, length - put)) <= 0)
                return Marshal.GetLastSystemError();
        return 0;
    }

    /// <summary>
    /// What is in a directory and begins so, in order, goes to standard output: of each d (a directory), x (a program) or f (another file),
    /// its name and NUL; of a hundred thousand entries at most. A pipe, a device and a link to nowhere are left out. Exit code: errno.
    /// </summary>
    private static int ListOut(string path, string beginning)
    {
        const int mostSeen = 100_000,
            mostNamed = 201,
            mostKept = 4 * mostNamed;
        using (var name = new Linux.Native.CString(path))
        {
            var directory = open(name.Pointer, O_RDONLY | O_DIRECTORY | O_CLOEXEC, 0);
            if (directory < 0)
                return Marshal.GetLastSystemError();
            _ = close(directory);
        }

        var listed = new System.Text.StringBuilder();
        try
        {
            var first = new SortedSet<string>(StringComparer.Ordinal);
            foreach (var entry in Directory.EnumerateFileSystemEntries(path).Take(mostSeen))
            {
                var one = Path.GetFileName(entry);
                // Written with a dot, what begins with one is meant; a name that is no text can stand in no definition.
                if (
                    !one.StartsWith(beginning, StringComparison.Ordinal)
                    || (one[0] == '.' && !beginning.StartsWith('.'))
                    || one.Contains('\uFFFD')
                )
                    continue;
                first.Add(one);
                if (first.Count > mostKept)
                    first.Remove(first.Max!);
            }

            var left = mostNamed;
            foreach (var one in first)
            {
                if (Kind(Path.Combine(path, one)) is not { } kind)
                    continue;
                listed.Append(kind).Append(one).Append('\0');
                if (--left == 0)
                    break;
            }
        }
        catch (UnauthorizedAccessException)
        {
            return EACCES;
        }
        catch (IOException)
        {
            return EIO;
        }

        var text = System.Text.Encoding.UTF8.GetBytes(listed.ToString());
        fixed (byte* first = text)
            for (nint put = 0, got; put < text.Length; put += got)
                if ((got = write(1, first + put, text.Length - put)) <= 0)
                    return Marshal.GetLastSystemError();
        return 0;

        static char? Kind(string path)
        {
            if (Directory.Exists(path))
                return 'd';
            if (!Linux.Files.FileFacts.IsRegular(path))
                return null;
            using var name = new Linux.Native.CString(path);
            return Access(name.Pointer, X_OK) == 0 ? 'x' : 'f';
        }
    }

    private static byte** environ;

    /// <summary>The environment as it was handed over, byte for byte.</summary>
    internal static byte** Environ()
    {
        if (environ is not null)
            return environ;
        const int longest = 4 << 20; // more than the kernel hands over (execve(2), limits on arguments)
        fixed (byte* path = "/proc/self/environ"u8)
        {
            var file = open(path, O_RDONLY | O_CLOEXEC, 0);
            var room = 16 << 10;
            var text = (byte*)NativeMemory.AllocZeroed((nuint)room);
            var length = 0;
            nint got;
            while (file >= 0 && (got = read(file, text + length, room - 1 - length)) > 0)
            {
                length += (int)got;
                if (length < room - 1 || room >= longest)
                    continue;
                text = (byte*)NativeMemory.Realloc(text, (nuint)room * 2);
                room *= 2;
            }

            if (file >= 0)
                _ = close(file);
            text[length] = 0;
            var count = new ReadOnlySpan<byte>(text, length).Count((byte)0);
            var list = (byte**)NativeMemory.AllocZeroed((nuint)count + 1, (nuint)sizeof(byte*));
            for (int i = 0, at = 0; i < count; i++)
            {
                list[i] = text + at;
                at += new ReadOnlySpan<byte>(text + at, length - at).IndexOf((byte)0) + 1;
            }

            return environ = list;
        }
    }

    /// <summary>
    /// Standard input: questions, each a letter (r, w or x) and an absolute path, closed by NUL. Standard output: an
    /// errno each, 0 for yes, closed by a line end.
    /// </summary>
    private static int Answer()
    {
        var room = 1 << 16;
        var text = (byte*)NativeMemory.Alloc((nuint)room);
        var length = 0;
        nint got;
        while ((got = read(0, text + length, room - length)) > 0)
        {
            length += (int)got;
            if (length < room)
                continue;
            room *= 2;
            text = (byte*)NativeMemory.Realloc(text, (nuint)room);
        }

        for (var at = 0; at < length; )
        {
            var question = new ReadOnlySpan<byte>(text + at, length - at);
            var end = question.IndexOf((byte)0);
            if (end < 1)
                break;
            var right = question[0] switch
            {
                (byte)'w' => W_OK,
                (byte)'x' => X_OK,
                _ => R_OK,
            };
            var errno = (int)-Access(text + at + 1, right);
            var line = System.Text.Encoding.ASCII.GetBytes($"{errno}\n");
            fixed (byte* bytes = line)
                _ = write(1, bytes, line.Length);
            at += end + 1;
        }

        return 0;
    }

    /// <summary>faccessat2(2) with the effective ids; 0, or the negative errno.</summary>
    private static nint Access(byte* path, int right) =>
        syscall(SYS_faccessat2, AT_FDCWD, (nint)path, right, AT_EACCESS) < 0 ? -Marshal.GetLastSystemError() : 0;
}
