using System.Globalization;
using System.IO.Enumeration;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Linux.Foreign;

/// <summary>
/// A directory with a program's files, and its other versions where root alone can write (as another user than root: beside it), in
/// one that nobody else can enter. All of it lies on one mount, so any version can take the place of the present one in a single
/// stroke. A version is known by the inode of its directory, which stays the same wherever that is moved.
/// </summary>
public sealed class ProgramFiles : IDisposable
{
    private const UnixFileMode Closed = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;

    private readonly HeldWay way;
    private readonly HeldStep room;
    private readonly string name,
        owner;

    private ProgramFiles(HeldWay way, HeldStep room, string name, string owner) =>
        (this.way, this.room, this.name, this.owner) = (way, room, name, owner);

    private Held Above => way.Held;

    /// <summary>The directory, without links.</summary>
    public string Directory => Path.Combine(way.Path, name);

    /// <summary>The earlier place of its versions, where something is left in it that nobody knows; null: nothing is.</summary>
    public string? Left { get; private set; }

    /// <summary>Nobody but root can put anything else in its place.</summary>
    public bool IsFirm => way.Last.IsRootsAlone;

    /// <summary>Where its other versions lie.</summary>
    public string Beside => Path.Combine(room.Path, BesideName);

    private string BesideName => Accounts.Account.OwnId == 0 ? ".calm-versions" : EarlierName;

    /// <summary>Where versions lay before: beside the directory, whoever can write there.</summary>
    private string EarlierName => $".{name}.versions";

    /// <param name="directory">The directory, without links; it need not be there.</param>
    /// <param name="owner">
    /// Whose versions they are: others may have the same directory, and versions of their own of it. Other sentries on this machine have
    /// other words.
    /// </param>
    /// <exception cref="IOException">The way to it cannot be gone, or there is no place for versions; in words.</exception>
    public static ProgramFiles Open(string directory, string owner)
    {
        var way = Held.Walk(Ground.ProgramFiles, Path.GetDirectoryName(directory) ?? "/");
        var room = Accounts.Account.OwnId == 0 ? way.NearestOfRoot() : way.Last;
        if (room is not null)
            return new(way, room, Path.GetFileName(directory), owner);
        way.Dispose();
        throw new IOException(
            $"there is no place for its versions: of the folders above {directory} on the same file system none can be written by "
                + "root alone, as every folder above that one can; make root the owner of one, with mode 755"
        );
    }

    /// <summary>
    /// Versions that an earlier sentry laid beside the directory come to where they lie now. What lies there is believed by its inode,
    /// for whoever can write there can have put anything else under the name.
    /// </summary>
    /// <param name="earlierOwner">Whose versions they were, by the word of then.</param>
    /// <param name="known">Versions that are on record.</param>
    public void BringEarlier(string earlierOwner, Func<IEnumerable<(long Number, string Identity)>> known)
    {
        if (Accounts.Account.OwnId != 0)
            return;
        using var earlier = Above.Entry(EarlierName);
        if (earlier?.Identity() is not { Type: FileType.Directory } place || !Accounts.Account.IsTrusted(place.Uid))
            return;
        using (var beside = room.Held.MakeDirectory(BesideName, Closed))
            foreach (var (number, identity) in known())
            {
                var then = string.Create(CultureInfo.InvariantCulture, $"{earlierOwner}.{number}");
                if (Identity(earlier, then) != identity)
                    continue;
                if (earlier.MoveNew(then, beside, NameOf(number)) == 0 && Identity(beside, NameOf(number)) != identity)
                    _ = beside.MoveNew(NameOf(number), earlier, then); // exchanged meanwhile: back with it
            }

        if (earlier.Names().Any())
            Left = Path.Combine(way.Path, EarlierName);
        else
            Above.RemoveEmpty(EarlierName);
    }

    public void Dispose() => way.Dispose();

    /// <summary>Which version is in place, as <see cref="IdentityOf(long)"/> tells it; null: none.</summary>
    public string? Present() => Identity(Above, name);

    /// <summary>Null: that version is not kept.</summary>
    public string? IdentityOf(long number)
    {
        using var beside = room.Held.Entry(BesideName);
        return beside is null ? null : Identity(beside, NameOf(number));
    }

    /// <exception cref="IOException">It is no directory.</exception>
    public Held Hold()
    {
        var held = Above.Entry(name) ?? throw new MovedException($"{Directory} is not there any more");
        if (held.Identity().Type == FileType.Directory)
            return held;
        held.Dispose();
        throw new MovedException($"{Directory} is no directory any more");
    }

    public string PathOf(long number) => Path.Combine(Beside, NameOf(number));

    /// <summary>An empty place for a version, which nobody else can look into; what a lost server left there goes.</summary>
    /// <exception cref="IOException">It cannot be made.</exception>
    public Held Stage(long number)
    {
        using var beside = room.Held.MakeDirectory(BesideName, Closed);
        beside.Remove(NameOf(number));
        return beside.MakeDirectory(NameOf(number), Closed);
    }

