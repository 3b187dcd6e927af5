using System.Net.Sockets;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Windows;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Watching;

/// <summary>When what a display shows last changed.</summary>
internal sealed class WindowSight
{
    /// <summary>By the clock that only goes forward; 0: not since this server looks.</summary>
    public long ChangedStamp { get; set; }

    /// <summary>Why it is not looked at, as a clause; null: it is.</summary>
    public string? Wrong { get; set; }
}

/// <summary>
/// Keeps what a run's display shows, whenever it changed, and looks whether a dialog stands there. While nothing changes, both lines
/// wait for the display, and nothing is done.
/// </summary>
internal sealed class WindowLook(IWatched actor, RunNumber run, RunTools tools, Clocks clocks)
{
    private static readonly TimeSpan BetweenPictures = TimeSpan.FromSeconds(2),
        // What ends takes its windows away first: that is no picture of it.
        Holds = TimeSpan.FromMilliseconds(300),
        Beat = TimeSpan.FromSeconds(1),
        Lasting = TimeSpan.FromSeconds(3),
        Anyhow = TimeSpan.FromMinutes(1),
        Patience = TimeSpan.FromSeconds(10),
        Pause = TimeSpan.FromSeconds(5);

    /// <summary>What it may use of one processor while it waits for an answer, as a part: a mark that blinks uses a little.</summary>
    private const double Rest = 0.05;

    private readonly string label = actor.Site(run).Name,
        folder = actor.Id.ToString();

    public static Task Go(IWatched actor, RunNumber run, RunTools tools, Clocks clocks, CancellationToken gone)
    {
        var look = new WindowLook(actor, run, tools, clocks);
        return Task.WhenAll(
            look.Follow("keeping what its display shows", look.Keep, wrong => actor.Window.Wrong = wrong, gone),
            look.Follow("looking for what it asks on its display", look.Ask, _ => { }, gone)
        );
    }

    /// <summary>
    /// Goes on until the run is over. That the sentry cannot look says nothing of the program: it is told once, and tried again.
    /// </summary>
    private async Task Follow(
        string what,
        Func<Display, CancellationToken, Task> go,
        Action<string?> wrong,
        CancellationToken gone
    )
    {
        var isInTrouble = false;
        while (actor.Situation.Run?.Number == run)
        {
            gone.ThrowIfCancellationRequested();
            var (began, display) = (clocks.Time.GetTimestamp(), tools.Displays.Of(label));
            string? why = null;
            try
            {
                wrong(null);
                if (display is not null)
                    await go(display, gone);
            }
            catch (Exception failed)
                when (!gone.IsCancellationRequested
                    && failed
                        is IOException
                            or UnauthorizedAccessException
                            or SocketException
                            or OperationCanceledException
                )
            {
                isInTrouble &= clocks.Time.GetElapsedTime(began) < Anyhow;
                why = failed is OperationCanceledException ? "the display does not answer" : failed.Message;
                wrong(why);
            }

            await clocks.Delay(Pause, gone);
            // A display that is gone is told as that.
            if (why is not null && !isInTrouble && display == tools.Displays.Of(label))
            {
                actor.Trouble($"Calm Sentry failed at {what}: {why.TrimEnd('.')}. It is tried again.");
                isInTrouble = true;
            }
        }
    }

    private async Task Keep(Display display, CancellationToken gone)
    {
        await using var line = await Within(limit => Picture.Open(display.Connect(), limit), gone);
        UInt128? kept = null;
        while (true)
        {
            var began = clocks.Time.GetTimestamp();
            if (await Within(limit => line.Take(kept, limit), gone) is { } taken)
            {
                if (kept is not null || actor.Window.ChangedStamp == 0)
                    actor.Window.ChangedStamp = began;
                await clocks.Delay(Holds, gone);
                if (Lives(taken.IsPlain))
                {
                    tools.Pictures.Write(folder, run, taken.Png);
                    kept = taken.Sum;
                }
            }

            await clocks.Delay(BetweenPictures - clocks.Time.GetElapsedTime(began), gone);
            await line.Changed(gone);
        }
    }

    /// <summary>Whether what is seen is the program's still. One that is asked to end may take its windows away, and go on for a while.</summary>
    private bool Lives(bool isPlain) =>
        actor.Situation is { Run: { MainOutcome: null, Pid: { } pid } live } now
        && live.Number == run
        && !(isPlain && now.Phase == Phase.Stopping)
        && ProcessVitals.Of(pid) is { State: not ('Z' or 'X') };

    private async Task Ask(Display display, CancellationToken gone)
    {
        await using var line = await Within(
            limit => XLine.Open(display.ConnectAsProgram(), tools.Displays.KeyOf(label), limit),
            gone
        );
        Stands? stands = null;
        var isReported = actor.Situation.Run?.Dialog is not null;
        while (true)
        {
            var top = await Within(limit => Dialog.Top(line, limit), gone);
            var isNew = top is not null && (stands?.Window != top.Window || !isReported);
            if (top is null || actor.Situation.Run?.Dialog is { } known && known.Place != top.Window)
            {
                if (isReported)
                    await actor.Ask(new QuestionSeen(run, null, At: AskedAt.Window));
                isReported = false;
            }

            if (top is null)
                stands = null;
            else if (isNew)
            {
                var (stamp, ticks) = (clocks.Time.GetTimestamp(), actor.Vitals.Look(TimeSpan.Zero).Ticks);
                if (stands is not { } first || first.Window != top.Window)
                    stands = new(top.Window, stamp, stamp, ticks);
                else if (clocks.Time.GetElapsedTime(first.Counted, stamp) is var length && length >= Lasting)
                {
                    if (Rests(ticks - first.Ticks, length) || clocks.Time.GetElapsedTime(first.Since, stamp) >= Anyhow)
                    {
                        await actor.Ask(new QuestionSeen(run, top.Title, top.Window, Lasts: true, AskedAt.Window));
                        isReported = true;
                    }
                    else
                        stands = first with { Counted = stamp, Ticks = ticks };
                }
            }

            if (stands is null || isReported)
                await line.Changed(gone);
            await clocks.Delay(Beat, gone);
        }
    }

    /// <summary>The dialog that stands.</summary>
    /// <param name="Since">When it was first seen.</param>
    /// <param name="Counted">Since when what the program uses is counted: anew, as long as it works.</param>
    /// <param name="Ticks">How much it had used by then.</param>
    private readonly record struct Stands(uint Window, long Since, long Counted, long Ticks);

    private static bool Rests(long ticks, TimeSpan length) =>
        ticks / (double)ProcessVitals.TicksPerSecond <= Rest * length.TotalSeconds;

    private static async Task<T> Within<T>(Func<CancellationToken, Task<T>> go, CancellationToken gone)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(gone);
        limit.CancelAfter(Patience);
        return await go(limit.Token);
    }
}
