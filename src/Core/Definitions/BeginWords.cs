using System.Collections.Immutable;
using System.Globalization;

namespace CalmSentry.Core.Definitions;

/// <summary>Needs and proofs as one word on a command line: <c>service:tide-store,within=2 min,then=hold</c>.</summary>
public static class BeginWords
{
    public static string Of(Need need) =>
        (
            need switch
            {
                NetworkNeed network => network.Interface is { } one ? $"network:{one}" : "network",
                ServiceNeed service => $"service:{service.Service}"
                    + (
                        service.IfLost switch
                        {
                            IfLost.Restart => ",if-lost=restart",
                            IfLost.GoDown => ",if-lost=go-down",
                            _ => "",
                        }
                    ),
                TcpNeed tcp => $"tcp:{tcp.Address}",
                PathNeed path =>
                    $"path:{path.Path}{(path.Mounted ? ",mounted" : "")}{(path.Writable ? ",writable" : "")}",
                AfterBootNeed after => $"after-boot:{Duration.Write(after.Length)}",
                _ => throw new ArgumentOutOfRangeException(nameof(need)),
            }
        )
        + (need.Within == DefaultWithin(need) ? "" : $",within={Duration.Write(need.Within)}")
        + (
            need.Then switch
            {
                NeedThen.GoAhead => ",then=go-ahead",
                NeedThen.Hold => ",then=hold",
                _ => "",
            }
        );

    private static TimeSpan DefaultWithin(Need need) =>
        Need.UsualWithin + (need is AfterBootNeed after ? after.Length : TimeSpan.Zero);

    /// <summary>Null: a command with commas in it, which only a file can say.</summary>
    public static string? Of(Proof proof)
    {
        var word = proof switch
        {
            UpForProof up => $"up-for:{Duration.Write(up.Length)}",
            TcpProof tcp => $"tcp:{tcp.Address}",
            HttpProof http => $"http:{http.Url}"
                + (http.Status is { } status ? string.Create(CultureInfo.InvariantCulture, $",status={status}") : "")
                + (http.Text is { } text ? $",text={text}" : ""),
            OutputProof output => $"output:{output.Expression}",
            FileProof file => $"file:{file.Path}",
            CommandProof command => Of(command.Command),
            ToldProof => "told",
            _ => null,
        };
        return proof is UpForProof || word is null
            ? word
            : word
                + (proof.Within == Proof.UsualWithin ? "" : $",within={Duration.Write(proof.Within)}")
                + (proof.OnlyTell ? ",if-not=tell" : "");
    }

    /// <summary>
    /// A command's words quoted as for a shell; null where a comma would be taken for the beginning of an option.
    /// </summary>
    internal static string? Of(ImmutableArray<string> command) =>
        command.Any(word => word.Any(c => c == ',' || char.IsControl(c)))
            ? null
            : "command:" + string.Join(' ', command.Select(Quoted));

    /// <summary>A word as it is typed into a POSIX shell.</summary>
    public static string Quoted(string word) =>
        word.Length > 0 && word.All(c => char.IsLetterOrDigit(c) || "-_./=:@%+".Contains(c, StringComparison.Ordinal))
            ? word
            : $"'{word.Replace("'", "'\\''", StringComparison.Ordinal)}'";
}
