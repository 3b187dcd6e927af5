using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Inspection.Checks;

/// <summary>
/// Places on this host from which the same program is started by itself: boot scripts, scheduled tables, logins.
/// </summary>
internal static class OtherStartChecks
{
    public static IEnumerable<Finding> Look(ProgramPart program)
    {
        var words = new List<string> { program.Path };
        if (
            program.With is null
            && HostPlaces.HoldsPrograms(Path.GetDirectoryName(program.Path) ?? "/")
            && program.Arguments.FirstOrDefault(argument => argument.Length > 4 && Path.IsPathRooted(argument))
                is { } script
        )
            words = [script];
        if (words[0] == program.Path && ScriptKind.OfInterpreter(program.Path) is not null)
            yield break; // a shell begins many a thing that is not this one
        foreach (var (file, what, mend) in Places())
        {
            if (LineWith(file, words, scheduled: what == Scheduled) is not { } line)
                continue;
            yield return new(
                FindingCode.OtherStart,
                Severity.Risk,
                $"{file}, line {line.Number}, {what}: {line.Text}",
                "After the next boot or login it would run twice.",
                mend.Replace("FILE", file, StringComparison.Ordinal)
                    .Replace("LINE", $"{line.Number}", StringComparison.Ordinal)
            );
        }
    }

    private const string Scheduled = "starts it on a schedule";

    private const int Longest = 1 << 20,
        MostEntries = 2000;

    private static readonly string[] BootFiles = ["/etc/rc.local", "/etc/inittab"],
        LoginFiles = [".profile", ".bash_profile", ".bash_login", ".bashrc"];

    private static IEnumerable<(string File, string What, string Mend)> Places()
    {
        var begun = BegunAtBoot();
        foreach (var script in Files("/etc/init.d").Where(file => begun.Contains(Path.GetFileName(file))))
            yield return (script, "starts it at boot", $"update-rc.d {Path.GetFileName(script)} disable");
        foreach (var file in BootFiles.Where(File.Exists))
            yield return (file, "starts it at boot", "Take line LINE out of FILE.");
        foreach (
            var table in Files("/etc/cron.d")
                .Prepend("/etc/crontab")
                .Where(File.Exists)
                .Concat(Files("/etc/cron.hourly"))
                .Concat(Files("/etc/cron.daily"))
        )
            yield return (table, Scheduled, "Take line LINE out of FILE.");
        foreach (var table in Files("/var/spool/cron/crontabs"))
            yield return (table, Scheduled, $"crontab -u {Path.GetFileName(table)} -e, and take line LINE out.");
        var homes = Directories("/home").Append("/root").ToList();
        foreach (
            var entry in Files("/etc/xdg/autostart")
                .Concat(homes.SelectMany(home => Files(Path.Combine(home, ".config/autostart"))))
        )
            yield return (entry, "starts it when somebody logs in", "Remove FILE.");
        foreach (
            var login in Files("/etc/profile.d")
                .Concat(
                    homes.SelectMany(home => LoginFiles.Select(name => Path.Combine(home, name)).Where(File.Exists))
                )
        )
            yield return (login, "starts it when somebody logs in", "Take line LINE out of FILE.");
    }

    private static HashSet<string> BegunAtBoot() =>
        [
            .. "S0123456"
                .SelectMany(level => Files($"/etc/rc{level}.d"))
                .Select(link => Path.GetFileName(link) is ['S', _, _, .. var name] ? name : "")
                .Where(name => name.Length > 0),
        ];

    private static (int Number, string Text)? LineWith(string file, IReadOnlyList<string> words, bool scheduled)
    {
        try
        {
            using var opened = Held.Read(Ground.OtherStart, file);
            if (opened.Length > Longest)
                return null;
            using var reader = new StreamReader(opened);
            var number = 0;
            while (reader.ReadLine() is { } line)
            {
                number++;
                var text = line.Trim();
                if (text.StartsWith('#') || !words.Any(word => Names(text, word)))
                    continue;
                if (
                    scheduled
                    && text.Contains('=', StringComparison.Ordinal)
                    && text.Split('=')[0].All(c => char.IsLetterOrDigit(c) || c is '_' or ' ')
                )
                    continue; // a variable, not an entry
                return (number, text.Length > 120 ? text[..120] + "…" : text);
            }
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // Not ours to read: not ours to tell.
        }

        return null;
    }

    /// <summary>The path as a whole word: /srv/a/run does not name /srv/a/runner.</summary>
    private static bool Names(string text, string word)
    {
        for (
            var at = text.IndexOf(word, StringComparison.Ordinal);
            at >= 0;
            at = text.IndexOf(word, at + 1, StringComparison.Ordinal)
        )
        {
            var end = at + word.Length;
            if (end == text.Length || !(char.IsLetterOrDigit(text[end]) || text[end] is '-' or '_' or '.' or '/'))
                return true;
        }

        return false;
    }

    private static string[] Files(string directory) => Entries(directory, Directory.GetFiles);

    private static string[] Directories(string directory) => Entries(directory, Directory.GetDirectories);

    private static string[] Entries(string directory, Func<string, string[]> get)
    {
        try
        {
            return Directory.Exists(directory)
                ? [.. get(directory).Order(StringComparer.Ordinal).Take(MostEntries)]
                : [];
        }
        catch (UnauthorizedAccessException)
        {
            return [];
        }
    }
}
