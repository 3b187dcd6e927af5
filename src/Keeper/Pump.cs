using System.Runtime.InteropServices;
using CalmSentry.Contract.Keeper;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// Carries one stream of the program's output into its file. Nothing is dropped, unless it is set so (<see cref="Bound"/>): when the file takes no more (a full
/// disk), the bytes read are kept, the pipes are left unread, and the program waits as soon as they are full; once a second it is tried
/// again.
/// Output never takes a disk's last room: a reserve is left, so that the sentry can go on keeping its records there.
/// Texts to be hidden are replaced on the way; what may be the beginning of one is held back until more has come.
/// </summary>
internal sealed unsafe class Pump
{
    private const int Chunk = 65536,
        GapWords = 128;

    private readonly byte* buffer = (byte*)NativeMemory.Alloc(Chunk);
    private int pendingFrom,
        pendingTo,
        tailTo;
    private Sink sink = new();
    private OutputSource source;
    private byte[][] hidden = [];
    private Viewers? viewers;

    /// <summary>errno of the last write that failed, 0 while output flows.</summary>
    public int Stuck { get; private set; }

    /// <summary>Begins with a run.</summary>
    /// <param name="into">Where it goes; two streams may share it.</param>
    /// <param name="hide">Texts that are not to be in the file, each of at least four bytes and less than a quarter of
    /// the buffer.</param>
    /// <param name="seenBy">Whoever sees the terminal while it runs gets all of it, hidden texts replaced.</param>
    public void Begin(Sink into, OutputSource from, byte[][] hide, Viewers? seenBy = null)
    {
        Close();
        (sink, source, hidden, viewers) = (into, from, hide, seenBy);
    }

    public void Close()
    {
        pendingFrom = pendingTo = tailTo = Stuck = thinAbove = linesNow = 0;
        (isWithin, leavesOut, goesOn, lostAnew) = (false, false, false, false);
        (leftOut, lost) = (0, 0);
    }

    // What is left out

    private int thinAbove,
        linesNow;
    private long second,
        leftOut,
        lost;
    private bool isWithin,
        leavesOut,
        goesOn,
        lostAnew;

    /// <summary>What becomes of too much, from now on.</summary>
    /// <param name="thin">Lines a second that are kept; 0: all, and the program waits when it is faster than the disk.</param>
    /// <param name="goOn">The program does not wait for a full disk: what finds no room is lost.</param>
    public void Bound(int thin, bool goOn) => (thinAbove, goesOn) = (thin, goOn);

    /// <summary>What comes finds no room, and is lost; or it was so since <see cref="LossTold"/>, however short it was.</summary>
    public bool Loses => lost > 0 || lostAnew;

    /// <summary>That it loses was told to whoever is to know.</summary>
    public void LossTold() => lostAnew = false;

    /// <summary>Something is missing, and it is not said yet.</summary>
    public bool Owes => leftOut > 0 || lost > 0;

    /// <summary>Writes how much is missing here, in its place: behind what was kept of its second, before what comes next.</summary>
    public void SayMissing(long now, bool atLast)
    {
        if (leftOut > 0 && (atLast || now / 1000 != second) && Tell($"[calm: {leftOut} lines left out]\n"))
            leftOut = 0;
        // One gap ends when there is room for the words that say so and for what is read next: else there would be a gap for each line, or
        // two with nothing between them.
        if (
            lost > 0
            && (atLast || sink.HasRoom(Chunk + GapWords))
            && Tell($"[calm: {lost} bytes lost, the disk was full]\n")
        )
            lost = 0;
    }

    /// <summary>Says that bytes are not kept here, and why; false: that cannot be written now.</summary>
    public bool SayLeft(long bytes, string why) => pendingFrom == pendingTo && Tell($"[calm: {bytes} bytes {why}]\n");

    /// <summary>Writes a line of the sentry's own; false: that cannot be written now.</summary>
    public bool Tell(string text)
    {
        if (pendingFrom < pendingTo || !sink.Flush())
            return false;
        var bytes = System.Text.Encoding.ASCII.GetBytes(text);
        fixed (byte* first = bytes)
            return sink.Put(OutputSource.Sentry, first, bytes.Length) == bytes.Length;
    }

    /// <summary>Of the lines that begin in one second, so many; a line is left out as a whole.</summary>
    private void Thin(long now)
    {
        var (from, kept, tail) = (0, 0, tailTo - pendingTo);
        while (from < pendingTo)
        {
            if (!isWithin)
            {
                if (now / 1000 != second)
                    (second, linesNow) = (now / 1000, 0);
                leavesOut = linesNow >= thinAbove;
                leftOut += leavesOut ? 1 : 0;
                linesNow += leavesOut ? 0 : 1;
            }

            var rest = new Span<byte>(buffer + from, pendingTo - from);
            var end = rest.IndexOf((byte)'\n');
            var line = end < 0 ? rest : rest[..(end + 1)];
            isWithin = end < 0;
            if (!leavesOut)
            {
                line.CopyTo(new(buffer + kept, line.Length));
                kept += line.Length;
            }

            from += line.Length;
        }

        new Span<byte>(buffer + pendingTo, tail).CopyTo(new(buffer + kept, tail));
        (pendingTo, tailTo) = (kept, kept + tail);
    }