    /// <summary>A version that is kept.</summary>
    /// <exception cref="IOException">It is not.</exception>
    public Held Kept(long number)
    {
        using var beside = room.Held.Entry(BesideName);
        return beside?.Entry(NameOf(number)) ?? throw new IOException($"{PathOf(number)} is not there");
    }

    public void Drop(long number)
    {
        using (var beside = room.Held.Entry(BesideName))
            beside?.Remove(NameOf(number));
        room.Held.RemoveEmpty(BesideName);
    }

    /// <summary>
    /// Which of two versions all the files are of, data and all; null: some are not, or somebody has put something else there.
    /// </summary>
    public long? Whole((long Number, string Identity) a, (long Number, string Identity) b, IReadOnlyList<string> data)
    {
        var present = Present();
        var (here, away) = present == a.Identity ? (a, b) : (b, a);
        // Between two strokes the other one still has the place of this one.
        return present == here.Identity && IdentityOf(here.Number) is null && !LeavesData(away.Number, data)
            ? here.Number
            : null;
    }

    /// <summary>Whether something else lies where one version was to take the place of another, and nothing of either was moved.</summary>
    public bool IsOther(
        (long Number, string Identity) wanted,
        (long Number, string Identity) other,
        IReadOnlyList<string> data
    ) =>
        Present() is { } present
        && present != wanted.Identity
        && present != other.Identity
        && IdentityOf(wanted.Number) == wanted.Identity
        && IdentityOf(other.Number) is null
        && !LeavesData(wanted.Number, data);

    /// <summary>
    /// Puts one version into the place of another, in one stroke, and its data with it. Done twice it does no harm, wherever it
    /// was cut off the first time. When it cannot be done all is as before.
    /// </summary>
    /// <returns>Why it cannot be done, as a clause; null: it is done, also over a power cut.</returns>
    /// <exception cref="OwnTroubleException">The sentry itself is at fault: it is done anew later.</exception>
    public string? Bring(
        (long Number, string Identity) wanted,
        (long Number, string Identity) other,
        IReadOnlyList<string> data
    )
    {
        try
        {
            if (Place(wanted, other) is { } why)
                return why;
            if (Carry(other.Number, data) is not { } stuck)
            {
                Flush();
                return null;
            }

            Uncarry(other.Number, data);
            _ = Place(other, wanted);
            Flush();
            return stuck;
        }
        catch (IOException error) when (error is not OwnTroubleException)
        {
            return error.Message;
        }
    }

    private void Flush()
    {
        using var beside = room.Held.MakeDirectory(BesideName, Closed);
        using var present = Hold();
        present.Flush();
        beside.Flush();
        room.Held.Flush();
        Above.Flush();
    }

    private string? Place((long Number, string Identity) wanted, (long Number, string Identity) other)
    {
        using var beside = room.Held.MakeDirectory(BesideName, Closed);
        var (there, aside) = (NameOf(wanted.Number), NameOf(other.Number));
        // Cut off between two strokes, the one may have the other's name.
        if (Identity(beside, aside) == wanted.Identity && beside.MoveNew(aside, beside, there) is var named and not 0)
            return Refused(PathOf(other.Number), named);
        var present = Present();
        if (present == other.Identity)
        {
            if (Identity(beside, there) != wanted.Identity)
                return $"version {wanted.Number} is not at {PathOf(wanted.Number)} any more";
            var errno = Above.Exchange(name, beside, there);
            // A file system without exchange: with two strokes it is missing in between, and that is seen.
            if (errno is Libc.EINVAL or Libc.ENOSYS && (errno = Above.MoveNew(name, beside, aside)) == 0)
                errno = beside.MoveNew(there, Above, name);
            if (errno != 0)
                return Refused(Directory, errno);
        }
        else if (present is null && Identity(beside, there) == wanted.Identity)
        {
            if (beside.MoveNew(there, Above, name) is var errno and not 0)
                return Refused(Directory, errno);
        }
        else if (present != wanted.Identity)
        {
            return $"{Directory} is neither version {other.Number} nor version {wanted.Number}: somebody has put something else there";
        }

        // By the exchange the one has got the other's name. What somebody has put there in that moment goes back.
        if (Identity(beside, there) is { } got && got != other.Identity && got != wanted.Identity)
        {
            _ = Above.Exchange(name, beside, there);
            return $"somebody is exchanging {Directory} for other directories";
        }

        if (Identity(beside, there) == other.Identity && beside.MoveNew(there, beside, aside) is var moved and not 0)
        {
            _ = Above.Exchange(name, beside, there);
            return Refused(PathOf(other.Number), moved);
        }

        return null;
    }

    private static string Refused(string path, int errno) =>
        errno == Libc.EBUSY
            ? $"{path} cannot be moved: a file system is mounted there, or it is in use by the kernel"
            : $"{path} cannot be moved: {Names.Errno(errno)}";

