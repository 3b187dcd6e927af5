using System.Globalization;
using System.Numerics;
using System.Runtime.InteropServices;
using System.Runtime.Intrinsics;
using System.Text;
using CalmSentry.Contract.Keeper;
using CalmSentry.Linux.Files;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>What becomes of a file when a run begins.</summary>
internal enum AtStart
{
    Append,
    Fresh,
    TurnOver,
}

/// <summary>
/// The file that output goes to, and the times of what is in it (<see cref="OutputForm"/>). It is turned over by size at the
/// end of a line, or when it is told to. Whatever fails while it is turned over, the bytes go on into the file that is there.
/// A file that somebody removed, moved or emptied meanwhile is noticed: what comes goes into a new one.
/// </summary>
/// <param name="roomLeft">Bytes that its disk has left for it; null: its disk is asked.</param>
internal sealed unsafe class Sink(Func<long>? roomLeft = null)
{
    private const int Staged = 1 << 18,
        Stamp = OutputForm.StampLength;

    private readonly byte* stage = (byte*)NativeMemory.Alloc(Staged);
    private int stageFrom,
        stageTo;
    private string path = "",
        folder = "";
    private int file = -1,
        times = -1;
    private long number,
        size,
        room,
        turnAt,
        turnAgainAt,
        looked;
    private SegmentHead head;
    private OutputMark last;
    private bool outputOpen,
        errorOpen;

    /// <summary>errno of the last write that failed, 0 while output flows.</summary>
    public int Stuck { get; private set; }

    /// <summary>A segment was turned over since this was last asked.</summary>
    public bool TurnedOver { get; set; }

    /// <summary>A file without times, for a rehearsal.</summary>
    private bool Plain => turnAt == 0;

    /// <summary>So many bytes of a file without times are kept, and what comes after them is not; 0: all.</summary>
    public long Most { get; set; }

    /// <summary>The place behind the last byte that was written.</summary>
    public long End => head.Start + size;

    // Opening

    /// <summary>Takes the file for a run. False, with errno set, when there is no room on its disk.</summary>
    /// <param name="at">Bytes at which it is turned over; 0: a file without times, never turned over.</param>
    public bool Open(string file, long at, bool stamped, AtStart start)
    {
        Close();
        (path, folder, turnAt, turnAgainAt) = (file, Path.GetDirectoryName(file)!, at, 0);
        if (!OpenFile(O_CREAT))
            return false;
        // A file can be made on a full disk but not written: find that out before the program runs.
        if (fallocate(this.file, FALLOC_FL_KEEP_SIZE, size, 65536) < 0 && Marshal.GetLastSystemError() == ENOSPC)
        {
            Close();
            Marshal.SetLastSystemError(ENOSPC);
            return false;
        }

        if (Plain)
            return true;
        if (!FindSegment(stamped))
        {
            var errno = Marshal.GetLastSystemError();
            Close();
            Marshal.SetLastSystemError(errno);
            return false;
        }

        (outputOpen, errorOpen) = (false, false);
        if (start == AtStart.Fresh && size > 0)
            Empty(stamped);
        else if (size > 0 && (start == AtStart.TurnOver || head.Stamped != stamped))
            _ = Turn(stamped);
        Mark(OutputSource.Begins);
        return true;
    }

    public void Close()
    {
        if (file >= 0)
            _ = close(file);
        if (times >= 0)
            _ = close(times);
        file = times = -1;
        stageFrom = stageTo = Stuck = 0;
        room = size = looked = 0;
        last = default;
    }

    private bool OpenFile(int flags)
    {
        fixed (byte* name = Bytes(path))
            file = open(name, O_WRONLY | O_APPEND | O_CLOEXEC | flags, 0x1A0); // 0640
        if (file < 0)
            return false;
        size = lseek(file, 0, 2);
        return true;
    }