    /// <summary>Moves what is there. False when the pipe has ended.</summary>
    /// <param name="ends">Where nothing is left to read, nothing more will come.</param>
    /// <param name="most">Bytes that are read at most.</param>
    public bool Carry(int pipe, int rounds = 32, bool ends = true, long most = long.MaxValue)
    {
        while (rounds-- > 0 && Retry())
        {
            var now = Owes || thinAbove > 0 ? Environment.TickCount64 : 0;
            if (Owes)
                SayMissing(now, atLast: false);
            if (lost > 0 && !goesOn)
            {
                Stuck = ENOSPC; // set otherwise meanwhile: what is lost is said before what comes is read
                return true;
            }

            var tail = tailTo - pendingTo;
            if (tail > 0)
                new Span<byte>(buffer + pendingTo, tail).CopyTo(new Span<byte>(buffer, tail));
            (pendingFrom, pendingTo, tailTo) = (0, 0, tail);
            var wanted = (int)Math.Min(Chunk - tail, most);
            var got = wanted == 0 ? 0 : read(pipe, buffer + tail, wanted);
            most -= Math.Max(0, got);
            if (got == 0 && !ends)
            {
                tailTo = pendingTo + tail; // what may be the beginning of a hidden text goes on waiting
                return true;
            }

            if (got == 0)
            {
                LetGo();
                _ = Retry();
                return false;
            }

            if (got < 0)
                return Marshal.GetLastSystemError() is EAGAIN or EINTR;
            pendingTo = tailTo = tail + (int)got;
            if (hidden.Length > 0)
                Hide();
            viewers?.Take(buffer, pendingTo);
            if (thinAbove > 0)
                Thin(now);
            if (!Retry() || got < Chunk - tail)
                return true;
        }

        return true;
    }

    /// <summary>Bytes that were read and are not written.</summary>
    public int Held => tailTo - pendingFrom;

    /// <summary>Writes what is pending. True when nothing is left of it.</summary>
    public bool Retry()
    {
        while (pendingFrom < pendingTo)
        {
            // Behind a gap that is not said yet nothing is kept, or the gap would be said in the wrong place.
            if (lost == 0)
                pendingFrom += sink.Put(source, buffer + pendingFrom, pendingTo - pendingFrom);
            if (lost > 0 || (sink.Stuck == ENOSPC && goesOn))
            {
                lost += pendingTo - pendingFrom + sink.Abandon();
                pendingFrom = pendingTo;
                lostAnew = true;
                Stuck = 0;
                return true;
            }

            if ((Stuck = sink.Stuck) != 0)
                return false;
        }

        Stuck = sink.Flush() ? 0 : sink.Stuck;
        return Stuck == 0;
    }

    /// <summary>Last words of a run: whatever the pipe still holds. Returns the bytes that found no room.</summary>
    public long Drain(int pipe)
    {
        if (pipe < 0)
            return 0;
        _ = Retry(); // there may be room since the last try
        while (Stuck == 0 && Carry(pipe, 1))
            if (!More(pipe))
                break;
        if (Stuck == 0)
        {
            SayMissing(0, atLast: true);
            LetGo();
            if (Retry())
                return lost;
        }

        long unwritten = tailTo - pendingFrom + sink.Abandon();
        pendingFrom = pendingTo = tailTo = 0;
        nint got;
        while ((got = read(pipe, buffer, Chunk)) > 0)
            unwritten += got;
        return unwritten;
    }

    /// <summary>
    /// Replaces each hidden text by four asterisks, and holds back an end that may be the beginning of one.
    /// </summary>
    private void Hide()
    {
        var content = new Span<byte>(buffer, pendingTo);
        for (var at = 0; ; )
        {
            int first = -1,
                length = 0;
            foreach (var text in hidden)
            {
                var found = content[at..].IndexOf(text);
                if (found >= 0 && (first < 0 || found < first || (found == first && text.Length > length)))
                    (first, length) = (found, text.Length);
            }

            if (first < 0)
                break;
            first += at;
            "****"u8.CopyTo(content[first..]);
            content[(first + length)..].CopyTo(content[(first + 4)..]);
            content = content[..^(length - 4)];
            at = first + 4;
        }

        var held = 0;
        foreach (var text in hidden)
            for (var i = Math.Min(text.Length - 1, content.Length); i > held; i--)
                if (content.EndsWith(text.AsSpan(0, i)))
                {
                    held = i;
                    break;
                }

        (pendingTo, tailTo) = (content.Length - held, content.Length);
    }

    /// <summary>Nothing more comes: what was held back was no beginning.</summary>
    private void LetGo()
    {
        viewers?.Take(buffer + pendingTo, tailTo - pendingTo);
        pendingTo = tailTo;
    }

    private static bool More(int pipe)
    {
        var ready = new PollFd { Fd = pipe, Events = POLLIN };
        return poll(&ready, 1, 0) > 0;
    }
}
