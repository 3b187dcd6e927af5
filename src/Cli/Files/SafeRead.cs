using System.Runtime.InteropServices;
using CalmSentry.Cli.Wire;
using Microsoft.Win32.SafeHandles;

namespace CalmSentry.Cli.Files;

/// <summary>
/// Files of a directory that others may have put things in: opened below it by their own names, never through a link, never waiting, and
/// read whole or not at all.
/// </summary>
internal static partial class SafeRead
{
    /// <summary>An open file or directory, as statx(2) tells of it.</summary>
    public readonly record struct Facts(uint Type, uint Mode, uint Owner, uint Group, long Size, long Changed)
    {
        public bool IsFile => Type == 0x8000;

        public bool IsDirectory => Type == 0x4000;

        public bool IsLink => Type == 0xA000;

        /// <summary>Whether others than its owner can write it; a group of the owner's own is the owner.</summary>
        public bool OthersWrite =>
            (Mode & 0x2) != 0 || (List is { } list ? list.OthersWrite(this) : (Mode & 0x10) != 0 && Group != Owner);

        /// <summary>Its access list, where it has one: then the mode's rights of the group are that list's mask.</summary>
        public AccessRights? List { get; init; }
    }

    /// <summary>Who besides the owner an access list (acl(5)) lets write, as the kernel keeps it in an extended attribute.</summary>
    /// <param name="Group">The file's own group may.</param>
    /// <param name="Named">An account or a group by its number may, or the list is none that is known here.</param>
    public readonly record struct AccessRights(bool Group, bool Named)
    {
        private const int User = 2,
            OwnGroup = 4,
            NamedGroup = 8,
            Mask = 16,
            Write = 2,
            Head = 4,
            Entry = 8;

        /// <param name="bytes">A version, then entries of tag, rights and id, the numbers with their low bytes first.</param>
        public static AccessRights Read(ReadOnlySpan<byte> bytes, uint owner)
        {
            if (bytes.Length < Head || bytes[0] != 2 || (bytes.Length - Head) % Entry != 0)
                return new(Group: true, Named: true);
            var (group, named, mask) = (false, false, Write);
            for (var rest = bytes[Head..]; rest.Length > 0; rest = rest[Entry..])
            {
                var (tag, rights) = (BitConverter.ToUInt16(rest), BitConverter.ToUInt16(rest[2..]) & Write);
                if (tag == Mask)
                    mask = rights;
                else if (tag == OwnGroup)
                    group |= rights != 0;
                else if (tag == NamedGroup || (tag == User && BitConverter.ToUInt32(rest[4..]) != owner))
                    named |= rights != 0;
            }

            return new(group && mask != 0, named && mask != 0);
        }

        public bool OthersWrite(Facts file) => Named || (Group && file.Group != file.Owner);
    }

    private const int CloseOnExec = 0x80000,
        NoFollow = 0x20000,
        NonBlocking = 0x800,
        OnlyDirectory = 0x10000,
        Here = -100,
        Empty = 0x1000,
        Basic = 0x7ff,
        Loop = 40;

    /// <summary>Where a directory's flags have other places (open(2) on arm64).</summary>
    private static bool IsArm => RuntimeInformation.ProcessArchitecture == Architecture.Arm64;

    private static int Nofollow => IsArm ? 0x8000 : NoFollow;

    private static int Directory_ => IsArm ? 0x4000 : OnlyDirectory;

    /// <summary>A directory that somebody named, links of the way followed.</summary>
    /// <exception cref="Failure">It is none.</exception>
    public static SafeFileHandle Root(string path)
    {
        var fd = openat(Here, path, CloseOnExec | NonBlocking | Directory_, 0);
        return fd >= 0
            ? new(fd, ownsHandle: true)
            : throw Cannot(path, Marshal.GetLastPInvokeError(), "Name a directory of definition files.");
    }

    /// <summary>What lies in a directory, and is no link.</summary>
    /// <returns>Null: there is no such thing.</returns>
    /// <exception cref="Failure">It is a link, or cannot be opened.</exception>
    public static SafeFileHandle? Below(SafeFileHandle directory, string name, string shown)
    {
        var fd = openat((int)directory.DangerousGetHandle(), name, CloseOnExec | NonBlocking | Nofollow, 0);
        if (fd >= 0)
            return new(fd, ownsHandle: true);
        var errno = Marshal.GetLastPInvokeError();
        return errno switch
        {
            2 => null,
            Loop => throw new Failure(
                Exit.Usage,
                $"{shown} is a link; nothing was read.",
                "Put the file itself there: where a link leads can be changed by others."
            ),
            _ => throw Cannot(shown, errno, null),
        };
    }