    /// <summary>
    /// Which segment the file is: what a power cut, a kill between two steps of turning over, or somebody's hands may have left
    /// is brought into order.
    /// </summary>
    private bool FindSegment(bool stamped)
    {
        fixed (byte* directory = Bytes(Path.Combine(folder, OutputForm.Times)))
            _ = mkdir(directory, 0x1E8); // 0750
        if (Numbers() is not { } known)
            return false;
        number = known.Count == 0 ? 0 : known[^1];
        stamped &= size == 0; // what is there without stamps stays without
        if (number == 0)
            return Begin(1, new(0, stamped, false, false));
        if (ReadTimes() is not { } found)
        {
            // Its head was lost: where the one before ended is where it begins.
            number = known.Count > 1 ? known[^2] : 0;
            return Begin(known[^1], new(EndOf(ReadTimes()), stamped, false, false));
        }

        head = found;
        if (SizeOf(OutputForm.TurnedOver(number)) >= 0 || SizeOf(Packed(number)) >= 0)
            // Killed between the turning over and the making of the next one's times.
            return Begin(number + 1, new(EndOf(found), stamped, false, false));
        if (size < last.Offset)
            // Somebody emptied or removed it.
            return Begin(number + 1, new(EndOf(found), stamped, false, false));
        return OpenTimes(O_APPEND);
    }

    /// <summary>
    /// Where the segment of <see cref="number"/> ended. Where its bytes are gone nobody knows how many there were beyond the
    /// last mark: a place that is surely beyond.
    /// </summary>
    private long EndOf(SegmentHead? segment)
    {
        var start = segment?.Start ?? 0;
        var length = SizeOf(OutputForm.TurnedOver(number));
        return start + (length >= 0 ? length : last.Offset + OutputForm.LongestLine);
    }

    private static string Packed(long number) => OutputForm.TurnedOver(number) + OutputForm.Packed;

    /// <returns>Null, with errno set: they cannot be listed.</returns>
    private List<long>? Numbers()
    {
        var numbers = new List<long>();
        try
        {
            foreach (var name in Directory.EnumerateFiles(Path.Combine(folder, OutputForm.Times)))
                if (
                    long.TryParse(
                        Path.GetFileName(name).Split('.')[0],
                        NumberStyles.None,
                        CultureInfo.InvariantCulture,
                        out var one
                    )
                )
                    numbers.Add(one);
        }
        catch (DirectoryNotFoundException)
        {
            Marshal.SetLastSystemError(ENOSPC); // it could not be made just now
            return null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            Marshal.SetLastSystemError(EMFILE);
            return null;
        }

        numbers.Sort();
        return numbers;
    }

    /// <summary>Head and last mark of the times of <see cref="number"/>; null: there is no head.</summary>
    private SegmentHead? ReadTimes()
    {
        last = default;
        int from;
        fixed (byte* name = Bytes(Path.Combine(folder, OutputForm.TimesOf(number))))
            from = open(name, O_RDONLY | O_CLOEXEC, 0);
        if (from < 0)
            return null;
        var bytes = stackalloc byte[SegmentHead.Length];
        var found =
            read(from, bytes, SegmentHead.Length) == SegmentHead.Length
                ? SegmentHead.Read(new(bytes, SegmentHead.Length))
                : null;
        var marks = (lseek(from, 0, 2) - SegmentHead.Length) / OutputMark.Length;
        if (found is not null && marks > 0)
        {
            _ = lseek(from, SegmentHead.Length + ((marks - 1) * OutputMark.Length), 0);
            if (read(from, bytes, OutputMark.Length) == OutputMark.Length)
                last = OutputMark.Read(new(bytes, OutputMark.Length));
        }

        _ = close(from);
        return found;
    }

