using System.Buffers.Binary;
using System.Runtime.InteropServices;
using CalmSentry.Contract.Keeper;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// Those who see the terminal of a program while it runs. What it wrote last is kept once, in a ring; each viewer has a place in it,
/// and gets what follows as fast as it reads. One that is so slow that the ring has gone over its place is told how much it
/// missed, and goes on with all that is kept. So nobody holds up the program, its output or another viewer, and all of it takes
/// the same room however many there are.
/// </summary>
internal sealed unsafe class Viewers
{
    private const int Kept = 1 << 18,
        MostKeys = 1 << 16;

    private sealed class Viewer(int line)
    {
        public readonly int Line = line;
        public readonly byte[] In = new byte[Message.HeadLength + ViewerForm.Longest],
            Out = new byte[Message.HeadLength + ViewerForm.Longest];
        public int InTo,
            OutFrom,
            OutTo;

        /// <summary>What it gets next; below 0: it has not joined.</summary>
        public long Place = -1;
        public bool Resized;
    }

    private byte* ring;
    private readonly ScreenModes modes = new();
    private readonly Unseen unseen;
    private readonly List<Viewer> viewers = [];
    private byte[] keys = [];
    private int listener = -1,
        terminal = -1,
        keysTo;
    private long end;
    private TerminalSize size;

    private bool isOpen;

    public Viewers() => unseen = new(Type);

    private long Begin => Math.Max(0, end - Kept);

    /// <summary>Begins with a run at a terminal for people.</summary>
    public void Open(int master, TerminalSize begins)
    {
        if (ring is null)
        {
            ring = (byte*)NativeMemory.Alloc(Kept);
            keys = new byte[MostKeys];
        }

        (terminal, size, end, keysTo, isOpen) = (master, begins, 0, 0, true);
        modes.Clear();
        unseen.Seen();
        listener = Records.Listen(ViewerForm.Socket);
    }

    /// <summary>The run is over: all are given what is left, as far as they take it at once, and are let go.</summary>
    public void Close()
    {
        var waits = 20; // for all of them: the run's end is waited for
        foreach (var one in viewers)
        {
            while (Give(one) && (one.OutFrom < one.OutTo || one.Place < end) && one.Place >= 0 && waits-- > 0)
            {
                var room = new PollFd { Fd = one.Line, Events = POLLOUT };
                _ = poll(&room, 1, 10);
            }

            _ = close(one.Line);
        }

        viewers.Clear();
        if (listener >= 0)
            _ = close(listener);
        if (isOpen)
            Records.Remove(ViewerForm.Socket);
        (listener, isOpen) = (-1, false);
        TerminalGone();
    }

    /// <summary>Its socket was wiped.</summary>
    public void ListenAgain()
    {
        if (!isOpen)
            return;
        _ = close(listener);
        listener = Records.Listen(ViewerForm.Socket);
    }

    /// <summary>Nobody is at its other end any more, and it is closed.</summary>
    public void TerminalGone() => (terminal, keysTo) = (-1, 0);

    /// <summary>What the program wrote.</summary>
    public void Take(byte* bytes, int length)
    {
        if (!isOpen)
            return;
        if (viewers.Count == 0)
            unseen.Read(new(bytes, length));
        while (length > 0)
        {
            var at = (int)(end % Kept);
            var some = Math.Min(length, Math.Min(Kept - at, ViewerForm.Longest));
            if (end >= Kept)
                modes.Read(new(ring + at, some)); // the oldest goes
            Buffer.MemoryCopy(bytes, ring + at, some, some);
            bytes += some;
            length -= some;
            end += some;
            for (var i = viewers.Count - 1; i >= 0; i--)
                if (!Give(viewers[i]))
                    Drop(i);
        }
    }

    // The keeper's loop

    /// <summary>Descriptors to wait for: the listener, the terminal where keys wait, and a line each.</summary>
    /// <returns>How many there are.</returns>
    public int Watch(PollFd* into)
    {
        if (!isOpen)
            return 0;
        into[0] = new() { Fd = viewers.Count < ViewerForm.MostViewers ? listener : -1, Events = POLLIN };
        into[1] = new() { Fd = keysTo > 0 ? terminal : -1, Events = POLLOUT };
        for (var i = 0; i < viewers.Count; i++)
            into[i + 2] = new()
            {
                Fd = viewers[i].Line,
                // Whoever types more than the program reads waits for it.
                Events = (short)((keysTo == 0 ? POLLIN : 0) | (viewers[i].OutFrom < viewers[i].OutTo ? POLLOUT : 0)),
            };
        return viewers.Count + 2;
    }

    public const int MostWatched = ViewerForm.MostViewers + 2;

    public void Handle(PollFd* seen, int count)
    {
        if (count == 0 || !isOpen)
            return;
        for (var i = Math.Min(count - 2, viewers.Count) - 1; i >= 0; i--)
        {
            var what = seen[i + 2].Revents;
            if (what == 0)
                continue;
            if (((what & (POLLIN | POLLHUP)) != 0 && !Hear(viewers[i])) || ((what & POLLOUT) != 0 && !Give(viewers[i])))
                Drop(i);
        }

        for (var i = viewers.Count - 1; i >= 0; i--)
            if (viewers[i].Resized && !Give(viewers[i]))
                Drop(i);
        if (seen[1].Revents != 0)
            TypeOn();
        if (seen[0].Revents != 0 && accept4(listener, null, null, O_CLOEXEC | O_NONBLOCK) is >= 0 and var line)
        {
            viewers.Add(new(line));
            unseen.Seen();
        }
    }

