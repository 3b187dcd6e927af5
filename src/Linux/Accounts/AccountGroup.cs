using System.Runtime.InteropServices;
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

    private static unsafe AccountGroup? Find(HostDatabase.Query<Libc.Group> query) =>
        HostDatabase.Find(
            query,
            entry => new AccountGroup(Marshal.PtrToStringUTF8((nint)entry->Name) ?? "", entry->Gid)
        );
}
