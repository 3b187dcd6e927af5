using System.Globalization;
using System.Net;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Linux.Sockets;

/// <summary>A socket that waits for clients, by the kernel's tables (proc(5), net/tcp and net/udp).</summary>
/// <param name="Protocol">tcp or udp.</param>
public sealed record Listening(string Protocol, IPAddress Address, int Port, long Inode, uint Uid)
{
    /// <summary>Every TCP socket that listens and every UDP socket that is bound without a peer.</summary>
    public static IReadOnlyList<Listening> All()
    {
        var found = new List<Listening>();
        foreach (
            var (file, protocol, state) in new[]
            {
                ("tcp", "tcp", "0A"),
                ("tcp6", "tcp", "0A"),
                ("udp", "udp", "07"),
                ("udp6", "udp", "07"),
            }
        )
        {
            if (!File.Exists($"/proc/net/{file}"))
                continue;
            foreach (var line in File.ReadLines($"/proc/net/{file}").Skip(1))
            {
                var part = line.Split(' ', StringSplitOptions.RemoveEmptyEntries);
                if (part.Length < 10 || part[3] != state)
                    continue;
                if (Read(protocol, part) is { } one)
                    found.Add(one);
            }
        }

        return found;
    }

    /// <summary>One line of a table, taken apart at its spaces; null when it is none.</summary>
    internal static Listening? Read(string protocol, string[] part)
    {
        if (
            part.Length < 10
            || part[1].Split(':') is not [{ Length: 8 or 32 } address, var port]
            || !address.All(char.IsAsciiHexDigit)
        )
            return null;
        return
            int.TryParse(port, NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var number)
            && long.TryParse(part[9], NumberStyles.None, CultureInfo.InvariantCulture, out var inode)
            && uint.TryParse(part[7], NumberStyles.None, CultureInfo.InvariantCulture, out var uid)
            ? new(protocol, AddressOf(address), number, inode, uid)
            : null;
    }

    /// <summary>Those of them that one of the processes holds open, each with that process.</summary>
    public static IReadOnlyList<(Listening Socket, int Pid)> Of(IEnumerable<int> pids)
    {
        var all = All().GroupBy(one => one.Inode).ToDictionary(same => same.Key, same => same.First());
        return
        [
            .. pids.SelectMany(pid =>
                    ProcessFacts.Sockets(pid).Where(all.ContainsKey).Select(inode => (all[inode], pid))
                )
                .DistinctBy(pair => pair.Item1.Inode),
        ];
    }

    /// <summary>A process that holds the socket open, or null when none can be seen.</summary>
    public int? Holder() =>
        ProcessFacts.All().Cast<int?>().FirstOrDefault(pid => ProcessFacts.Sockets(pid!.Value).Contains(Inode));

    public override string ToString() => $"{Protocol} {new IPEndPoint(Address, Port)}";

    /// <summary>The kernel prints each 32-bit word in host byte order.</summary>
    private static IPAddress AddressOf(string hex)
    {
        var bytes = Convert.FromHexString(hex);
        for (var i = 0; i + 4 <= bytes.Length; i += 4)
            Array.Reverse(bytes, i, 4);
        return new IPAddress(bytes);
    }
}