    private void Drop(int which)
    {
        _ = close(viewers[which].Line);
        viewers.RemoveAt(which);
    }

    // What it says

    private bool Hear(Viewer one)
    {
        nint got;
        fixed (byte* room = &one.In[one.InTo])
            got = read(one.Line, room, one.In.Length - one.InTo);
        if (got <= 0)
            return got < 0 && Marshal.GetLastSystemError() is EAGAIN or EINTR;
        one.InTo += (int)got;
        while (one.InTo >= Message.HeadLength)
        {
            var length = BinaryPrimitives.ReadInt32LittleEndian(one.In);
            if (length is < 0 or > ViewerForm.Longest)
                return false; // no server of ours speaks like that
            var whole = Message.HeadLength + length;
            if (one.InTo < whole)
                return true;
            if (!Obey(one, (ViewerWord)one.In[4], one.In.AsSpan(Message.HeadLength, length)))
                return false;
            Buffer.BlockCopy(one.In, whole, one.In, 0, one.InTo - whole);
            one.InTo -= whole;
        }

        return true;
    }

    private bool Obey(Viewer one, ViewerWord word, ReadOnlySpan<byte> body)
    {
        switch (word)
        {
            case ViewerWord.Join when body.Length == 8 && one.Place < 0:
                var from = BinaryPrimitives.ReadInt64LittleEndian(body);
                var isKept = from >= Begin && from <= end;
                one.Place = isKept ? from : Begin;
                SayBegins(one, isKept || from < 0 || from > end ? 0 : Begin - from, isKept);
                return Give(one);
            case ViewerWord.Keys when one.Place >= 0:
                Type(body);
                return true;
            case ViewerWord.Size
                when body.Length == TerminalSize.Length && TerminalSize.Read(body) is { IsAllowed: true } asked:
                if (asked != size && Terminal.Resize(terminal, asked))
                {
                    size = asked;
                    foreach (var other in viewers)
                        other.Resized = other.Place >= 0;
                }

                return true;
            default:
                return false;
        }
    }

    private void Type(ReadOnlySpan<byte> typed)
    {
        var some = terminal < 0 ? 0 : Math.Min(typed.Length, MostKeys - keysTo);
        typed[..some].CopyTo(keys.AsSpan(keysTo));
        keysTo += some;
        TypeOn();
    }

    private void TypeOn()
    {
        if (keysTo == 0)
            return;
        nint put;
        fixed (byte* first = keys)
            put = write(terminal, first, keysTo);
        if (put <= 0)
        {
            if (Marshal.GetLastSystemError() is not (EAGAIN or EINTR))
                keysTo = 0; // nobody is at the other end
            return;
        }

        Buffer.BlockCopy(keys, (int)put, keys, 0, keysTo - (int)put);
        keysTo -= (int)put;
    }

    // What it gets

    /// <summary>Gives it what it takes now of what is there; false: it is gone.</summary>
    private bool Give(Viewer one)
    {
        while (true)
        {
            if (one.OutFrom < one.OutTo)
            {
                nint put;
                fixed (byte* first = &one.Out[one.OutFrom])
                    put = send(one.Line, first, one.OutTo - one.OutFrom, MSG_NOSIGNAL);
                if (put <= 0)
                    return put < 0 && Marshal.GetLastSystemError() is EAGAIN or EINTR;
                one.OutFrom += (int)put;
                continue;
            }

            if (one.Place < 0)
                return true;
            if (one.Resized)
            {
                one.Resized = false;
                size.Write(one.Out.AsSpan(Message.HeadLength));
                Head(one, ViewerWord.Resized, TerminalSize.Length);
            }
            else if (one.Place < Begin)
            {
                var left = Begin - one.Place;
                one.Place = Begin;
                SayBegins(one, left, isGoingOn: false);
            }
            else if (one.Place < end)
            {
                var at = (int)(one.Place % Kept);
                var some = (int)Math.Min(Math.Min(end - one.Place, Kept - at), ViewerForm.Longest);
                new ReadOnlySpan<byte>(ring + at, some).CopyTo(one.Out.AsSpan(Message.HeadLength));
                one.Place += some;
                Head(one, ViewerWord.Wrote, some);
            }
            else
                return true;
        }
    }

    private void SayBegins(Viewer one, long leftOut, bool isGoingOn)
    {
        var body = one.Out.AsSpan(Message.HeadLength);
        new ViewBegins(one.Place, end, leftOut, size).Write(body);
        byte[] state = isGoingOn ? [] : modes.Write(); // whoever goes on where it was knows it

        state.CopyTo(body[ViewBegins.Length..]);
        Head(one, ViewerWord.Begins, ViewBegins.Length + state.Length);
    }

    private static void Head(Viewer one, ViewerWord word, int length)
    {
        BinaryPrimitives.WriteInt32LittleEndian(one.Out, length);
        one.Out[4] = (byte)word;
        (one.OutFrom, one.OutTo) = (0, Message.HeadLength + length);
    }
}
