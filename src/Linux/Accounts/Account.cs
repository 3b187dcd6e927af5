using System.Runtime.InteropServices;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Linux.Accounts;

/// <summary>A user account as the host's own database has it (passwd(5), and whatever else the host asks).</summary>
/// <param name="Groups">Every group id the account is a member of, its primary group included.</param>
public sealed record Account(string Name, uint Uid, uint Gid, string Home, string Shell, IReadOnlyList<uint> Groups)
{
    /// <summary>The account of that name, or null when the host knows none.</summary>
    public static unsafe Account? Named(string name)
    {
        if (LookedUp.Lately(name) is { } known)
            return known;
        using var text = new CString(name);
        var pointer = text.Pointer;
        return LookedUp.Keep(
            name,
            () => Find((entry, buffer, length, result) => Libc.getpwnam_r(pointer, entry, buffer, length, result))
        );
    }

    /// <summary>The account with that user id, or null when the host knows none.</summary>
    public static unsafe Account? WithId(uint uid) =>
        LookedUp.Lately(uid)
        ?? LookedUp.Keep(
            uid,
            () => Find((entry, buffer, length, result) => Libc.getpwuid_r(uid, entry, buffer, length, result))
        );

    /// <summary>The day from which on the account counts as closed (shadow(5)); null: never, or only root may know.</summary>
    public static unsafe DateOnly? ExpiresOn(string name)
    {
        using var text = new CString(name);
        var pointer = text.Pointer;
        try
        {
            return
                HostDatabase.Find<Libc.Shadow, object>(
                    (entry, buffer, length, result) => Libc.getspnam_r(pointer, entry, buffer, length, result),
                    entry => entry->Expires
                )
                    is nint
                        and > 0
                        and < 2_900_000
                        and var days
                ? new DateOnly(1970, 1, 1).AddDays((int)days)
                : null;
        }
        catch (OwnTroubleException)
        {
            return null;
        }
    }

    /// <summary>The user id this process acts with.</summary>
    public static uint OwnId => Libc.geteuid();

    /// <summary>Root, or the account this process runs as: what they made nobody else did.</summary>
    public static bool IsTrusted(uint uid) => uid == 0 || uid == OwnId;

    /// <summary>The account's name, or its number where the host has no name for it.</summary>
    public static string NameOf(uint uid) => WithId(uid)?.Name ?? $"uid {uid}";

    private static unsafe Account? Find(HostDatabase.Query<Libc.Passwd> query) =>
        HostDatabase.Find(
            query,
            entry => new Account(
                Text(entry->Name),
                entry->Uid,
                entry->Gid,
                Text(entry->Directory),
                Text(entry->Shell),
                GroupsOf(entry->Name, entry->Gid)
            )
        );

    private static unsafe uint[] GroupsOf(byte* name, uint primary)
    {
        var count = 64;
        while (true)
        {
            var groups = new uint[count];
            fixed (uint* room = groups)
                if (Libc.getgrouplist(name, primary, room, &count) >= 0)
                    return groups[..count];
            if (count <= groups.Length)
                return [primary];
        }
    }

    private static unsafe string Text(byte* text) => Marshal.PtrToStringUTF8((nint)text) ?? "";
}
