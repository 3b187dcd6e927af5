using System.Buffers.Binary;
using System.Diagnostics;
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
    private const int CursorLength = 72,
        WithoutBirth = 64,
        EarlierCursorLength = 32,
        IsOverAt = 56,
        BornAt = 64;

    /// <summary>Bytes at the beginning of what was read, and at its end, by which a file is known that began anew.</summary>
    private const int Known = 512;

    private const string Aside = ".calm-aside";

    /// <summary>Nanoseconds by which the kernel's time of a file may lag behind the clock (a tick, at 100 Hz).</summary>
    private const long CoarseTime = 10_000_000;

    private readonly Sink sink = new();
    private readonly Pump pump = new();
    private int file = -1,
        cursor = -1;
    private FileId id;
    private long born;
    private FileLook whole; // as it was when all of it had been read
    private long cutAt,
        quietSince;
    private (uint First, uint Last) print;
    private long laidOutAt; // ns since 1970: what was written later, the program of this run may have written
    private bool writable,
        begun,
        fromBefore = true;
    private FileLook? left; // the file that was read before, as it was then
    private string? gap; // what is to be said before anything more is kept

    /// <summary>What is read was moved aside, and is read until nothing comes to it any more.</summary>
    public bool IsAside { get; private set; }

    /// <summary>False: what is kept of it cannot be written.</summary>
    public bool Begin(long turnAt)
    {
        (cutAt, laidOutAt) = (turnAt, ((DateTime.UtcNow - DateTime.UnixEpoch).Ticks * 100) - CoarseTime);
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

    /// <summary>A segment of what is kept was turned over since this was last asked.</summary>
    public bool TurnedOver
    {
        get => sink.TurnedOver;
        set => sink.TurnedOver = value;
    }

    private const long SmallestHole = 65536, // less is read as the zeros it stands for
        LastLook = 64 << 20;

    private const int Rounds = 8;

    private static readonly TimeSpan LastLookTakes = TimeSpan.FromSeconds(5);

    /// <summary>
    /// Takes what was written since; at a run's end what of it is read within 5 s and 64 MiB: the run that follows goes on from there.
    /// </summary>
    /// <returns>There may be more at once.</returns>
    public bool Look(long now, bool all)
    {
        if (file < 0 && !Find())
            return false;
        if (gap is not null)
        {
            if (!pump.Tell(gap))
                return false;
            gap = null;
            Note(); // only now: that something is missing is not lost with this keeper
        }

        var began = Stopwatch.GetTimestamp();
        var taken = 0L;
        do
        {
            if (FileFacts.Of(file) is not { } looked || BeganAnew(looked, At - pump.Held))
            {
                _ = lseek(file, 0, SEEK_SET);
                looked = FileFacts.Of(file) ?? default;
            }

            if (!PassHole(looked.Size))
                return false;
            var before = At;
            _ = pump.Carry(file, Rounds, ends: false, Content(before, looked.Size) - before);
            whole = At == looked.Size ? looked : default;
            Note();
            if (At == before)
                break;
            fromBefore = false;
            quietSince = now;
            if (!all)
                return true;
            taken += At - before;
            if (taken > LastLook || Stopwatch.GetElapsedTime(began) > LastLookTakes)
            {
                SayUnread();
                return false;
            }
        } while (pump.Stuck == 0);

        if (pump.Stuck != 0)
            return false;
        if (IsAside)
            DropAside(now, all);
        else if (IsReplaced())
        {
            // What was written just before that is there by now.
            if (FileFacts.Of(file) is { } last && last.Size > At)
                return true;
            Leave(isOver: false); // others may have come and gone since: one that comes later looks for them as well
        }
        else if (At >= cutAt && writable)
            Cut(now);
        return false;
    }

    private long At => lseek(file, 0, SEEK_CUR);

    /// <summary>
    /// Whether somebody emptied it since, also where it is as long again: it is shorter; other bytes end where it was read to; or it is the
    /// same all over, and was written to since this run began. Later on that is no sign: a write that finds no room changes a file's time,
    /// and nothing of its content. One that rewrites its beginning alone, such as a count, goes on.
    /// </summary>
    /// <param name="at">Up to where it was read.</param>
    private bool BeganAnew(FileLook looked, long at)
    {
        if (looked.Size < at)
            return true;
        if (at == 0 || looked.Written == whole.Written)
            return false;
        var now = Print(at);
        if (now.Last != print.Last)
            return true;
        var isSame = fromBefore && looked.Size == at && whole.Size == at && now.First == print.First;
        if (!isSame || looked.Written < laidOutAt || FileSystem.IsFull(file))
            return false;
        fromBefore = false;
        return true;
    }

    /// <summary>Tells the bytes before a place from others, by the first and the last of them.</summary>
    private (uint First, uint Last) Print(long at)
    {
        var length = (int)Math.Clamp(at, 0, Known); // what cannot be sought in has no place
        return (Hash(0, length), Hash(at - length, length));
    }

    /// <summary>FNV-1a, 64 bits, folded to 32.</summary>
    private uint Hash(long from, int length)
    {
        var bytes = stackalloc byte[Known];
        var hash = 14695981039346656037UL;
        var got = pread(file, bytes, length, from);
        for (var i = 0; i < got; i++)
            hash = (hash ^ bytes[i]) * 1099511628211UL;
        return (uint)(hash ^ (hash >> 32));
    }

    /// <summary>
    /// A file can be long without having content (lseek(2), SEEK_DATA): what was never written is one mark, and not as many zeros.
    /// </summary>
    /// <returns>False: the mark cannot be written now.</returns>
    private bool PassHole(long size)
    {
        var at = At;
        var data = lseek(file, at, SEEK_DATA);
        if (data < 0 && Marshal.GetLastSystemError() == ENXIO)
            data = size; // nothing but a hole from here on
        if (data - at < SmallestHole)
            return lseek(file, at, SEEK_SET) >= 0;
        var passes = pump.SayLeft(data - at, "of it were never written");
        _ = lseek(file, passes ? data : at, SEEK_SET);
        Note();
        return passes;
    }

    /// <summary>Where content ends that begins at a place: at the next hole that is not passed for its zeros, or further away than is read.</summary>
    private long Content(long from, long size)
    {
        var until = Math.Min(size, from + ((long)Rounds << 16));
        for (var at = from; at < until; )
        {
            var hole = lseek(file, at, SEEK_HOLE);
            if (hole < 0 || hole >= until)
                break;
            var data = lseek(file, hole, SEEK_DATA);
            if (data < 0 || data - hole >= SmallestHole)
            {
                until = data < 0 && size - hole < SmallestHole ? until : hole;
                break;
            }

            at = data;
        }

        _ = lseek(file, from, SEEK_SET);
        return until;
    }

    private void SayUnread()
    {
        if (FileFacts.Of(file) is { } looked && looked.Size > At)
            _ = pump.SayLeft(looked.Size - At, "more are in it, and are read when it runs again");
        Note();
    }

    public void Close()
    {
        Leave(isOver: true);
        if (cursor >= 0)
            _ = close(cursor);
        cursor = -1;
        sink.Close();
        pump.Close();
    }

    private void Leave(bool isOver)
    {
        if (file >= 0)
        {
            Note(isOver);
            left = whole.Written == 0 ? null : whole with { Id = id };
            _ = close(file);
        }

        file = -1;
        IsAside = false;
    }

    // Finding it

    private bool Find()
    {
        // What was moved aside, by us or by its program, and not read to its end comes first.
        if (Open(path + Aside, aside: true) || (!begun && OpenMoved()) || Open(path, aside: false))
            return begun = true;
        begun = true; // whatever comes there later is read from its beginning
        return false;
    }

    /// <summary>
    /// Without a keeper for a moment, its program may have moved it away and begun another: what of it is not read yet is found by what
    /// it is, whatever it is called now.
    /// </summary>
    private bool OpenMoved()
    {
        var known = stackalloc byte[CursorLength];
        var note = new Span<byte>(known, CursorLength);
        var length = ReadNote(note);
        if (length < WithoutBirth || note[IsOverAt] != 0)
            return false; // there was no run before, or it was read to its end
        var (was, wasBorn) = (IdIn(note), BornIn(note, length));
        (string Name, FileLook Look)? moved = null;
        var stays = false;
        As(
            reader,
            () =>
            {
                if (There()?.Is(was, wasBorn) == true)
                {
                    stays = true;
                    return;
                }

                moved = (Beside() ?? [])
                    .Where(one => one.Look.Is(was, wasBorn))
                    .Select(one => ((string, FileLook)?)one)
                    .FirstOrDefault();
            }
        );
        if (stays)
            return false;
        // It may have been given another name since: that it is the one shows when it is open.
        if (moved is { } one && Open(one.Name, aside: false, was))
        {
            writable = false;
            return true;
        }

        gap = "[calm: the file before was moved away while nobody read it; what it got last may be missing]\n";
        return false;
    }

    /// <summary>How many files came after one and were moved away before the one that is read now; null: that cannot be seen now.</summary>
    private int? Between(FileLook before)
    {
        int? others = null;
        As(
            reader,
            () =>
                others = Beside()
                    ?.Where(one => !one.Look.Is(before.Id, before.Born) && one.Look.Id != id)
                    .Where(one => IsNumbered(one.Name[path.Length..]) && one.Look.Written > before.Written)
                    .DistinctBy(one => one.Look.Id)
                    .Count()
        );
        return others;
    }

    /// <summary>What a file that was moved away has behind its name: a number, or a day. One that was packed since is older.</summary>
    private static bool IsNumbered(string rest) =>
        rest is ['.' or '-' or '_', >= '0' and <= '9', ..] or ['.', 'o', 'l', 'd', ..]
        && Path.GetExtension(rest) is not (".gz" or ".xz" or ".bz2" or ".zst" or ".zip");

    private const int MostBeside = 4096;

    /// <summary>The files whose names begin with its own, as whoever this thread is sees them; null: not now.</summary>
    private IEnumerable<(string Name, FileLook Look)>? Beside()
    {
        var (folder, name) = (Path.GetDirectoryName(path)!, Path.GetFileName(path));
        IEnumerable<string> all;
        try
        {
            all = Directory.EnumerateFiles(folder).Take(MostBeside).ToList();
        }
        catch (UnauthorizedAccessException)
        {
            return []; // and will see none of them later
        }
        catch (IOException)
        {
            return null; // it has no descriptor left, say
        }

        return all.Where(one => Path.GetFileName(one).StartsWith(name, StringComparison.Ordinal))
            .Select(one => (one, FileFacts.Of(one, followsLinks: false)))
            .Where(one => one.Item2 is { IsRegular: true })
            .Select(one => (one.one, one.Item2!.Value));
    }

    /// <param name="only">Only if it is this one.</param>
    private bool Open(string name, bool aside, FileId? only = null)
    {
        As(
            reader,
            () =>
            {
                file = Own(name, O_RDWR | O_NONBLOCK | O_NOCTTY);
                writable = file >= 0;
                if (file < 0)
                    file = Own(name, O_RDONLY | O_NONBLOCK | O_NOCTTY);
            }
        );
        if (file < 0)
            return false;
        var found = FileFacts.Of(file) ?? default;
        var isIt = found.IsRegular && !FileSystem.IsKernels(file) && (only is null || found.Id == only);
        (id, born) = (found.Id, found.Born);
        var before = name == path ? left : null;
        var others = isIt && before is { } one ? Between(one) : 0;
        if (!isIt || others is null)
        {
            // Nothing was read of it, so nothing is noted: the note is still about the file before.
            _ = close(file);
            file = -1;
            return false;
        }

        if (before is not null)
        {
            gap = others == 0 ? null : $"[calm: files that came and went meanwhile are not kept: {others}]\n";
            left = null;
        }

        IsAside = aside;
        _ = lseek(file, Start(), 0);
        print = Print(At);
        if (gap is null)
            Note();
        return true;
    }

    /// <summary>Where reading begins: where it stopped, of the same file; else at the beginning of what is new.</summary>
    private long Start()
    {
        var known = stackalloc byte[CursorLength];
        var cut = new Span<byte>(known, CursorLength);
        var looked = FileFacts.Of(file) ?? default;
        var length = ReadNote(cut);
        if (length < EarlierCursorLength)
            return begun ? 0 : looked.Size; // what it held before it was named stays where it is
        if (!looked.Is(IdIn(cut), BornIn(cut, length)))
            return 0;
        var at = BinaryPrimitives.ReadInt64LittleEndian(cut[16..]);
        if (length >= WithoutBirth)
        {
            print = (
                BinaryPrimitives.ReadUInt32LittleEndian(cut[32..]),
                BinaryPrimitives.ReadUInt32LittleEndian(cut[36..])
            );
            whole = looked with
            {
                Size = BinaryPrimitives.ReadInt64LittleEndian(cut[40..]),
                Written = BinaryPrimitives.ReadInt64LittleEndian(cut[48..]),
            };
            if (BeganAnew(looked, at))
                return 0;
        }

        // What was kept beyond the note, before this keeper's time; more than there is in it was of what came after it.
        at += Math.Max(0, sink.End - BinaryPrimitives.ReadInt64LittleEndian(cut[24..]));
        return Math.Min(at, looked.Size);
    }

    private static FileId IdIn(ReadOnlySpan<byte> note) =>
        new(BinaryPrimitives.ReadUInt64LittleEndian(note), BinaryPrimitives.ReadUInt64LittleEndian(note[8..]));

    /// <returns>0: it does not say.</returns>
    private static long BornIn(ReadOnlySpan<byte> note, int length) =>
        length < CursorLength ? 0 : BinaryPrimitives.ReadInt64LittleEndian(note[BornAt..]);

    /// <returns>How many bytes of a note there are.</returns>
    private int ReadNote(Span<byte> note)
    {
        fixed (byte* into = note)
            return (int)pread(cursor, into, note.Length, 0);
    }

    /// <summary>How far it was read, to which place that was kept, and by what it is known that it did not begin anew since.</summary>
    /// <param name="isOver">It is not read any more; where all of it was, nothing of it is looked for by the next run.</param>
    private void Note(bool isOver = false)
    {
        print = Print(At - pump.Held);
        var note = stackalloc byte[CursorLength];
        var bytes = new Span<byte>(note, CursorLength);
        BinaryPrimitives.WriteUInt64LittleEndian(bytes, id.Inode);
        BinaryPrimitives.WriteUInt64LittleEndian(bytes[8..], id.Device);
        BinaryPrimitives.WriteInt64LittleEndian(bytes[16..], At - pump.Held);
        BinaryPrimitives.WriteInt64LittleEndian(bytes[24..], sink.End);
        BinaryPrimitives.WriteUInt32LittleEndian(bytes[32..], print.First);
        BinaryPrimitives.WriteUInt32LittleEndian(bytes[36..], print.Last);
        BinaryPrimitives.WriteInt64LittleEndian(bytes[40..], whole.Size);
        BinaryPrimitives.WriteInt64LittleEndian(bytes[48..], whole.Written);
        BinaryPrimitives.WriteInt64LittleEndian(bytes[IsOverAt..], isOver && whole.Written != 0 ? 1 : 0);
        BinaryPrimitives.WriteInt64LittleEndian(bytes[BornAt..], born);
        _ = lseek(cursor, 0, 0);
        _ = write(cursor, note, CursorLength);
    }

    private bool IsReplaced()
    {
        FileLook? there = null;
        As(reader, () => there = There());
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
                var folder = Own(Path.GetDirectoryName(path)!, O_PATH | O_DIRECTORY);
                fixed (
                    byte* from = Bytes(Path.GetFileName(path)),
                        to = Bytes(Path.GetFileName(path) + Aside)
                )
                    moved = folder >= 0 && renameat(folder, from, folder, to) == 0;
                if (folder >= 0)
                    _ = close(folder);
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
        As(reader, () => another = There() is not null);
        if (!all && (!another || now - quietSince < Quiet))
            return;
        As(
            reader,
            () =>
            {
                var folder = Own(Path.GetDirectoryName(path)!, O_PATH | O_DIRECTORY);
                fixed (byte* bytes = Bytes(Path.GetFileName(path) + Aside))
                    _ = unlinkat(folder, bytes, 0);
                if (folder >= 0)
                    _ = close(folder);
            }
        );
        Leave(isOver: true);
    }

    // The system

    /// <summary>
    /// Opens something by its path, as whoever this thread is. The kernel's own links (/proc/PID/cwd and the like) lead where no path does,
    /// and are not followed (Ground.FollowedLog).
    /// </summary>
    private static int Own(string name, int flags)
    {
        fixed (byte* bytes = Bytes(name))
            return openat2(AT_FDCWD, bytes, flags | O_CLOEXEC, RESOLVE_NO_MAGICLINKS);
    }

    private FileLook? There()
    {
        var there = Own(path, O_PATH);
        if (there < 0)
            return null;
        var look = FileFacts.Of(there);
        _ = close(there);
        return look;
    }

    /// <summary>
    /// Does something with files as an account would (setfsuid(2)), and with none of the rights that root's process has beside its user id
    /// (capabilities(7)): those of it that are not about files would let it through where the account cannot go. All of it is the calling
    /// thread's alone, and is taken back.
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
        var head = stackalloc uint[2];
        var rights = stackalloc uint[6]; // effective, permitted and inheritable, twice
        var none = stackalloc uint[6];
        const uint version3 = 0x20080522;
        (head[0], head[1]) = (version3, 0);
        if (count < 0 || syscall(IsArm64 ? 90 : 125, (nint)head, (nint)rights, 0) < 0) // capget
            return;
        fixed (uint* groups = reader.Groups)
            if (syscall(IsArm64 ? SYS_setgroups_arm64 : SYS_setgroups_x64, reader.Groups.Length, (nint)groups, 0) < 0)
                return;
        _ = syscall(IsArm64 ? 152 : 123, (nint)reader.Gid, 0, 0); // setfsgid
        _ = syscall(IsArm64 ? 151 : 122, (nint)reader.Uid, 0, 0); // setfsuid
        (none[1], none[4]) = (rights[1], rights[4]); // still permitted, so that they can be taken again
        (head[0], head[1]) = (version3, 0);
        try
        {
            // That it did not take shows in the answer to a second one (setfsuid(2)).
            if (
                syscall(IsArm64 ? 151 : 122, (nint)reader.Uid, 0, 0) == reader.Uid
                && syscall(IsArm64 ? SYS_capset_arm64 : SYS_capset_x64, (nint)head, (nint)none, 0) == 0
            )
                what();
        }
        finally
        {
            _ = syscall(IsArm64 ? 151 : 122, 0, 0, 0);
            (head[0], head[1]) = (version3, 0);
            _ = syscall(IsArm64 ? SYS_capset_arm64 : SYS_capset_x64, (nint)head, (nint)rights, 0);
            _ = syscall(IsArm64 ? 152 : 123, 0, 0, 0);
            _ = syscall(IsArm64 ? SYS_setgroups_arm64 : SYS_setgroups_x64, count, (nint)before, 0);
        }
    }

    private static bool IsArm64 => RuntimeInformation.ProcessArchitecture == Architecture.Arm64;

    private static byte[] Bytes(string text) => Encoding.UTF8.GetBytes(text + '\0');
}
