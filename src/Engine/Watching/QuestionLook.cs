using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Output;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Watching;

/// <summary>
/// Looks whether a program asks somebody at its terminal: it has written text without a line end, has written nothing since, and waits
/// there. While nothing was written, and its last line has ended, one look is one stat(2).
/// </summary>
internal sealed class QuestionLook(IWatched actor, RunNumber run, RunTools tools, Clocks clocks)
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(1),
        SlowBeat = TimeSpan.FromSeconds(3),
        Lasting = TimeSpan.FromSeconds(3);

    /// <summary>What it may use of one processor meanwhile, as a part: a runtime that rests uses a little.</summary>
    private const double Rest = 0.01;

    private readonly string folder = tools.Places.OutputDirectoryOf(actor.Definition.Name);
    private (long Length, DateTime Written)? written;
    private OpenLine? open;
    private string? terminal;
    private bool isRead,
        isReported;

    /// <summary>Since when it has waited there, and its processor time then.</summary>
    private (long Stamp, long Ticks)? waits;

    public static async Task Go(IWatched actor, RunNumber run, RunTools tools, Clocks clocks, CancellationToken gone)
    {
        var look = new QuestionLook(actor, run, tools, clocks);
        look.isReported = actor.Situation.Run?.Question is not null;
        var isInTrouble = false;
        while (true)
        {
            await clocks.Delay(look.waits is { } && look.isReported ? SlowBeat : Beat, gone);
            if (actor.Situation.Run?.Number != run)
                return;
            try
            {
                await look.Once();
                isInTrouble = false;
            }
            catch (Exception failed) when (failed is IOException or UnauthorizedAccessException or InvalidDataException)
            {
                // That the sentry cannot look says nothing of the program: it is told once, and looked again.
                if (!isInTrouble)
                    actor.Trouble($"Calm Sentry failed at looking what it asks at its terminal: {failed.Message}");
                isInTrouble = true;
            }
        }
    }

    /// <summary>Whether a question is still asked where it was.</summary>
    /// <exception cref="IOException">The output cannot be read.</exception>
    public static bool Stands(IWatched actor, GiveAnswer give, RunTools tools) =>
        actor.Situation.Run is { Number: var run, Pid: { } main }
        && run == give.Run
        && OpenLine.At(
            tools.Places.OutputDirectoryOf(actor.Definition.Name),
            actor.Definition.Output.Encoding,
            actor.OutputBegan
        )
            is { } line
        && line.Place == give.Place
        && line.Text.EndsWith(give.Known.Question, StringComparison.Ordinal)
        && TerminalWait.HeldBy(actor.KeeperPid) is { } terminal
        && actor.Vitals.Look(TimeSpan.FromSeconds(1)).Tree.Append(main).Any(pid => TerminalWait.Is(pid, terminal));

    private async Task Once()
    {
        var file = new FileInfo(Path.Combine(folder, OutputForm.Current));
        (long, DateTime)? now = file.Exists ? (file.Length, file.LastWriteTimeUtc) : null;
        if (now != written)
        {
            // It writes still: what it has asked until now it may have gone on from.
            (written, isRead, waits) = (now, false, null);
            if (!isReported)
                return;
        }

        if (!isRead)
            (open, isRead) = (OpenLine.At(folder, actor.Definition.Output.Encoding, actor.OutputBegan), true);
        if (open is not { } line)
        {
            await Over();
            return;
        }

        // What somebody types is on record nowhere: a line that has some of it is no question for others.
        if (!isReported && IsTypedInto(line))
            return;
        // A prompt that is no question stands until something is written: nothing of that needs to be looked at.
        if (isReported && waits is not null && actor.Situation.Run?.Question is null)
            return;
        var (isWaiting, ticks) = Waits();
        if (!isWaiting)
        {
            waits = null;
            await Over();
            return;
        }

        var stamp = clocks.Time.GetTimestamp();
        waits ??= (stamp, ticks);
        var length = clocks.Time.GetElapsedTime(waits.Value.Stamp, stamp);
        var used = (double)(ticks - waits.Value.Ticks) / ProcessVitals.TicksPerSecond;
        var lasts = length >= Lasting;
        if (lasts && used > Math.Max(Rest * length.TotalSeconds, 1.5 / ProcessVitals.TicksPerSecond))
        {
            // It works, whatever it waits for beside.
            waits = (stamp, ticks);
            return;
        }

        var after = await actor.Ask(new QuestionSeen(run, line.Text, line.Place, lasts));
        isReported = lasts || after.Run?.Question is not null;
    }

    /// <summary>Times of output are known to 10 ms, and a program that was given a line asks the next at once.</summary>
    private static readonly TimeSpan AtOnce = TimeSpan.FromMilliseconds(50);

    private bool IsTypedInto(OpenLine line) =>
        actor.TypedAt is { } typed && typed <= clocks.Now && typed > line.Began + AtOnce;

    private async Task Over()
    {
        if (isReported)
            await actor.Ask(new QuestionSeen(run, null));
        isReported = false;
    }

    /// <summary>Whether one of its processes waits at its terminal, and the processor time of all so far.</summary>
    private (bool, long) Waits()
    {
        terminal ??= TerminalWait.HeldBy(actor.KeeperPid);
        if (actor.Situation.Run?.Pid is not { } main || terminal is null)
            return (false, 0);
        var sample = actor.Vitals.Look(TimeSpan.Zero);
        return (sample.Tree.Append(main).Distinct().Any(pid => TerminalWait.Is(pid, terminal)), sample.Ticks);
    }
}