    public static unsafe Facts Of(SafeFileHandle handle)
    {
        var told = stackalloc byte[256];
        if (statx((int)handle.DangerousGetHandle(), "", Empty, Basic, told) != 0)
            throw new Failure(Exit.NotTrue, "What was opened cannot be looked at.");
        var mode = *(ushort*)(told + 28);
        var owner = *(uint*)(told + 20);
        var room = stackalloc byte[LongestList];
        var length = fgetxattr((int)handle.DangerousGetHandle(), "system.posix_acl_access", room, LongestList);
        const int noList = 61, // ENODATA
            noLists = 95; // EOPNOTSUPP: a file system without them
        var errno = length < 0 ? Marshal.GetLastPInvokeError() : 0;
        return new(
            (uint)(mode & 0xF000),
            (uint)(mode & 0xFFF),
            *(uint*)(told + 20),
            *(uint*)(told + 24),
            *(long*)(told + 40),
            *(long*)(told + 96) * 1_000_000_000 + *(uint*)(told + 104)
        )
        {
            // One that cannot be read may say anything.
            List =
                errno is noList or noLists ? null
                : length < 0 ? new(Group: true, Named: true)
                : AccessRights.Read(new(room, (int)length), owner),
        };
    }

    /// <summary>Bytes of an access list: more than a file system of this machine keeps in one.</summary>
    private const int LongestList = 16 << 10;

    /// <summary>Names in an open directory, in their order.</summary>
    public static IReadOnlyList<string> Names(SafeFileHandle directory, int most)
    {
        var place = $"/proc/self/fd/{(int)directory.DangerousGetHandle()}";
        var names = new List<string>();
        foreach (var path in Directory.EnumerateFileSystemEntries(place))
        {
            names.Add(Path.GetFileName(path));
            if (names.Count > most)
                throw new Failure(Exit.Usage, $"A directory has more than {most} names in it; nothing was read.");
        }

        names.Sort(StringComparer.Ordinal);
        return names;
    }

    /// <summary>All of a plain file, as text.</summary>
    /// <exception cref="Failure">It is no plain file, too long, no text, or was changed meanwhile.</exception>
    public static string Text(SafeFileHandle file, string shown, int longest)
    {
        var before = Of(file);
        if (!before.IsFile)
            throw new Failure(
                Exit.Usage,
                $"{shown} is no plain file; nothing was read.",
                "Only files lie among definitions: no pipe, socket or device."
            );
        if (before.Size > longest)
            throw new Failure(
                Exit.Usage,
                $"{shown} is longer than the {longest} bytes allowed; nothing was read.",
                "Is it a definition? Take what is none out of the directory."
            );
        var bytes = new byte[longest + 1];
        var length = 0;
        for (int got; (got = RandomAccess.Read(file, bytes.AsSpan(length), length)) > 0; )
            if ((length += got) == bytes.Length)
                break;
        if (Of(file) != before || length != before.Size)
            throw new Failure(
                Exit.NotTrue,
                $"{shown} was changed while it was read; nothing was done.",
                "Ask again when nobody writes there."
            );
        return Body.TextOf(bytes.AsSpan(0, length), shown).TrimStart('\ufeff');
    }

    private static Failure Cannot(string path, int errno, string? next) =>
        new(
            Exit.Usage,
            errno switch
            {
                2 => $"{path} is not there.",
                13 or 1 => $"{path}: you may not read it.",
                20 => $"{path} is no directory.",
                _ => $"{path} cannot be opened: {Marshal.GetPInvokeErrorMessage(errno)}.",
            },
            next
        );

    [LibraryImport("libc", StringMarshalling = StringMarshalling.Utf8, SetLastError = true)]
    private static partial int openat(int directory, string path, int flags, uint mode);

    [LibraryImport("libc", StringMarshalling = StringMarshalling.Utf8, SetLastError = true)]
    private static unsafe partial int statx(int directory, string path, int flags, uint mask, byte* told);

    [LibraryImport("libc", StringMarshalling = StringMarshalling.Utf8, SetLastError = true)]
    private static unsafe partial nint fgetxattr(int file, string name, byte* value, nuint size);

    [LibraryImport("libc")]
    public static partial uint geteuid();
}
