using CalmSentry.Contract;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Groups;

namespace CalmSentry.Server.Secrets;

/// <summary>Secrets given as files: on a memory file system, readable by the service's account alone, there only while it needs them.</summary>
internal sealed class SecretFiles(Places places, ControlGroups groups)
{
    private const UnixFileMode OwnerOnly = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;

    private readonly string root = FileSystem.IsMemory(places.RunDirectory) ? Path.Combine(places.RunDirectory, "secrets") : $"/dev/shm/calm-sentry-{groups.Mark}";

    /// <summary>Why no secret can be given as a file on this host, or null.</summary>
    public string? WhyNot => FileSystem.IsMemory(Path.GetDirectoryName(root)!) ? null : $"neither {places.RunDirectory} nor /dev/shm is a memory file system";

    public string PathOf(string name, string key) => Path.Combine(root, name, key);

    /// <exception cref="IOException">It cannot be kept in memory, or not be written.</exception>
    public string Write(string name, string key, string value, Account account)
    {
        if (WhyNot is { } why) throw new IOException($"its secret {key} cannot be given as a file: {why}");
        Directory.CreateDirectory(root);
        File.SetUnixFileMode(root, OwnerOnly | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute);
        var path = PathOf(name, key);
        var directory = Path.GetDirectoryName(path)!;
        Directory.CreateDirectory(directory, OwnerOnly);
        File.Delete(path);
        using (var file = new FileStream(path, new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write, UnixCreateMode = UnixFileMode.UserRead }))
            file.Write(System.Text.Encoding.UTF8.GetBytes(value));
        Ownership.Give(path, account);
        Ownership.Give(directory, account);
        return path;
    }

    public void Remove(string name)
    {
        var directory = Path.Combine(root, name);
        if (Directory.Exists(directory)) Directory.Delete(directory, recursive: true);
    }

    /// <summary>Removes the whole place, once nothing lives that needs it.</summary>
    public void RemoveAll()
    {
        if (Directory.Exists(root) && !Directory.EnumerateFileSystemEntries(root).Any()) Directory.Delete(root);
    }
}
