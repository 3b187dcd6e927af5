using System.Buffers.Binary;
using System.Globalization;
using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;

namespace CalmSentry.Linux.Processes;

/// <summary>
/// Whether a process waits for what somebody types at its terminal: one of its threads is in read(2), poll(2), select(2) or
/// epoll_wait(2) for it, as the kernel says (proc(5): task/TID/syscall, fd, fdinfo, mem).
/// </summary>
public static class TerminalWait
{
    /// <summary>So many threads of a process, and descriptors of a call, are looked at.</summary>
    private const int MostThreads = 256,
        MostDescriptors = 1024;

    private enum Call
    {
        Other,
        Read,
        Poll,
        Select,
        Epoll,
    }

    /// <summary>The numbers of these calls (asm/unistd.h).</summary>
    private static Call CallOf(long number) =>
        RuntimeInformation.ProcessArchitecture == Architecture.Arm64
            ? number switch
            {
                63 or 65 => Call.Read,
                73 => Call.Poll,
                72 => Call.Select,
                22 or 441 => Call.Epoll,
                _ => Call.Other,
            }
            : number switch
            {
                0 or 19 => Call.Read,
                7 or 271 => Call.Poll,
                23 or 270 => Call.Select,
                232 or 281 or 441 => Call.Epoll,
                _ => Call.Other,
            };

    /// <summary>The terminal that a process holds the other side of, as <c>pts/3</c> (pts(4); fdinfo, tty-index); null: it holds none.</summary>
    public static string? HeldBy(int pid)
    {
        try
        {
            foreach (var entry in Directory.EnumerateFileSystemEntries($"/proc/{pid}/fd"))
                if (
                    int.Parse(Path.GetFileName(entry), NumberStyles.None, CultureInfo.InvariantCulture)
                        is var descriptor
                    && ProcessFacts.OpenFile(pid, descriptor) is "/dev/ptmx" or "/dev/pts/ptmx"
                    && File.ReadLines($"/proc/{pid}/fdinfo/{descriptor}")
                        .FirstOrDefault(line => line.StartsWith("tty-index:", StringComparison.Ordinal))
                        is { } line
                )
                    return $"pts/{line[10..].Trim()}";
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // It is gone, or not ours to see.
        }

        return null;
    }

    /// <param name="terminal">The terminal, as <c>pts/3</c>.</param>
    /// <returns>False also where the kernel does not say.</returns>
    public static bool Is(int pid, string terminal)
    {
        try
        {
            return Directory
                .EnumerateDirectories($"/proc/{pid}/task")
                .Take(MostThreads)
                .Any(thread => Waits(pid, terminal, thread));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return false; // it has ended, or is another account's
        }
    }

    private static bool Waits(int pid, string terminal, string thread)
    {
        if (Arguments($"{thread}/syscall") is not [var number, var first, var second, ..])
            return false;
        switch (CallOf(number))
        {
            case Call.Read:
                return IsTerminal(pid, first, terminal);
            case Call.Poll:
                return Polled(pid, first, second).Any(one => IsTerminal(pid, one, terminal));
            case Call.Select:
                return Selected(pid, first, second).Any(one => IsTerminal(pid, one, terminal));
            case Call.Epoll:
                return Watched(pid, first).Any(one => IsTerminal(pid, one, terminal));
            default:
                return false;
        }
    }

    /// <summary>The call's number, and what it was given; none: it is in no call.</summary>
    private static long[] Arguments(string file)
    {
        var words = Encoding.ASCII.GetString(File.ReadAllBytes(file)).Split(' ', '\n');
        if (
            words.Length < 4
            || !long.TryParse(words[0], NumberStyles.None, CultureInfo.InvariantCulture, out var number)
        )
            return [];
        return
        [
            number,
            .. words[1..3]
                .Select(word =>
                    ulong.TryParse(
                        word.AsSpan(Math.Min(2, word.Length)),
                        NumberStyles.AllowHexSpecifier,
                        CultureInfo.InvariantCulture,
                        out var value
                    )
                        ? unchecked((long)value)
                        : -1
                ),
        ];
    }

    private static bool IsTerminal(int pid, long descriptor, string terminal) =>
        descriptor is >= 0 and <= int.MaxValue
        && ProcessFacts.OpenFile(pid, (int)descriptor) is { } file
        && (file == $"/dev/{terminal}" || (file == "/dev/tty" && ProcessFacts.Terminal(pid) == terminal));

    /// <summary>Descriptors that poll(2) waits to read from.</summary>
    private static IEnumerable<long> Polled(int pid, long address, long count)
    {
        const int length = 8;
        var list = Memory(pid, address, (int)Math.Clamp(count, 0, MostDescriptors) * length);
        for (var at = 0; at + length <= list.Length; at += length)
            if ((BinaryPrimitives.ReadInt16LittleEndian(list.AsSpan(at + 4)) & 1) != 0) // POLLIN
                yield return BinaryPrimitives.ReadInt32LittleEndian(list.AsSpan(at));
    }

    /// <summary>Descriptors that select(2) waits to read from.</summary>
    private static IEnumerable<long> Selected(int pid, long highest, long address)
    {
        var most = (int)Math.Clamp(highest, 0, MostDescriptors);
        var set = address == 0 ? [] : Memory(pid, address, (most + 7) / 8);
        for (var one = 0; one < Math.Min(most, set.Length * 8); one++)
            if ((set[one / 8] & (1 << (one % 8))) != 0)
                yield return one;
    }

    /// <summary>Descriptors that an epoll(7) one waits to read from.</summary>
    private static IEnumerable<long> Watched(int pid, long descriptor)
    {
        if (descriptor is < 0 or > int.MaxValue)
            yield break;
        using var lines = new StreamReader($"/proc/{pid}/fdinfo/{descriptor}");
        for (var i = 0; i < MostDescriptors && lines.ReadLine() is { } line; i++)
        {
            // tfd:        0 events:       19 data: …
            var words = line.Split(' ', StringSplitOptions.RemoveEmptyEntries);
            if (
                words is ["tfd:", var target, "events:", var events, ..]
                && long.TryParse(target, NumberStyles.None, CultureInfo.InvariantCulture, out var one)
                && long.TryParse(events, NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var bits)
                && (bits & 1) != 0 // EPOLLIN
            )
                yield return one;
        }
    }

    /// <summary>Bytes of its memory; fewer where they are not there.</summary>
    private static byte[] Memory(int pid, long address, int length)
    {
        if (address <= 0 || length == 0)
            return [];
        using SafeFileHandle memory = File.OpenHandle($"/proc/{pid}/mem");
        var bytes = new byte[length];
        return RandomAccess.Read(memory, bytes, address) is var got && got < length ? bytes[..got] : bytes;
    }
}
