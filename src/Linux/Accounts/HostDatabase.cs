using CalmSentry.Linux.Native;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Linux.Accounts;

/// <summary>Looking entries up in the host's own databases of accounts and groups (getpwnam_r(3), getgrnam_r(3)).</summary>
internal static unsafe class HostDatabase
{
    private const int FirstRoom = 4096,
        MostRoom = 1 << 20;

    public delegate int Query<TEntry>(TEntry* entry, byte* buffer, nuint length, TEntry** result)
        where TEntry : unmanaged;

    /// <summary>Makes what is wanted of an entry while its texts are in place.</summary>
    public delegate T Make<TEntry, T>(TEntry* entry)
        where TEntry : unmanaged;

    /// <returns>Null: there is no such entry.</returns>
    /// <exception cref="OwnTroubleException">It could not be looked up: that says nothing of the entry.</exception>
    public static T? Find<TEntry, T>(Query<TEntry> query, Make<TEntry, T> make)
        where TEntry : unmanaged
        where T : class
    {
        for (var length = FirstRoom; length <= MostRoom; length *= 4)
        {
            var buffer = new byte[length];
            fixed (byte* room = buffer)
            {
                TEntry entry;
                TEntry* found = null;
                var error = query(&entry, room, (nuint)length, &found);
                if (error == Libc.ERANGE)
                    continue; // the entry is longer than the buffer
                // "No such entry" and "could not look" are told apart (getpwnam(3)): a healthy service is not stopped
                // for want of a descriptor.
                if (error is not (0 or Libc.ENOENT or Libc.ESRCH or Libc.EBADF or Libc.EPERM))
                    throw new OwnTroubleException($"the host's accounts cannot be looked up ({Names.Errno(error)})");
                return found is null ? null : make(&entry);
            }
        }

        return null;
    }
}
