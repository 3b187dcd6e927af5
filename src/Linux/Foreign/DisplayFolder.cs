using System.Runtime.InteropServices;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Foreign;

/// <summary>
/// The host's folder of displays' sockets, in a folder that everybody can write: whoever makes it first owns it. A run with a window sees
/// another in its place, so that it must be there, and be root's.
/// </summary>
public static class DisplayFolder
{
    private const UnixFileMode AllWithSticky = (UnixFileMode)0x3FF; // 1777

    /// <summary>So many entries of a stranger's folder are looked at: more than a host has displays.</summary>
    private const int MostEntries = 256;

    /// <summary>
    /// Makes it where it is not there. A stranger's is moved aside, unless somebody listens on a socket in it: then it may be a display
    /// that is used.
    /// </summary>
    /// <returns>Why it cannot be had, as a clause; null: it is there, and root's.</returns>
    public static string? Make(string path)
    {
        try
        {
            using var above = Held.Walk(Ground.DisplaySockets, Path.GetDirectoryName(path)!);
            var name = Path.GetFileName(path);
            if (IsStrangers(above.Held, name) is { } owner)
            {
                if (IsUsed(above.Held, name) is { } socket)
                    return $"{path}, the folder of displays' sockets, belongs to {Account.NameOf(owner)}, and a program listens on {socket} there";
                if (above.Held.MoveNew(name, above.Held, $"{name}-{Account.NameOf(owner)}-{Guid.NewGuid():N}") != 0)
                    return $"{path}, the folder of displays' sockets, belongs to {Account.NameOf(owner)} and cannot be moved aside";
            }

            above.Held.MakeDirectory(name, AllWithSticky).Dispose();
            return null;
        }
        catch (IOException error)
        {
            return $"{path}, the folder of displays' sockets, cannot be made: {error.Message}";
        }
    }

    /// <summary>Why it cannot be had, without anything being done; null: it can.</summary>
    public static string? WhyNot(string path)
    {
        try
        {
            using var above = Held.Walk(Ground.DisplaySockets, Path.GetDirectoryName(path)!);
            var name = Path.GetFileName(path);
            return IsStrangers(above.Held, name) is { } owner && IsUsed(above.Held, name) is { } socket
                ? $"{path}, the folder of displays' sockets, belongs to {Account.NameOf(owner)}, and a program listens on {socket} there"
                : null;
        }
        catch (IOException)
        {
            return null; // making it says what is wrong
        }
    }

    /// <summary>Whose it is, or what is there in its place; null: it is not there, or root's folder.</summary>
    private static uint? IsStrangers(Held above, string name)
    {
        using var there = above.Entry(name);
        return there?.Identity() is not { } what || (what.Type == FileType.Directory && Account.IsTrusted(what.Uid))
            ? null
            : what.Uid;
    }

    /// <summary>A socket in it that somebody listens on; null: none is seen.</summary>
    private static string? IsUsed(Held above, string name)
    {
        using var folder = above.Opened(name);
        if (folder is null || folder.Identity().Type != FileType.Directory)
            return null;
        foreach (var entry in folder.Names().Take(MostEntries))
        {
            using var one = folder.Entry(entry);
            if (one?.Identity().Type == FileType.Socket && IsListenedOn(one.Path))
                return entry;
        }

        return null;
    }

    /// <summary>By the plain calls, without waiting: the guard, which asks too, is to stay small.</summary>
    private static unsafe bool IsListenedOn(string path)
    {
        const int wouldWait = 11; // EAGAIN: its queue is full
        var address = stackalloc byte[110]; // struct sockaddr_un (unix(7))
        *(ushort*)address = Libc.AF_UNIX;
        var length = System.Text.Encoding.ASCII.GetBytes(path, new Span<byte>(address + 2, 107));
        address[2 + length] = 0;
        var socket = Libc.socket(Libc.AF_UNIX, Libc.SOCK_STREAM | Libc.SOCK_NONBLOCK | Libc.SOCK_CLOEXEC, 0);
        if (socket < 0)
            return true; // nobody can say so
        var listens = Libc.connect(socket, address, (uint)length + 3) == 0 || Marshal.GetLastSystemError() == wouldWait;
        _ = Libc.close(socket);
        return listens;
    }
}
