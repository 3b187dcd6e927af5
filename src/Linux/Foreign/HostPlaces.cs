using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;

namespace CalmSentry.Linux.Foreign;

/// <summary>
/// Which folders are the host's own: never granted to an account, never exchanged as a whole, whatever flag is given. By the file
/// system standard (FHS 3.0), by the package database, and by who owns what lies in the standard's folders.
/// </summary>
public static class HostPlaces
{
    /// <summary>Nothing below them is anybody else's.</summary>
    private static readonly string[] Whole =
    [
        "/bin",
        "/boot",
        "/dev",
        "/lib",
        "/lib32",
        "/lib64",
        "/libx32",
        "/proc",
        "/root",
        "/sbin",
        "/sys",
        "/usr",
    ];

    /// <summary>In <c>/usr/local</c> an administrator's own folders lie beside these.</summary>
    private static readonly string[] Local =
    [
        "bin",
        "etc",
        "games",
        "include",
        "lib",
        "libexec",
        "man",
        "sbin",
        "share",
        "src",
    ];

    /// <summary>The standard's folders that hold others' folders.</summary>
    private static readonly string[] Shared =
    [
        "/",
        "/etc",
        "/home",
        "/lost+found",
        "/media",
        "/mnt",
        "/opt",
        "/run",
        "/srv",
        "/tmp",
        "/var",
        "/var/backups",
        "/var/cache",
        "/var/lib",
        "/var/local",
        "/var/lock",
        "/var/log",
        "/var/mail",
        "/var/opt",
        "/var/run",
        "/var/spool",
        "/var/tmp",
    ];

    /// <summary>Those in which packages and the host keep what they keep: what lies below a folder of theirs is theirs, too.</summary>
    private static readonly string[] Kept =
    [
        "/etc",
        "/run",
        "/var/backups",
        "/var/cache",
        "/var/lib",
        "/var/log",
        "/var/spool",
    ];

    /// <summary>In <c>/run</c>: made at each boot by the host itself, and in no package's list.</summary>
    private static readonly string[] Runtime =
    [
        "blkid",
        "dbus",
        "initctl",
        "initramfs",
        "lock",
        "log",
        "mount",
        "network",
        "sendsigs.omit.d",
        "shm",
        "sshd",
        "sudo",
        "udev",
        "user",
    ];

    private const int LeastPersonsId = 1000; // SYS_UID_MAX of login.defs(5) and one

    /// <summary>Whether a program there is one of the host's own, by its folder alone.</summary>
    public static bool HoldsPrograms(string directory) =>
        directory != "/root" && !IsBelow(directory, "/root") && IsWhole(directory) is not null;

    /// <summary>Whether a folder holds folders of the host and of others, such as <c>/tmp</c>.</summary>
    public static bool IsShared(string directory) => Shared.Contains(directory);

    /// <summary>Why a folder is the host's own, as a clause; null: it is not.</summary>
    /// <param name="path">Absolute, without links.</param>
    /// <param name="isOurs">Whether an account was made for services here: what it owns is not the host's.</param>
    public static string? WhyOwn(string path, Func<uint, bool> isOurs)
    {
        path = path.Length > 1 ? path.TrimEnd('/') : path;
        if (IsWhole(path) is { } top)
            return top == path ? $"{path} is the host's own" : $"everything below {top} is the host's own";
        if (Shared.Contains(path))
            return $"{path} holds folders of the host and of others";
        var kept = Kept.FirstOrDefault(one => IsBelow(path, one));
        // From the nearest folder of the standard's on: the first one on the way that is somebody's decides for what lies below.
        foreach (var step in kept is null ? [path] : Steps(kept, path))
        {
            if (kept == "/run" && Runtime.Contains(Path.GetFileName(step)) && Path.GetDirectoryName(step) == kept)
                return $"{step} is the host's own";
            if (PackageLists.Name(step) is { } package)
                return $"{step} belongs to the package {package}";
            if (kept is not null && OwnerOf(step) is { } owner and not 0 && owner < LeastPersonsId && !isOurs(owner))
                return $"{step} belongs to {Account.NameOf(owner)}, an account of the host's";
        }

        return null;
    }

    /// <summary>Whether rights there are at most to be read: settings of the host lie beside it.</summary>
    public static bool IsReadAtMost(string path) => IsBelow(path, "/etc");

    private static string? IsWhole(string path)
    {
        var top = Whole.FirstOrDefault(one => path == one || IsBelow(path, one));
        if (top != "/usr" || !IsBelow(path, "/usr/local"))
            return top;
        var first = path["/usr/local/".Length..].Split('/')[0];
        return Local.Contains(first) ? $"/usr/local/{first}" : null;
    }

    private static bool IsBelow(string path, string folder) =>
        path.Length > folder.Length + 1
        && path[folder.Length] == '/'
        && path.StartsWith(folder, StringComparison.Ordinal);

    /// <summary>From a folder, which is not among them, to a path below it.</summary>
    private static IEnumerable<string> Steps(string folder, string path)
    {
        for (var at = folder.Length; at >= 0 && at < path.Length; )
        {
            at = path.IndexOf('/', at + 1);
            yield return at < 0 ? path : path[..at];
            if (at < 0)
                yield break;
        }
    }

    private static uint? OwnerOf(string path) => FileFacts.Owner(path);

    /// <summary>Which package a folder belongs to (dpkg-query(1), its lists of files).</summary>
    private static class PackageLists
    {
        private const string Place = "/var/lib/dpkg/info";

        public static string? Name(string path)
        {
            if (!Directory.Exists(Place))
                return null;
            var wanted = System.Text.Encoding.UTF8.GetBytes($"\n{path}\n");
            foreach (var list in Directory.EnumerateFiles(Place, "*.list"))
            {
                try
                {
                    // Each list begins with "/.", so that every path stands between two ends of lines.
                    if (Held.Head(Ground.Settings, list, LongestList).AsSpan().IndexOf(wanted) >= 0)
                        return Path.GetFileNameWithoutExtension(list).Split(':')[0];
                }
                catch (IOException)
                {
                    // It is being replaced: its package is being changed in this moment.
                }
            }

            return null;
        }

        private const int LongestList = 64 << 20;
    }
}
