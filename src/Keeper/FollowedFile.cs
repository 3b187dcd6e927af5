using System.Buffers.Binary;
using System.Runtime.InteropServices;
using System.Text;
using CalmSentry.Contract.Keeper;
using CalmSentry.Linux.Files;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>Whom a file is opened as: what the account may not read, its service does not read for it.</summary>
internal readonly record struct Reader(long Uid, long Gid, uint[] Groups);

/// <summary>
/// A log file that the program writes by itself: what it gets is kept beside the program's output, in files and with times of
/// its own. When it has grown enough it is cut, once all of it is kept: emptied where it is, or moved aside, and the program
/// told to open it anew. Everything is done with the rights of the program's account.
/// </summary>
internal sealed unsafe class FollowedFile(string path, string folder, Reader reader, byte[][] hidden, int reopen)
{
    private const int CursorLength = 32;

    private const string Aside = ".calm-aside";

    private readonly Sink sink = new();
    private readonly Pump pump = new();
    private int file = -1,
        cursor = -1;
    private FileId id;
    private long cutAt,
        quietSince;
    private bool writable,
        begun;

    /// <summary>What is read was moved aside, and is read until nothing comes to it any more.</summary>
    public bool IsAside { get; private set; }

    /// <summary>False: what is kept of it cannot be written.</summary>
    public bool Begin(long turnAt)
    {
        cutAt = turnAt;
        if (
            !Make(Path.GetDirectoryName(folder)!)
            || !Make(folder)
            || !sink.Open(Path.Combine(folder, OutputForm.Current), turnAt, stamped: false, AtStart.Append)
        )
            return false;
        pump.Begin(sink, OutputSource.Output, hidden);
        fixed (byte* name = Bytes(Path.Combine(folder, "cursor")))
            cursor = open(name, O_RDWR | O_CREAT | O_CLOEXEC, 0x180);
        return cursor >= 0;
    }

    private static bool Make(string directory)
    {
        fixed (byte* name = Bytes(directory))
            return mkdir(name, 0x1E8) == 0 || Marshal.GetLastSystemError() == EEXIST; // 0750
    }

    /// <summary>Takes what was written since; at a run's end all of it.</summary>
    /// <returns>There may be more at once.</returns>
    public bool Look(long now, bool all)
    {
        if (file < 0 && !Find())
            return false;
        do
        {
            if (FileFacts.Of(file) is not { } looked || looked.Size < lseek(file, 0, 1))
                _ = lseek(file, 0, 0); // somebody emptied it
            var before = lseek(file, 0, 1);
            _ = pump.Carry(file, ends: false);
            Note();
            if (lseek(file, 0, 1) != before)
            {
                quietSince = now;
                if (!all)
                    return true;
            }
            else
                break;
        } while (pump.Stuck == 0);

        if (pump.Stuck != 0)
            return false;
        if (IsAside)
            DropAside(now, all);
        else if (IsReplaced())
            Leave();
        else if (lseek(file, 0, 1) >= cutAt && writable)
            Cut(now);
        return false;
    }

    public void Close()
    {
        Leave();
        if (cursor >= 0)
            _ = close(cursor);
        cursor = -1;
        sink.Close();
        pump.Close();
    }

    private void Leave()
    {
        if (file >= 0)
            _ = close(file);
        file = -1;
        IsAside = false;
    }

    // Finding it

    private bool Find()
    {
        // What was moved aside and not read to its end comes first.
        if (!Open(path + Aside, aside: true) && !Open(path, aside: false))
        {
            begun = true; // whatever comes there later is read from its beginning
            return false;
        }

        begun = true;
        return true;
    }

    private bool Open(string name, bool aside)
    {
        As(
            reader,
            () =>
            {
                fixed (byte* bytes = Bytes(name))
                {
                    file = open(bytes, O_RDWR | O_NONBLOCK | O_CLOEXEC | O_NOCTTY, 0);
                    writable = file >= 0;
                    if (file < 0)
                        file = open(bytes, O_RDONLY | O_NONBLOCK | O_CLOEXEC | O_NOCTTY, 0);
                }
            }
        );
        if (file < 0)
            return false;
        if (FileFacts.Of(file) is not { IsRegular: true } found || FileSystem.IsKernels(file))
        {
            Leave();
            return false;
        }

        id = found.Id;
        IsAside = aside;
        _ = lseek(file, Start(), 0);
        Note();
        return true;
    }

