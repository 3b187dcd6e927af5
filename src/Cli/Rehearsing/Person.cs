using System.Diagnostics;
using System.Globalization;

namespace CalmSentry.Cli.Rehearsing;

/// <summary>Whoever sits at the keyboard, also where they have become root since.</summary>
internal sealed record Person(int Uid, int Gid, string Name, string Home, bool IsAnother)
{
    private const int Nobody = -1; // a login id that was never set (proc(5), loginuid)

    /// <returns>Null, and why as a clause: what is run as root is somebody else's program with every right there is.</returns>
    public static (Person? Me, string? WhyNot) Behind()
    {
        if (!Environment.IsPrivilegedProcess)
            return (Read(Environment.UserName, isAnother: false), null);
        var uid = Number(Environment.GetEnvironmentVariable("SUDO_UID")) ?? LoginUid();
        return uid switch
        {
            null => (null, "you are root, and who became it cannot be told (neither SUDO_UID nor a login id is set)"),
            0 => (null, "you are root, and have logged in as root"),
            _ => Read(uid.Value.ToString(CultureInfo.InvariantCulture), isAnother: true) is { } me
                ? (me, null)
                : (null, $"you are root, and this host has no account {uid}, which became it"),
        };
    }

    /// <summary>A command line that runs another one as this person.</summary>
    public IReadOnlyList<string> Become(IReadOnlyList<string> command) =>
        IsAnother
            ? ["/usr/bin/setpriv", $"--reuid={Uid}", $"--regid={Gid}", "--init-groups", "--", .. command]
            : command;

    /// <summary>Names of the groups it is a member of.</summary>
    public List<string> Groups()
    {
        using var asked = Process.Start(
            new ProcessStartInfo("/usr/bin/id", ["-Gn", Name]) { RedirectStandardOutput = true }
        )!;
        return [.. asked.StandardOutput.ReadToEnd().Split([' ', '\n'], StringSplitOptions.RemoveEmptyEntries)];
    }

    private static int? LoginUid() =>
        File.Exists("/proc/self/loginuid")
        && uint.TryParse(
            File.ReadAllText("/proc/self/loginuid"),
            NumberStyles.None,
            CultureInfo.InvariantCulture,
            out var id
        )
        && unchecked((int)id) is var uid and not Nobody
            ? uid
            : null;

    private static int? Number(string? text) =>
        int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) ? number : null;

    private static Person? Read(string key, bool isAnother)
    {
        using var asked = Process.Start(
            new ProcessStartInfo("/usr/bin/getent", ["passwd", key]) { RedirectStandardOutput = true }
        )!;
        var part = asked.StandardOutput.ReadToEnd().Trim().Split(':');
        return part.Length >= 7 && Number(part[2]) is { } uid && Number(part[3]) is { } gid
            ? new(uid, gid, part[0], part[5], isAnother)
            : null;
    }
}
