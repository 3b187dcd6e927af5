using CalmSentry.Contract;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Native;

namespace CalmSentry.Engine.Output;

/// <summary>
/// Where the output of a service lies: among the sentry's own logs, or in the directory that its definition names. Then a link of
/// the sentry's stands among the logs, and everybody else goes by that. What there is comes along, whatever is lost on the way.
/// </summary>
internal sealed class OutputPlace(Places places, string service)
{
    private string Link => places.OutputDirectoryOf(service);

    /// <summary>Beside the logs of all: no service has a name that begins with a dot.</summary>
    private string Aside(string what) => Path.Combine(places.Logs, $".{service}.{what}");

    /// <summary>While output is being moved: where to.</summary>
    private string Moving => Aside("moving");

    /// <summary>The directory that a link leads to; null: its output lies among the logs.</summary>
    public string? Elsewhere => new FileInfo(Link).LinkTarget;

    /// <summary>Why a directory cannot take it, as a clause; null: it can.</summary>
    public string? WhyNot(string wanted)
    {
        try
        {
            using var to = To(wanted);
            return to.Path != Elsewhere && Holds(to.Path) ? $"{to.Path} holds something already" : null;
        }
        catch (IOException error)
        {
            return error.Message.TrimEnd('.');
        }
    }

    /// <summary>Brings it there; while none of the service's programs runs.</summary>
    /// <param name="wanted">An absolute path; null: among the logs.</param>
    /// <exception cref="IOException">It cannot be brought there, or is not to be written there.</exception>
    public void Bring(string? wanted)
    {
        var at = Elsewhere;
        if (wanted is null && at is null && Directory.Exists(Link) && !File.Exists(Moving))
            return;
        Directory.CreateDirectory(places.Logs);
        Settle();
        at = Elsewhere;
        if (wanted is not null)
            BringTo(wanted, at);
        else if (at is not null)
            BringBack(at);
        else
            Directory.CreateDirectory(Link);
    }

    /// <summary>Removes all of it, wherever it lies.</summary>
    public void Remove()
    {
        if (Elsewhere is { } at && Directory.Exists(Path.GetDirectoryName(at)))
            Leave(at);
        using var logs = Logs();
        logs.Held.Remove(Path.GetFileName(Link));
    }

    private void BringTo(string wanted, string? at)
    {
        using var to = To(wanted);
        if (at == to.Path)
        {
            Directory.CreateDirectory(to.Path); // somebody has removed it
            return;
        }

        if (Holds(to.Path))
            throw new IOException($"its output cannot be put into {to.Path}: it holds something already");
        to.Folder.Held.RemoveEmpty(to.Name);
        var from = at ?? Link;
        File.WriteAllText(Moving, to.Path);
        // Before anything is moved: a power cut may leave the move on the disk, and then this tells whose it is.
        using (var logs = Logs())
            logs.Held.Flush(all: true);
        if (!Directory.Exists(from))
            Directory.CreateDirectory(to.Path);
        var copied = Directory.Exists(from) && !Move(from, to.Folder, to.Name);
        PutLink(to.Path);
        if (copied && at is not null)
            Leave(at);
        Over();
    }

    private void BringBack(string at)
    {
        using var logs = Logs();
        var back = Path.GetFileName(Aside("back"));
        var copied = Directory.Exists(at) && !Move(at, logs, back);
        FromBehind();
        Directory.CreateDirectory(Link);
        if (copied)
            Leave(at);
    }

    /// <summary>What a server that was lost left half done.</summary>
    private void Settle()
    {
        FromBehind();
        if (!File.Exists(Moving))
            return;
        var to = File.ReadAllText(Moving);
        // There is all of it, or it would not have got its name.
        if (Elsewhere != to && Holds(to))
            PutLink(to);
        else if (!Directory.Exists(Link) && Directory.Exists(Aside("before")))
            Directory.Move(Aside("before"), Link);
        Over();
    }