    /// <summary>Where reading begins: where it stopped, of the same file; else at the beginning of what is new.</summary>
    private long Start()
    {
        var known = stackalloc byte[CursorLength];
        _ = lseek(cursor, 0, 0);
        var size = FileFacts.Of(file)?.Size ?? 0;
        if (read(cursor, known, CursorLength) != CursorLength)
            return begun ? 0 : size; // what it held before it was named stays where it is
        var cut = new Span<byte>(known, CursorLength);
        if (
            BinaryPrimitives.ReadUInt64LittleEndian(cut) != id.Inode
            || BinaryPrimitives.ReadUInt64LittleEndian(cut[8..]) != id.Device
        )
            return 0;
        // What was kept beyond the note, before this keeper's time.
        var at =
            BinaryPrimitives.ReadInt64LittleEndian(cut[16..])
            + Math.Max(0, sink.End - BinaryPrimitives.ReadInt64LittleEndian(cut[24..]));
        return at <= size ? at : 0;
    }

    /// <summary>How far it was read, and to which place that was kept.</summary>
    private void Note()
    {
        var note = stackalloc byte[CursorLength];
        var bytes = new Span<byte>(note, CursorLength);
        BinaryPrimitives.WriteUInt64LittleEndian(bytes, id.Inode);
        BinaryPrimitives.WriteUInt64LittleEndian(bytes[8..], id.Device);
        BinaryPrimitives.WriteInt64LittleEndian(bytes[16..], lseek(file, 0, 1) - pump.Held);
        BinaryPrimitives.WriteInt64LittleEndian(bytes[24..], sink.End);
        _ = lseek(cursor, 0, 0);
        _ = write(cursor, note, CursorLength);
    }

    private bool IsReplaced()
    {
        FileLook? there = null;
        As(reader, () => there = FileFacts.Of(path));
        return there is { } now && now.Id != id;
    }

    // Cutting it

    private void Cut(long now)
    {
        if (reopen == 0)
        {
            // What is written between the last look and this is lost; it is said where this way is described.
            _ = pump.Carry(file, ends: false);
            if (pump.Stuck == 0 && ftruncate(file, 0) == 0)
                _ = lseek(file, 0, 0);
            Note();
            return;
        }

        var moved = false;
        As(
            reader,
            () =>
            {
                fixed (
                    byte* from = Bytes(path),
                        to = Bytes(path + Aside)
                )
                    moved = rename(from, to) == 0;
            }
        );
        if (!moved)
            return;
        IsAside = true;
        quietSince = now;
        Reopens = true;
    }

    /// <summary>The program is to be told to open it anew.</summary>
    public bool Reopens { get; set; }

    private const long Quiet = 3000; // ms

    /// <summary>The program writes to the new one, or to none any more: the one aside goes when nothing comes to it.</summary>
    private void DropAside(long now, bool all)
    {
        var another = false;
        As(reader, () => another = FileFacts.Of(path) is not null);
        if (!all && (!another || now - quietSince < Quiet))
            return;
        As(
            reader,
            () =>
            {
                fixed (byte* bytes = Bytes(path + Aside))
                    _ = unlink(bytes);
            }
        );
        Leave();
    }

    // The system

    /// <summary>
    /// Does something with files as an account would (setfsuid(2)): the ids are the calling thread's alone, and are taken back.
    /// </summary>
    private static void As(Reader reader, Action what)
    {
        if (reader.Uid < 0)
        {
            what();
            return;
        }

        var before = stackalloc uint[256];
        var count = (int)syscall(IsArm64 ? 158 : 115, 256, (nint)before, 0); // getgroups
        fixed (uint* groups = reader.Groups)
            if (
                count < 0
                || syscall(IsArm64 ? SYS_setgroups_arm64 : SYS_setgroups_x64, reader.Groups.Length, (nint)groups, 0) < 0
            )
                return;
        _ = syscall(IsArm64 ? 152 : 123, (nint)reader.Gid, 0, 0); // setfsgid
        _ = syscall(IsArm64 ? 151 : 122, (nint)reader.Uid, 0, 0); // setfsuid
        try
        {
            // That it did not take shows in the answer to a second one (setfsuid(2)).
            if (syscall(IsArm64 ? 151 : 122, (nint)reader.Uid, 0, 0) == reader.Uid)
                what();
        }
        finally
        {
            _ = syscall(IsArm64 ? 151 : 122, 0, 0, 0);
            _ = syscall(IsArm64 ? 152 : 123, 0, 0, 0);
            _ = syscall(IsArm64 ? SYS_setgroups_arm64 : SYS_setgroups_x64, count, (nint)before, 0);
        }
    }

    private static bool IsArm64 => RuntimeInformation.ProcessArchitecture == Architecture.Arm64;

    private static byte[] Bytes(string text) => Encoding.UTF8.GetBytes(text + '\0');
}
