using System.Collections.Concurrent;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Keepers;

namespace CalmSentry.Engine.Watching;

/// <summary>A service as those who look at its run meet it, and tell it what they see.</summary>
internal interface IWatched : IRunning
{
    /// <summary>Whether it has been found out what became of it while no server watched.</summary>
    bool Known { get; }

    /// <summary>Figures of the live run.</summary>
    Vitals Vitals { get; }

    /// <summary>The latest look of each watch, by its place in the definition.</summary>
    ConcurrentDictionary<int, LatestLook> Looks { get; }

    /// <summary>Where this run's output begins in the output file, in bytes.</summary>
    long OutputBegan { get; }

    /// <summary>The run that has said on its socket that it is ready; 0 before any.</summary>
    long SaidServes { get; }

    /// <summary>When the program last said that it is well, by the clock that only goes forward; 0: not in this run.</summary>
    long AliveStamp { get; }

    /// <summary>
    /// Since when its keeper says that a signal has stopped its main process, by the clock that only goes forward; null: it does not
    /// say so.
    /// </summary>
    TimeSpan? PausedSince { get; }

    /// <summary>Completes when its keeper tells that its main process was stopped, or goes on.</summary>
    Task NextPause { get; }

    /// <summary>What the program said it is busy with, as a clause; null: it did not, or is no more.</summary>
    string? BusyWith { get; }

    /// <summary>When somebody last typed at its terminal; null: nobody has since this server serves.</summary>
    DateTimeOffset? TypedAt { get; }

    /// <summary>When what its display shows last changed.</summary>
    WindowSight Window { get; }

    /// <summary>Completes when the program tells something.</summary>
    Task NextSaid { get; }

    /// <summary>Lets something happen and returns the situation it led to at once.</summary>
    Task<Situation> Ask(Happening happening);

    /// <summary>The sentry itself is at fault with something about this service.</summary>
    void Trouble(string text);
}
