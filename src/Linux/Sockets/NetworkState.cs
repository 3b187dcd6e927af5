using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;

namespace CalmSentry.Linux.Sockets;

/// <summary>
/// Whether this host has a network, by its interfaces and routing tables (proc(5), net/route and net/ipv6_route).
/// </summary>
public static class NetworkState
{
    /// <summary>
    /// The first TCP port that any account may open (ip(7), ip_unprivileged_port_start); 1024 where the host does not say.
    /// </summary>
    public static int FirstFreePort =>
        int.TryParse(
            Foreign.Held.Text(Foreign.Ground.Settings, "/proc/sys/net/ipv4/ip_unprivileged_port_start", 16),
            out var port
        )
            ? port
            : 1024;

    /// <summary>What is missing for the network to be up, as a clause; null: it is up.</summary>
    /// <param name="name">An interface that must be up with an address; null: any but loopback, and a default
    /// route.</param>
    public static string? Missing(string? name)
    {
        var interfaces = NetworkInterface.GetAllNetworkInterfaces();
        if (name is null)
        {
            if (!interfaces.Any(one => one.NetworkInterfaceType != NetworkInterfaceType.Loopback && HasAddress(one)))
                return "this host has no address but loopback's";
            return HasDefaultRoute() ? null : "this host has no default route";
        }

        if (interfaces.FirstOrDefault(one => one.Name == name) is not { } wanted)
            return $"this host has no interface {name}";
        if (wanted.OperationalStatus is OperationalStatus.Down or OperationalStatus.LowerLayerDown)
            return $"{name} is down";
        return HasAddress(wanted) ? null : $"{name} has no address";
    }

    private static bool HasAddress(NetworkInterface one) =>
        one.GetIPProperties()
            .UnicastAddresses.Any(address =>
                !IPAddress.IsLoopback(address.Address)
                && !(address.Address.AddressFamily == AddressFamily.InterNetworkV6 && address.Address.IsIPv6LinkLocal)
            );

    private static bool HasDefaultRoute() =>
        Lines("/proc/net/route").Skip(1).Any(part => part is [_, "00000000", _, _, _, _, _, "00000000", ..])
        || Lines("/proc/net/ipv6_route")
            .Any(part => part.Length == 10 && part[0].All(c => c == '0') && part[1] == "00" && part[9] != "lo");

    private static IEnumerable<string[]> Lines(string file) =>
        File.Exists(file)
            ? File.ReadLines(file).Select(line => line.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries))
            : [];
}
