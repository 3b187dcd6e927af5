using System.Globalization;
using System.Text.RegularExpressions;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Core.Findings;

/// <summary>
/// TCP ports a definition seems to speak of, with where: nobody says so, but variables called *_PORT and arguments such
/// as -p do.
/// </summary>
public static partial class PortLooks
{
    public static IEnumerable<(int Port, string Where)> In(Definition definition)
    {
        var program = definition.Program;
        var found = new List<(int, string)>();
        // What is to prove that it serves is its own port, as long as it is one of this host.
        var proof = definition.Begin.Proof switch
        {
            TcpProof tcp => NetworkAddress.Read(tcp.Address),
            HttpProof http => (new Uri(http.Url).Host, new Uri(http.Url).Port),
            _ => null,
        };
        if (proof is { Host: "127.0.0.1" or "::1" or "[::1]" or "localhost" } own)
            found.Add((own.Port, "its proof of readiness"));
        foreach (var (name, value) in program.Environment)
            if (name.EndsWith("PORT", StringComparison.OrdinalIgnoreCase) && Port(value) is { } port)
                found.Add((port, $"the variable {name}"));
        for (var i = 0; i < program.Arguments.Length; i++)
        {
            var argument = program.Arguments[i];
            var equals = argument.IndexOf('=', StringComparison.Ordinal);
            if (equals > 0 && PortName().IsMatch(argument[..equals]) && Port(argument[(equals + 1)..]) is { } given)
                found.Add((given, $"the argument {argument[..equals]}"));
            else if (
                PortName().IsMatch(argument)
                && i + 1 < program.Arguments.Length
                && Port(program.Arguments[i + 1]) is { } next
            )
                found.Add((next, $"the argument {argument}"));
        }

        return found.DistinctBy(one => one.Item1);
    }

    private static int? Port(string text) =>
        int.TryParse(text[(text.LastIndexOf(':') + 1)..], NumberStyles.None, CultureInfo.InvariantCulture, out var port)
        && port is > 0 and < 65536
            ? port
            : null;

    [GeneratedRegex(
        @"^-(-([a-z-]*-)?port|p|-listen|-bind|-http)$",
        RegexOptions.IgnoreCase | RegexOptions.CultureInvariant
    )]
    private static partial Regex PortName();
}
