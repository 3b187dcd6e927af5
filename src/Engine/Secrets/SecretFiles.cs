using System.Security.Cryptography;
using CalmSentry.Contract;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Engine.Secrets;

/// <summary>
/// Secrets given as files: on a memory file system, readable by the service's account alone, there only while it needs
/// them.
/// Every folder is the sentry's own, so no account can put something else into a file's place, and where the memory
/// file
/// system is one that all may write to (/dev/shm) the folder's name cannot be foreseen.
/// </summary>
internal sealed class SecretFiles(Places places)
{
    /// <summary>Others may go through to a file whose path they were given, and see nothing on the way.</summary>
    private const UnixFileMode PassThrough = OwnDirectory.Mode | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute;

    private const string Shared = "/dev/shm",
        SharedPrefix = "calm-";

    /// <summary>Where the folder in the shared place is noted, so that the next server finds it.</summary>
    private readonly string note = Path.Combine(places.RunDirectory, "secrets.place");
    private readonly Lock only = new();

    /// <summary>Why no secret can be given as a file on this host, or null.</summary>
    public string? WhyNot =>
        FileSystem.IsMemory(places.RunDirectory) || FileSystem.IsMemory(Shared)
            ? null
            : $"neither {places.RunDirectory} nor {Shared} is a memory file system";

    /// <exception cref="IOException">It cannot be kept in memory, or not be written.</exception>
    public string Write(string name, string key, string value, Account account) =>
        Write(name, key, System.Text.Encoding.UTF8.GetBytes(value), account);

    /// <exception cref="IOException">It cannot be kept in memory, or not be written.</exception>
    public string Write(string name, string key, ReadOnlySpan<byte> value, Account account)
    {
        if (WhyNot is { } why)
            throw new IOException($"its secret {key} cannot be given as a file: {why}");
        lock (only)
        {
            var (root, path) = Root();
            using (root)
            {
                using (var there = root.Entry(name))
                    if (there?.Identity().Uid is { } uid && uid != Account.OwnId)
                        root.Remove(name); // of a sentry before this one
                using var folder = root.MakeDirectory(name, PassThrough);
                folder.Put(key, value, UnixFileMode.UserRead, account);
            }

            return Path.Combine(path, name, key);
        }
    }

    /// <summary>Where a file lies that was written.</summary>
    /// <exception cref="IOException">There is no place for any.</exception>
    public string PathOf(string name, string key) =>
        Path.Combine(Known() ?? throw new IOException("no secret is kept in a file"), name, key);

    public void Remove(string name)
    {
        lock (only)
        {
            if (Known() is not { } path || Open(path) is not { } root)
                return;
            using (root)
                root.Remove(name);
        }
    }

    /// <summary>Removes the whole place, once nothing lives that needs it.</summary>
    public void RemoveAll()
    {
        if (Known() is not { } path || Open(path) is not { } root)
            return;
        bool empty;
        using (root)
            empty = !root.Names().Any();
        if (!empty)
            return;
        using var above = Held.Walk(Ground.Secrets, Path.GetDirectoryName(path)!);
        above.Held.Remove(Path.GetFileName(path));
        if (File.Exists(note))
            File.Delete(note);
    }

    private (Held Root, string Path) Root()
    {
        if (Known() is { } known && Open(known) is { } there)
            return (there, known);
        if (FileSystem.IsMemory(places.RunDirectory))
        {
            using var run = Held.Walk(Ground.Own, places.RunDirectory);
            return (run.Held.MakeDirectory("secrets", PassThrough), Path.Combine(places.RunDirectory, "secrets"));
        }

        var name = SharedPrefix + Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16));
        using var shared = Held.Walk(Ground.Secrets, Shared);
        var made = shared.Held.MakeDirectory(name, PassThrough);
        using (var run = Held.Walk(Ground.Own, places.RunDirectory))
            run.Held.Put(
                Path.GetFileName(note),
                System.Text.Encoding.UTF8.GetBytes(Path.Combine(Shared, name)),
                UnixFileMode.UserRead | UnixFileMode.UserWrite,
                Account.WithId(Account.OwnId)!
            );
        return (made, Path.Combine(Shared, name));
    }

    /// <summary>Where the place is, or would be found; null when there is none yet.</summary>
    private string? Known() =>
        FileSystem.IsMemory(places.RunDirectory)
            ? Path.Combine(places.RunDirectory, "secrets")
            : Held.Text(Ground.Own, note, 200);

    /// <summary>Null when it is not there, or not ours.</summary>
    private static Held? Open(string path)
    {
        try
        {
            using var above = Held.Walk(Ground.Secrets, Path.GetDirectoryName(path)!);
            var root = above.Held.Entry(Path.GetFileName(path));
            if (root?.Identity() is { Type: FileType.Directory } identity && identity.Uid == Account.OwnId)
                return root;
            root?.Dispose();
            return null;
        }
        catch (IOException)
        {
            return null;
        }
    }
}
