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
    private const int RecordLength = 384,
        UserProcess = 7,
        Longest = 1 << 20;

    /// <summary>
    /// Each as account and where from, such as <c>anna on pts/0</c>; by account alone where nothing more is known.
    /// </summary>
    public static IReadOnlyList<string> Now()
    {
        var found = Records().ToList();
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

    private static IEnumerable<string> Records()
    {
        foreach (var file in new[] { "/run/utmp", "/var/run/utmp" })
        {
            byte[] bytes;
            try
            {
                bytes = Held.Head(file, Longest);
            }
            catch (IOException)
            {
                continue;
            }

            for (var at = 0; at + RecordLength <= bytes.Length; at += RecordLength)
            {
                if (BitConverter.ToInt16(bytes, at) != UserProcess)
                    continue;
                var pid = BitConverter.ToInt32(bytes, at + 4);
                if (ProcessFacts.Lives(pid))
                    yield return $"{Text(bytes, at + 44, 32)} on {Text(bytes, at + 8, 32)}";
            }

            yield break;
        }
    }

    private static string Text(byte[] bytes, int at, int length) =>
        Encoding.UTF8.GetString(bytes, at, length).TrimEnd('\0');

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
