using System.Globalization;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract;

namespace CalmSentry.Cli.Host;

/// <summary>
/// Another version over one that serves: it comes into force at once, programs go on with their pids, and one that does
/// not serve is taken back.
/// </summary>
/// <param name="home">Where the programs lie.</param>
/// <param name="from">Where those lie that are put in their place.</param>
internal sealed class Renewal(string home, string[] programs, string from, TextWriter say)
{
    private readonly DateTime began = DateTime.UtcNow;
    private readonly Places places = new("/");
    private List<string> renewed = [];

    /// <summary>Whether a server serves that was begun from other files than there are now.</summary>
    public bool InForceBefore =>
        Server() is { } pid
        && (renewed.Count > 0 || new FileInfo($"/proc/{pid}/exe").LinkTarget?.EndsWith(Replaced) == true);

    /// <summary>What the kernel adds to the name of a program whose file is not there any more (proc(5), exe).</summary>
    private const string Replaced = " (deleted)";

    /// <summary>Keeps the programs that are about to be replaced.</summary>
    public void Keep()
    {
        renewed =
        [
            .. programs.Where(program =>
                File.Exists(Path.Combine(home, program))
                && new FileInfo(Path.Combine(home, program)).LinkTarget is null // what a link leads to is no version of ours
                && !File.ReadAllBytes(Path.Combine(home, program))
                    .AsSpan()
                    .SequenceEqual(File.ReadAllBytes(Path.Combine(from, program)))
            ),
        ];
        foreach (var program in renewed)
        {
            File.Delete(Before(program)); // a link there would be written through
            File.Copy(Path.Combine(home, program), Before(program));
        }
    }

    /// <exception cref="Failure">It does not serve, and the version before is in force again, or not even that.</exception>
    public void PutInForce(string script)
    {
        say.WriteLine("renewing  guard and service; programs go on");
        say.Flush();
        var serves = Installation.ExitCodeOf(script, "restart") == 0;
        if (serves)
        {
            foreach (var program in renewed)
                File.Delete(Before(program));
            return;
        }

        if (renewed.Count == 0)
            throw new Failure(
                Exit.NotTrue,
                "It is in place, but does not start; programs go on. There is no version before it to go back to.",
                "What it said stands above."
            );
        say.WriteLine("back      to the version before: the new one does not serve");
        say.Flush();
        _ = Installation.ExitCodeOf(script, "leave");
        foreach (var program in renewed)
            File.Move(Before(program), Path.Combine(home, program), overwrite: true);
        // What the new version brought up of the store goes back, too: the one before could not read it.
        if (File.Exists(places.DatabaseBefore) && File.GetLastWriteTimeUtc(places.DatabaseBefore) >= began)
        {
            foreach (var log in (string[])["-wal", "-shm"])
                File.Delete(places.Database + log);
            File.Move(places.DatabaseBefore, places.Database, overwrite: true);
        }

        var back = Installation.ExitCodeOf(script, "start") == 0;
        throw new Failure(
            Exit.NotTrue,
            back
                ? "The new version does not serve, and was taken back: the one before is in force again. Programs went on."
                : "The new version does not serve; the one before was put back and does not start either. Programs go on.",
            "What it said stands above, and in /var/log/calm-sentry/sentry.log."
        );
    }

    private string Before(string program) => Path.Combine(home, program + ".before");

    private int? Server() =>
        File.Exists(places.ServerPid)
        && int.TryParse(
            File.ReadAllText(places.ServerPid).Trim(),
            NumberStyles.None,
            CultureInfo.InvariantCulture,
            out var pid
        )
        && new FileInfo($"/proc/{pid}/exe").LinkTarget?.StartsWith(home + "/calm-sentry", StringComparison.Ordinal)
            == true
            ? pid
            : null;
}
