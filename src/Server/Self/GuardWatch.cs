using System.Diagnostics;
using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Core.Entries;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Server.Self;

/// <summary>
/// The other half of guarding: a server whose guard is gone, and the guard's second with it, starts another, which takes
/// it up. And a server whose run directory was wiped ends, so that its guard begins one that makes it again.
/// </summary>
internal sealed class GuardWatch : IDisposable
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(2),
        LongestPause = TimeSpan.FromSeconds(30);

    /// <summary>Variable with the number of the descriptor of a listening socket that the guard hands on.</summary>
    public const string HandedPort = "CALM_PORT";

    private readonly Record logbook;
    private readonly Places places;
    private readonly string keeper;
    private readonly Action another,
        serveAnew;
    private readonly Timer timer;
    private int guard;
    private Backoff pauses = new(Beat, LongestPause);
    private TimeSpan due;

    private GuardWatch(Record logbook, Places places, string keeper, int guard, Action another, Action serveAnew)
    {
        (this.logbook, this.places, this.keeper, this.guard, this.another, this.serveAnew) = (
            logbook,
            places,
            keeper,
            guard,
            another,
            serveAnew
        );
        timer = new(_ => Look(), null, Beat, Timeout.InfiniteTimeSpan);
    }

    /// <summary>What the guard has to tell of the server before this one, or null.</summary>
    public static string? Fell => Environment.GetEnvironmentVariable("CALM_FELL");

    /// <summary>Null when this server was not begun by a guard.</summary>
    /// <param name="another">Called when another guard has taken this server up.</param>
    /// <param name="serveAnew">Called when this server cannot be reached any more and is to end.</param>
    public static GuardWatch? Begin(Record logbook, Places places, string keeper, Action another, Action serveAnew) =>
        int.TryParse(
            Environment.GetEnvironmentVariable("CALM_GUARD"),
            NumberStyles.None,
            CultureInfo.InvariantCulture,
            out var guard
        )
            ? new(logbook, places, keeper, guard, another, serveAnew)
            : null;

    private void Look()
    {
        try
        {
            LookNow();
        }
        catch (Exception unexpected)
        {
            logbook.Failed("looking after its guard", unexpected);
        }

        try
        {
            timer.Change(Beat, Timeout.InfiniteTimeSpan);
        }
        catch (ObjectDisposedException)
        {
            // The server ends.
        }
    }

    private void LookNow()
    {
        if (!File.Exists(places.ApiSocket))
        {
            logbook.Trouble(
                $"Its socket {places.ApiSocket} is gone, as when somebody has emptied that directory: the server begins anew."
            );
            serveAnew();
            return;
        }

        if (Alive(places) is { } now)
        {
            if (now == guard)
                return;
            logbook.Note(new GuardEntry($"The guard of the server (pid {guard}) is gone; pid {now} is it now.", now));
            guard = now;
            pauses.Reset();
            another();
            return;
        }

        if (ProcessFacts.Lives(guard) || Stopwatch.GetElapsedTime(0) < due)
            return;
        logbook.Note(new GuardEntry($"The guard of the server (pid {guard}) is gone; another one is started.", guard));
        due = Stopwatch.GetElapsedTime(0) + pauses.Next();
        using var next = Start(keeper, places);
    }

    /// <summary>Process id of the guard, as long as it lives.</summary>
    public static int? Alive(Places places)
    {
        return
            File.Exists(places.Guard)
            && int.TryParse(
                File.ReadAllText(places.Guard).Trim(),
                NumberStyles.None,
                CultureInfo.InvariantCulture,
                out var guard
            )
            && ProcessFacts.Lives(guard)
            && Path.GetFileName(ProcessFacts.Executable(guard)) == "calm-keeper"
            ? guard
            : null;
    }

    private static Process? Start(string keeper, Places places)
    {
        var start = new ProcessStartInfo(
            keeper,
            ["guard", places.RunDirectory, Environment.ProcessPath!, .. Environment.GetCommandLineArgs().Skip(1)]
        );
        start.Environment.Remove("CALM_FELL");
        start.Environment.Remove("CALM_GUARD");
        start.Environment.Remove(HandedPort);
        return Process.Start(start);
    }

    public void Dispose() => timer.Dispose();
}