    /// <summary>What was brought back lies beside its place: the link gives way to it.</summary>
    private void FromBehind()
    {
        if (!Directory.Exists(Aside("back")))
            return;
        if (Elsewhere is not null)
            File.Delete(Link);
        if (!Directory.Exists(Link))
            Directory.Move(Aside("back"), Link);
    }

    private void Over()
    {
        using var logs = Logs();
        if (Directory.Exists(Link))
            logs.Held.Remove(Path.GetFileName(Aside("before")));
        logs.Held.Flush();
        File.Delete(Moving);
    }

    private void PutLink(string to)
    {
        var hidden = Aside("link");
        File.Delete(hidden);
        File.CreateSymbolicLink(hidden, to);
        if (Elsewhere is null && Directory.Exists(Link))
            Directory.Move(Link, Aside("before"));
        using var logs = Logs();
        if (!logs.Held.Move(Path.GetFileName(hidden), logs.Held, service))
            throw new IOException($"the link {Link} cannot be made");
    }

    /// <summary>What lies there goes.</summary>
    private static void Leave(string at)
    {
        using var way = Held.Walk(Ground.Output, Path.GetDirectoryName(at) ?? "/");
        way.Held.Remove(Path.GetFileName(at));
    }

    /// <returns>False: it lies on another file system, and was copied.</returns>
    private static bool Move(string from, HeldWay to, string name)
    {
        const int EXDEV = 18;
        using var above = Held.Walk(Ground.Output, Path.GetDirectoryName(from) ?? "/");
        var errno = above.Held.MoveNew(Path.GetFileName(from), to.Held, name);
        if (errno == EXDEV)
        {
            Copy(from, to, name);
            return false;
        }

        if (errno != 0)
            throw new IOException($"{from} cannot be moved to {Path.Combine(to.Path, name)}: {Names.Errno(errno)}");
        to.Held.Flush();
        return true;
    }

    private static void Copy(string from, HeldWay to, string name)
    {
        var beside = $".{name}.moving";
        to.Held.Remove(beside);
        using (var made = to.Held.MakeDirectory(beside, (UnixFileMode)0x1ED))
        using (var source = Held.Walk(Ground.Output, from))
            try
            {
                if (Holds(from))
                    Archive.Copy(source.Held, made.Path, new(to.Held, long.MaxValue), new());
            }
            catch (ArchiveException error)
            {
                to.Held.Remove(beside);
                throw new IOException($"its output cannot be copied to {to.Path}: {error.Message}", error);
            }

        to.Held.Flush(all: true);
        if (to.Held.MoveNew(beside, to.Held, name) is var errno and not 0)
            throw new IOException($"{Path.Combine(to.Path, name)} cannot be made: {Names.Errno(errno)}");
    }

    private HeldWay Logs() => Held.Walk(Ground.Own, places.Logs);

    private static bool Holds(string path) =>
        Directory.Exists(path) && Directory.EnumerateFileSystemEntries(path).Any();

    private sealed record Target(HeldWay Folder, string Name, string Path) : IDisposable
    {
        public void Dispose() => Folder.Dispose();
    }

    /// <summary>The place that is meant, in a folder in which nobody but root could put something else there.</summary>
    /// <exception cref="IOException">There is none, or others can write on the way.</exception>
    private static Target To(string wanted)
    {
        var (folder, name) = (Path.GetDirectoryName(wanted) ?? "/", Path.GetFileName(wanted));
        if (name.Length == 0)
            throw new IOException($"{wanted} is no directory for the output of one service");
        var way = Held.Walk(Ground.Output, folder);
        try
        {
            if (!way.Last.IsRootsAlone)
                throw new IOException(
                    $"others than root can write in {way.Path}, or in a folder above it, and could lead {wanted} elsewhere"
                );
            var path = Path.Combine(way.Path, name);
            using var there = way.Held.Entry(name);
            if (there?.Identity() is { } what && !what.IsRootsAlone)
                throw new IOException(
                    what.Type == FileType.Directory
                        ? $"others than root can write in {path}"
                        : $"{path} is no directory, and links are not followed there"
                );
            return new(way, name, path);
        }
        catch
        {
            way.Dispose();
            throw;
        }
    }
}
