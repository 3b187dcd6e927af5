using System.Diagnostics;
using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Core.Entries;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Logbook;

namespace CalmSentry.Server;

/// <summary>The other half of guarding: a server whose guard is gone starts another one, which takes it up.</summary>
internal sealed class GuardWatch : IDisposable
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(2);

    private readonly Timer timer;

    private GuardWatch(int guard, Action gone) =>
        timer = new Timer(
            _ =>
            {
                if (ProcessFacts.Lives(guard))
                    return;
                timer!.Change(Timeout.InfiniteTimeSpan, Timeout.InfiniteTimeSpan);
                gone();
            },
            null,
            Beat,
            Beat
        );

    /// <summary>Variable with the number of the descriptor of a listening socket that the guard hands on.</summary>
    public const string HandedPort = "CALM_PORT";

    private static readonly TimeSpan Settling = TimeSpan.FromMilliseconds(500);

    /// <summary>What the guard has to tell of the server before this one, or null.</summary>
    public static string? Fell => Environment.GetEnvironmentVariable("CALM_FELL");

    /// <summary>Null when this server was not begun by a guard.</summary>
    /// <param name="another">Called when another guard has taken this server up.</param>
    public static GuardWatch? Begin(Record logbook, Places places, string keeper, Action another)
    {
        if (
            !int.TryParse(
                Environment.GetEnvironmentVariable("CALM_GUARD"),
                NumberStyles.None,
                CultureInfo.InvariantCulture,
                out var guard
            )
        )
            return null;
        return new(
            guard,
            () =>
            {
                logbook.Note(
                    new(EntryCode.Guard)
                    {
                        Pid = guard,
                        Seen = $"The guard of the server (pid {guard}) is gone; another one is started.",
                    }
                );
                using var next = Start(keeper, places);
                _ = Task.Delay(Settling).ContinueWith(_ => another(), TaskScheduler.Default);
            }
        );
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
