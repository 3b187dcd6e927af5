using System.Runtime.InteropServices;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Accounts;

/// <summary>A group as the host's own database has it (group(5)).</summary>
public sealed record AccountGroup(string Name, uint Gid)
{
    public static unsafe AccountGroup? Named(string name)
    {
        using var text = new CString(name);
        var pointer = text.Pointer;
        return Find((entry, buffer, length, result) => Libc.getgrnam_r(pointer, entry, buffer, length, result));
    }

    /// <summary>The group's name, or its number where the host has no name for it.</summary>
    public static unsafe string NameOf(uint gid) =>
        Find((entry, buffer, length, result) => Libc.getgrgid_r(gid, entry, buffer, length, result))?.Name
        ?? $"gid {gid}";

    /// <summary>The ids of those groups that this host knows.</summary>
    public static IReadOnlyList<uint> IdsOf(IEnumerable<string> names) =>
        [.. names.Select(Named).OfType<AccountGroup>().Select(group => group.Gid)];

    private unsafe delegate int Query(Libc.Group* entry, byte* buffer, nuint length, Libc.Group** result);

    private static unsafe AccountGroup? Find(Query query)
    {
        for (var length = 4096; length <= 1 << 20; length *= 4)
        {
            var buffer = new byte[length];
            fixed (byte* room = buffer)
            {
                Libc.Group entry;
                Libc.Group* found = null;
                var error = query(&entry, room, (nuint)length, &found);
                if (error == Libc.ERANGE)
                    continue; // the entry is longer than the buffer
                // "No such entry" and "could not look" are told apart (getpwnam(3)): a healthy service is not stopped
                // for want of a descriptor.
                if (error is not (0 or Libc.ENOENT or Libc.ESRCH or Libc.EBADF or 1))
                    throw new OwnTroubleException($"the host's accounts cannot be looked up ({Names.Errno(error)})");
                return found is null ? null : new(Marshal.PtrToStringUTF8((nint)entry.Name) ?? "", entry.Gid);
            }
        }

        return null;
    }
}