    // Data

    private string? Carry(long from, IReadOnlyList<string> data)
    {
        using var beside = room.Held.Entry(BesideName);
        using var away = beside?.Entry(NameOf(from));
        using var present = Hold();
        return away is null ? null : Carry(away, present, beside!, data);
    }

    private void Uncarry(long to, IReadOnlyList<string> data)
    {
        using var beside = room.Held.Entry(BesideName);
        using var away = beside?.Entry(NameOf(to));
        using var present = Hold();
        if (away is not null)
            _ = Carry(present, away, beside!, data);
    }

    private static string? Carry(Held from, Held to, Held beside, IReadOnlyList<string> data)
    {
        foreach (var (path, folder, entry) in DataIn(from, data))
            using (folder)
            {
                using var into = Folder(from, to, beside, Path.GetDirectoryName(path) ?? "");
                if (folder.MoveNew(entry, into, entry) is var errno and not 0)
                    return errno == Libc.EEXIST
                        ? $"{path} is data, and there is one in both versions"
                        : Refused(path, errno);
                into.Flush();
            }

        return null;
    }

    private bool LeavesData(long number, IReadOnlyList<string> data)
    {
        using var beside = room.Held.Entry(BesideName);
        using var away = beside?.Entry(NameOf(number));
        if (away is null)
            return false;
        var any = false;
        foreach (var (_, folder, _) in DataIn(away, data))
        {
            folder.Dispose();
            any = true;
        }

        return any;
    }

    /// <summary>What there is of the data, each with the folder it lies in, which the caller closes.</summary>
    private static IEnumerable<(string Path, Held Folder, string Entry)> DataIn(Held top, IReadOnlyList<string> data)
    {
        foreach (var pattern in data)
        {
            var (folder, last) = (Path.GetDirectoryName(pattern) ?? "", Path.GetFileName(pattern));
            using var held = Below(top, folder);
            if (held is null)
                continue;
            foreach (
                var entry in held.All()
                    .Where(entry => FileSystemName.MatchesSimpleExpression(last, entry, ignoreCase: false))
            )
                if (Below(top, folder) is { } again)
                    yield return (Path.Combine(folder, entry), again, entry);
        }
    }

    /// <summary>Whether a path from the directory is data, or lies in some.</summary>
    public static bool IsData(string path, IReadOnlyList<string> data)
    {
        if (data.Count == 0)
            return false;
        var parts = path.Split('/');
        return data.Any(pattern =>
            pattern.Split('/') is var wanted
            && wanted.Length <= parts.Length
            && wanted.SkipLast(1).SequenceEqual(parts.Take(wanted.Length - 1))
            && FileSystemName.MatchesSimpleExpression(wanted[^1], parts[wanted.Length - 1], ignoreCase: false)
        );
    }

    /// <summary>A folder below a held one, no link on the way; null: there is none.</summary>
    private static Held? Below(Held top, string path)
    {
        var at = top.Entry(".");
        foreach (var part in path.Split('/', StringSplitOptions.RemoveEmptyEntries))
        {
            using var above = at;
            at = above?.Entry(part);
            if (at is not null && at.Identity().Type != FileType.Directory)
            {
                at.Dispose();
                return null;
            }
        }

        return at;
    }

    /// <summary>
    /// The same, made where it is missing, with owner and rights of the one it is made after. It is made where nobody else can exchange
    /// it, and comes to its place as it is: whoever is given to whom is never found by a name.
    /// </summary>
    private static Held Folder(Held like, Held top, Held beside, string path)
    {
        var at = top.Entry(".")!;
        var so = "";
        foreach (var part in path.Split('/', StringSplitOptions.RemoveEmptyEntries))
        {
            so = Path.Combine(so, part);
            using var above = at;
            var next = above.Entry(part);
            if (next is null)
            {
                var made = $"new-{Guid.NewGuid():N}";
                next = beside.MakeDirectory(made, Closed);
                using var model = Below(like, so);
                if (model?.Identity() is { } owner)
                {
                    next.Give(owner.Uid, owner.Gid);
                    next.SetMode(owner.Mode & 0x1FF);
                }

                if (beside.MoveNew(made, above, part) is var errno and not 0)
                {
                    next.Dispose();
                    beside.Remove(made);
                    throw new IOException(Refused(so, errno));
                }
            }

            at = next.Identity().Type == FileType.Directory ? next : throw new IOException($"{so} is no directory");
        }

        return at;
    }

    private static string? Identity(Held directory, string entry)
    {
        using var held = directory.Entry(entry);
        return held?.Identity() is { Type: FileType.Directory } what
            ? what.Inode.ToString(CultureInfo.InvariantCulture)
            : null;
    }

    private string NameOf(long number) => string.Create(CultureInfo.InvariantCulture, $"{owner}.{number}");
}
