using System.Buffers.Binary;

namespace CalmSentry.Linux.Foreign;

/// <summary>
/// A POSIX access list (acl(5)) as the kernel keeps it in an extended attribute: a version and entries of tag, rights
/// and id.
/// Kept as a value: every change gives another one.
/// </summary>
public sealed class AccessList : IEquatable<AccessList>
{
    private const int Version = 2,
        EntryLength = 8;
    private const ushort Owner = 1,
        User = 2,
        OwnGroup = 4,
        Group = 8,
        Mask = 16,
        Other = 32;
    private const uint Nobody = uint.MaxValue;

    private readonly Entry[] entries;

    private readonly record struct Entry(ushort Tag, int Rights, uint Id);

    private AccessList(IEnumerable<Entry> entries) =>
        this.entries = [.. entries.OrderBy(entry => entry.Tag).ThenBy(entry => entry.Id)];

    /// <summary>What a file's mode alone says.</summary>
    public static AccessList OfMode(int mode) =>
        new([new(Owner, mode >> 6 & 7, Nobody), new(OwnGroup, mode >> 3 & 7, Nobody), new(Other, mode & 7, Nobody)]);

    /// <exception cref="FormatException">No access list of a version known here.</exception>
    public static AccessList Read(ReadOnlySpan<byte> bytes)
    {
        if (
            bytes.Length < 4
            || BinaryPrimitives.ReadInt32LittleEndian(bytes) != Version
            || (bytes.Length - 4) % EntryLength != 0
        )
            throw new FormatException("no access list of version 2");
        var found = new List<Entry>();
        for (var rest = bytes[4..]; rest.Length > 0; rest = rest[EntryLength..])
            found.Add(
                new(
                    BinaryPrimitives.ReadUInt16LittleEndian(rest),
                    BinaryPrimitives.ReadUInt16LittleEndian(rest[2..]) & 7,
                    BinaryPrimitives.ReadUInt32LittleEndian(rest[4..])
                )
            );
        return new(found);
    }

    public byte[] Write()
    {
        var bytes = new byte[4 + (entries.Length * EntryLength)];
        BinaryPrimitives.WriteInt32LittleEndian(bytes, Version);
        for (var i = 0; i < entries.Length; i++)
        {
            var at = bytes.AsSpan(4 + (i * EntryLength));
            BinaryPrimitives.WriteUInt16LittleEndian(at, entries[i].Tag);
            BinaryPrimitives.WriteUInt16LittleEndian(at[2..], (ushort)entries[i].Rights);
            BinaryPrimitives.WriteUInt32LittleEndian(at[4..], entries[i].Id);
        }

        return bytes;
    }

    /// <summary>It says more than a mode can.</summary>
    public bool NamesAnybody => entries.Any(entry => entry.Tag is User or Group);

    public bool Names(uint uid) => entries.Any(entry => entry.Tag == User && entry.Id == uid);

    /// <summary>Somebody may execute it.</summary>
    public bool AnyExecute => entries.Any(entry => entry.Tag != Mask && (entry.Rights & 1) != 0);

    /// <summary>
    /// The same with rights for one user added. Nobody else gains or loses: where the mask must let more pass, the
    /// entries it held
    /// back are cut to what they were worth.
    /// </summary>
    public AccessList With(uint uid, int rights)
    {
        int? mask = entries.Where(entry => entry.Tag == Mask).Select(entry => (int?)entry.Rights).FirstOrDefault();
        var own =
            rights
            | entries
                .Where(entry => entry.Tag == User && entry.Id == uid)
                .Select(entry => entry.Rights & (mask ?? 7))
                .FirstOrDefault();
        var wider = (mask ?? entries.First(entry => entry.Tag == OwnGroup).Rights) | own;
        var cut = mask is { } held && wider != held ? held : 7;
        return new([
            .. entries
                .Where(entry => entry.Tag != Mask && !(entry.Tag == User && entry.Id == uid))
                .Select(entry =>
                    entry.Tag is User or Group or OwnGroup ? entry with { Rights = entry.Rights & cut } : entry
                ),
            new(User, own, uid),
            new(Mask, wider, Nobody),
        ]);
    }

    /// <summary>The same without one user's entry; once nobody is named any more, what a mode can say.</summary>
    public AccessList Without(uint uid)
    {
        var rest = entries.Where(entry => !(entry.Tag == User && entry.Id == uid)).ToList();
        if (rest.Exists(entry => entry.Tag is User or Group))
            return new(rest);
        var mask = rest.Where(entry => entry.Tag == Mask).Select(entry => (int?)entry.Rights).FirstOrDefault() ?? 7;
        return new(
            rest.Where(entry => entry.Tag != Mask)
                .Select(entry => entry.Tag == OwnGroup ? entry with { Rights = entry.Rights & mask } : entry)
        );
    }

    public bool Equals(AccessList? other) => other is not null && entries.AsSpan().SequenceEqual(other.entries);

    public override bool Equals(object? obj) => Equals(obj as AccessList);

    public override int GetHashCode() => entries.Length;

    public override string ToString() =>
        string.Join(',', entries.Select(entry => $"{entry.Tag}:{entry.Id}:{entry.Rights}"));
}

/// <summary>
/// Which of a file's two access lists: who may use it, or (of a directory) what new files in it begin with.
/// </summary>
public enum ListKind
{
    Access,
    Default,
}

/// <summary>Access lists of held files, by their extended attributes (xattr(7)).</summary>
public static class AccessLists
{
    /// <summary>Null: there is none of that kind beside the mode.</summary>
    /// <exception cref="NotSupportedException">The file system has no access lists.</exception>
    /// <exception cref="IOException">It cannot be read.</exception>
    public static AccessList? Of(Held held, ListKind kind) =>
        ExtendedAttributes.Of(held, NameOf(kind)) is { } list ? AccessList.Read(list) : null;

    /// <param name="list">Null: there is to be none of that kind.</param>
    /// <exception cref="NotSupportedException">The file system has no access lists.</exception>
    /// <exception cref="IOException">It cannot be set.</exception>
    public static void Set(Held held, ListKind kind, AccessList? list) =>
        ExtendedAttributes.Set(held, NameOf(kind), list?.Write());

    private static string NameOf(ListKind kind) =>
        kind == ListKind.Access ? "system.posix_acl_access" : "system.posix_acl_default";
}