    /// <summary>Makes the times of a segment; the file that is open holds its bytes from now on.</summary>
    private bool Begin(long next, SegmentHead begins)
    {
        var before = times;
        var was = number;
        number = next;
        if (!OpenTimes(O_CREAT | O_TRUNC))
        {
            number = was;
            times = before;
            return false;
        }

        var bytes = stackalloc byte[SegmentHead.Length];
        begins.Write(new(bytes, SegmentHead.Length));
        if (write(times, bytes, SegmentHead.Length) != SegmentHead.Length)
        {
            var errno = Marshal.GetLastSystemError();
            _ = close(times);
            Remove(OutputForm.TimesOf(next));
            number = was;
            times = before;
            Marshal.SetLastSystemError(errno == 0 ? ENOSPC : errno);
            return false;
        }

        if (before >= 0)
            _ = close(before);
        head = begins;
        last = default;
        return true;
    }

    private bool OpenTimes(int flags)
    {
        fixed (byte* name = Bytes(Path.Combine(folder, OutputForm.TimesOf(number))))
            times = open(name, O_WRONLY | O_APPEND | O_CLOEXEC | flags, 0x1A0);
        if (times < 0)
            return false;
        // A mark that was cut off: the next must stand where it can be found.
        var over = (lseek(times, 0, 2) - SegmentHead.Length) % OutputMark.Length;
        if (over > 0)
            _ = ftruncate(times, lseek(times, 0, 2) - over);
        return true;
    }

    // Turning over

    /// <summary>From now on by other words; what is there stays as it is.</summary>
    public void Set(long at, bool stamped)
    {
        if (Plain || file < 0)
            return;
        turnAt = at;
        turnAgainAt = 0;
        if (head.Stamped != stamped && Flush())
            _ = Turn(stamped);
    }

    /// <summary>What is there is turned over now, if there is anything, and no line is cut by it.</summary>
    public void TurnNow()
    {
        if (!Plain && file >= 0 && size > 0 && Flush())
            _ = Turn(head.Stamped);
    }

    private bool Turn(bool stamped)
    {
        var ends = number;
        turnAgainAt = size + (1 << 20);
        if (!Rename(OutputForm.Current, OutputForm.TurnedOver(ends)))
            return false;
        var (timesBefore, headBefore, lastBefore, before) = (times, head, last, file);
        times = -1;
        if (Begin(ends + 1, new(head.Start + size, stamped, outputOpen, errorOpen)))
        {
            if (OpenFile(O_CREAT | O_EXCL))
            {
                _ = close(before);
                _ = close(timesBefore);
                TurnedOver = true;
                turnAgainAt = room = 0;
                return true;
            }

            file = before;
            _ = close(times);
            Remove(OutputForm.TimesOf(ends + 1));
        }

        (number, times, head, last) = (ends, timesBefore, headBefore, lastBefore);
        Rename(OutputForm.TurnedOver(ends), OutputForm.Current);
        return false;
    }

    /// <summary>Another file in its place: whoever reads the one before reads it to its end.</summary>
    private void Empty(bool stamped)
    {
        const string beside = OutputForm.Current + "~";
        var (before, ended) = (file, head.Start + size);
        fixed (byte* name = Bytes(Path.Combine(folder, beside)))
            file = open(name, O_WRONLY | O_APPEND | O_CLOEXEC | O_CREAT | O_TRUNC, 0x1A0);
        if (file < 0 || !Rename(beside, OutputForm.Current))
        {
            if (file >= 0)
                _ = close(file);
            file = before;
            return;
        }

        _ = close(before);
        size = room = 0;
        _ = Begin(number + 1, new(ended, stamped, false, false));
        TurnedOver = true;
    }

    // Writing

    /// <summary>Takes bytes of one stream. Less than all of them: it is stuck, or a line ended at which it was turned over.</summary>
    /// <returns>How many were taken for good.</returns>
    public int Put(OutputSource source, byte* bytes, int length)
    {
        if (!Flush())
            return 0;
        if (Plain)
            return Most > 0 && size >= Most ? length : Write(bytes, length);

        if (size >= turnAt && size >= turnAgainAt)
        {
            var end = new Span<byte>(bytes, length).IndexOf((byte)'\n');
            if (IsOpen(source) && end >= 0)
                length = end + 1; // the rest of this line, and then
            else if (!IsOpen(source) || size >= turnAt + OutputForm.LongestLine)
                _ = Turn(head.Stamped);
        }

        if (!HasRoom(length))
        {
            Stuck = ENOSPC; // no mark either: those would take the last room, one a second
            return 0;
        }

        if (!Mark(source))
            return 0;
        if (head.Stamped && source != OutputSource.Sentry)
            return PutStamped(source, bytes, length);
        var put = Write(bytes, length);
        if (put > 0)
            SetOpen(source, bytes[put - 1] != '\n');
        return put;
    }

