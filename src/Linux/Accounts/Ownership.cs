using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Accounts;

/// <summary>Directories that belong to an account.</summary>
public static class Ownership
{
    /// <summary>Makes a directory (and its parents) and gives it to the account, mode 0750.</summary>
    public static unsafe void MakeDirectory(string path, Account owner)
    {
        Directory.CreateDirectory(
            path,
            UnixFileMode.UserRead
                | UnixFileMode.UserWrite
                | UnixFileMode.UserExecute
                | UnixFileMode.GroupRead
                | UnixFileMode.GroupExecute
        );
        Give(path, owner);
    }

    public static unsafe void Give(string path, Account owner)
    {
        using var text = new CString(path);
        if (owner.Uid != Account.OwnId)
            _ = Libc.chown(text.Pointer, owner.Uid, owner.Gid);
    }
}
