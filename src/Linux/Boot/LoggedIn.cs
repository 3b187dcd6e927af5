using System.Globalization;
using System.Text;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Linux.Boot;

/// <summary>
/// Who is logged in: by the login records (utmp(5)) and by the login id that login programs put on their processes
/// (proc(5), loginuid).
/// </summary>
public static class LoggedIn
{
    /// <summary>Two of its numbers are longer where there never was a 32-bit time.</summary>
    private static readonly int RecordLength =
        System.Runtime.InteropServices.RuntimeInformation.ProcessArchitecture
        == System.Runtime.InteropServices.Architecture.Arm64
            ? 400
            : 384;

    private const int UserProcess = 7,
        Longest = 1 << 20;

    /// <summary>
    /// Each as account and where from, such as <c>anna on pts/0</c>; by account alone where nothing more is known.
    /// </summary>
    public static IReadOnlyList<string> Now()
    {
        var found = Records().Select(one => $"{one.Account} on {one.Terminal}").ToList();
        var named = found.Select(one => one.Split(' ')[0]).ToHashSet(StringComparer.Ordinal);
        found.AddRange(
            ProcessFacts
                .All()
                .Select(LoginId)
                .Where(id => id != uint.MaxValue)
                .Distinct()
                .Select(Account.NameOf)
                .Where(name => !named.Contains(name))
        );
        return found;
    }

    /// <summary>The host that whoever sits at a terminal came in from, as the login program noted it; null: none.</summary>
    public static string? HostOf(string terminal) =>
        Records().LastOrDefault(one => one.Terminal == terminal).Host is { Length: > 0 } host ? host : null;

    private static IEnumerable<(string Account, string Terminal, string Host)> Records()
    {
        foreach (var file in new[] { "/run/utmp", "/var/run/utmp" })
        {
            byte[] bytes;
            try
            {
                bytes = Held.Head(Ground.Settings, file, Longest);
            }
            catch (IOException)
            {
                continue;
            }

            return Of(bytes);
        }

        return [];
    }

    /// <summary>Those whose login program lives, of a file of login records.</summary>
    public static IEnumerable<(string Account, string Terminal, string Host)> Of(byte[] records)
    {
        for (var at = 0; at + RecordLength <= records.Length; at += RecordLength)
            if (
                BitConverter.ToInt16(records, at) == UserProcess
                && ProcessFacts.Lives(BitConverter.ToInt32(records, at + 4))
            )
                yield return (Text(records, at + 44, 32), Text(records, at + 8, 32), Text(records, at + 76, 256));
    }

    private static string Text(byte[] bytes, int at, int length) =>
        Encoding.UTF8.GetString(bytes, at, length).Split('\0')[0];

    private static uint LoginId(int pid)
    {
        try
        {
            return uint.Parse(File.ReadAllText($"/proc/{pid}/loginuid"), CultureInfo.InvariantCulture);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or FormatException)
        {
            return uint.MaxValue;
        }
    }
}