    /// <summary>Copies and looks for ends of lines in one pass: this is most of what a stamped line costs.</summary>
    private int PutStamped(OutputSource source, byte* bytes, int length)
    {
        const int step = 16;
        var end = Vector128.Create((byte)'\n');
        byte* from = bytes,
            last = bytes + length,
            to = stage,
            full = stage + Staged - Stamp - step; // room for a stamp and a step is left behind it
        var open = IsOpen(source);
        var each = StampOf(this.last.AtMs, source);
        while (from < last && to < full)
        {
            if (!open)
            {
                each.CopyTo(new(to, Stamp));
                to += Stamp;
                open = true;
            }

            if (last - from < step)
            {
                var one = *from++;
                *to++ = one;
                open = one != (byte)'\n';
                continue;
            }

            var some = Vector128.Load(from);
            some.Store(to);
            var ends = Vector128.Equals(some, end).ExtractMostSignificantBits();
            var many = ends == 0 ? step : BitOperations.TrailingZeroCount(ends) + 1;
            from += many;
            to += many;
            open = ends == 0;
        }

        SetOpen(source, open);
        (stageFrom, stageTo) = (0, (int)(to - stage));
        _ = Flush();
        return (int)(from - bytes);
    }

    private readonly byte[] stamp = new byte[Stamp];
    private (long AtMs, OutputSource Source) stampOf;

    /// <summary>Many lines have one time: its words are made once.</summary>
    private ReadOnlySpan<byte> StampOf(long atMs, OutputSource source)
    {
        if (stampOf != (atMs, source))
            WriteStamp(stamp, atMs, source);
        stampOf = (atMs, source);
        return stamp;
    }

    private static void WriteStamp(Span<byte> into, long atMs, OutputSource source)
    {
        var at = DateTimeOffset.FromUnixTimeMilliseconds(atMs).UtcDateTime;
        Two(into, 0, at.Year / 100);
        Two(into, 2, at.Year % 100);
        into[4] = (byte)'-';
        Two(into, 5, at.Month);
        into[7] = (byte)'-';
        Two(into, 8, at.Day);
        into[10] = (byte)'T';
        Two(into, 11, at.Hour);
        into[13] = (byte)':';
        Two(into, 14, at.Minute);
        into[16] = (byte)':';
        Two(into, 17, at.Second);
        into[19] = (byte)'.';
        into[20] = (byte)('0' + (at.Millisecond / 100));
        Two(into, 21, at.Millisecond % 100);
        into[23] = (byte)'Z';
        into[24] = (byte)' ';
        into[25] = source switch
        {
            OutputSource.Error => (byte)'e',
            OutputSource.Terminal => (byte)'t',
            _ => (byte)'o',
        };
        into[26] = (byte)' ';

        static void Two(Span<byte> into, int at, int number)
        {
            into[at] = (byte)('0' + (number / 10));
            into[at + 1] = (byte)('0' + (number % 10));
        }
    }

    private bool IsOpen(OutputSource source) => source == OutputSource.Error ? errorOpen : outputOpen;

    private void SetOpen(OutputSource source, bool open)
    {
        if (source == OutputSource.Error)
            errorOpen = open;
        else if (source != OutputSource.Sentry)
            outputOpen = open;
    }

    /// <summary>Writes what was staged. True when nothing is left of it.</summary>
    public bool Flush()
    {
        while (stageFrom < stageTo)
        {
            var put = Write(stage + stageFrom, stageTo - stageFrom);
            stageFrom += put;
            if (Stuck != 0)
                return false;
        }

        return true;
    }

    /// <summary>Gives up what was staged and found no room.</summary>
    /// <returns>How many bytes that were.</returns>
    public int Abandon()
    {
        var left = stageTo - stageFrom;
        stageFrom = stageTo = 0;
        return left;
    }

    private int Write(byte* bytes, int length)
    {
        var written = 0;
        while (written < length)
        {
            if (!HasRoom(length - written))
            {
                Stuck = ENOSPC;
                return written;
            }

            var put = write(file, bytes + written, length - written);
            if (put < 0)
            {
                var errno = Marshal.GetLastSystemError();
                if (errno == EINTR)
                    continue;
                Stuck = errno;
                return written;
            }

            written += (int)put;
            size += put;
            room -= put;
        }

        Stuck = 0;
        return written;
    }

    /// <summary>Notes when and by whom the bytes from here on came, unless the last mark says it already.</summary>
    private bool Mark(OutputSource source)
    {
        var now = DateTimeOffset.UtcNow.ToUnixTimeMilliseconds();
        if (source == last.Source && now >= last.AtMs && now - last.AtMs < OutputForm.Precision)
            return true;
        if (now - looked is < 0 or > 500)
            StillThere(now);
        var mark = new OutputMark(now, source, size);
        var bytes = stackalloc byte[OutputMark.Length];
        mark.Write(new(bytes, OutputMark.Length));
        var put = write(times, bytes, OutputMark.Length);
        if (put != OutputMark.Length)
        {
            Stuck = put < 0 ? Marshal.GetLastSystemError() : ENOSPC;
            if (put > 0)
                _ = ftruncate(times, lseek(times, 0, 2) - put);
            return false;
        }

        last = mark;
        return true;
    }

    /// <summary>Somebody may have emptied, moved or removed the file under our hands.</summary>
    private void StillThere(long now)
    {
        looked = now;
        if (FileFacts.Of(file) is not { } ours)
            return;
        if (FileFacts.Of(path, followsLinks: false)?.Id != ours.Id)
        {
            var (before, sizeBefore) = (file, size);
            if (!OpenFile(O_CREAT))
            {
                (file, size) = (before, sizeBefore);
                return;
            }

            _ = close(before);
            _ = Begin(number + 1, new(head.Start + sizeBefore, head.Stamped && size == 0, outputOpen, errorOpen));
        }
        else if (ours.Size < size)
        {
            var sizeBefore = size;
            size = ours.Size;
            _ = Begin(number + 1, new(head.Start + sizeBefore, head.Stamped && size == 0, outputOpen, errorOpen));
        }
    }

    // The file system

    private long SizeOf(string name) => FileFacts.Of(Path.Combine(folder, name), followsLinks: false)?.Size ?? -1;

    private bool Rename(string from, string to)
    {
        fixed (
            byte* before = Bytes(Path.Combine(folder, from)),
                after = Bytes(Path.Combine(folder, to))
        )
            return rename(before, after) == 0;
    }

    private void Remove(string name)
    {
        fixed (byte* gone = Bytes(Path.Combine(folder, name)))
            _ = unlink(gone);
    }

    /// <summary>So many bytes may be written.</summary>
    public bool HasRoom(int length) => room >= length || (room = Room()) >= length;

    /// <summary>
    /// How much may be written until room is looked for again: others write to the disk, too (fstatfs(2)).
    /// </summary>
    private long Room()
    {
        const long most = 1 << 20,
            largestReserve = 256 << 20;
        const int share = 20;
        if (roomLeft is not null)
            return roomLeft();
        var facts = stackalloc long[16];
        if (fstatfs(file, (byte*)facts) < 0)
            return most;
        var (block, all, available) = (facts[1], facts[2], facts[4]);
        if (all <= 0 || block <= 0)
            return most; // a file system that does not count
        return Math.Min(most, (available * block) - Math.Min(largestReserve, all / share * block));
    }

    private static byte[] Bytes(string text) => Encoding.UTF8.GetBytes(text + '\0');
}
