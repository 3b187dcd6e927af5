using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Output;
using CalmSentry.Engine.Probing;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Watching;

/// <summary>What one look of a watch saw.</summary>
/// <param name="Bad">What is not as it should be, as a clause; null: all is well.</param>
/// <param name="Due">When it can turn bad at the soonest, where that is known.</param>
internal readonly record struct Sight(string? Bad, string Seen, TimeSpan? Due = null);

/// <summary>The latest look of a watch, good ones too.</summary>
internal sealed record LatestLook(DateTimeOffset At, string Seen, bool Bad);

/// <summary>Looks at all watches of one run, each at its own beat, until nobody waits for it any more.</summary>
internal sealed class WatchLook(IWatched actor, RunNumber run, RunTools tools, Clocks clocks)
{
    private const int Remembered = 9,
        SlowerThanUsual = 4;

    private static readonly TimeSpan FirstLimit = TimeSpan.FromSeconds(1),
        // A busy or a shared machine can hold anybody up for a tenth of a second; that is no sign of a hang.
        ShortestLimit = TimeSpan.FromMilliseconds(250),
        Together = TimeSpan.FromSeconds(1),
        LongestLimit = TimeSpan.FromSeconds(10),
        Margin = TimeSpan.FromMilliseconds(5);

    private readonly Definition definition = actor.Definition;
    private readonly Vitals vitals = actor.Vitals;

    public static Task Go(IWatched actor, RunNumber run, RunTools tools, Clocks clocks, CancellationToken gone)
    {
        var look = new WatchLook(actor, run, tools, clocks);
        return Task.WhenAll(look.definition.Watch.Select((watch, i) => look.Follow(watch, i, gone)));
    }

    private async Task Follow(Watch watch, int index, CancellationToken gone)
    {
        var look = LookOf(watch);
        // Many begin at the same moment: what nobody asked for is spread over its beat.
        var next =
            watch.Implied ? watch.Beat * Scatter.ShareOf(definition.Name, run)
            : watch is AnswerWatch ? watch.Beat
            : TimeSpan.Zero;
        Sight? last = null;
        var inTrouble = false;
        var told = watch is PausedWatch ? actor.NextPause : null;
        if (told is not null && actor.PausedSince is not null)
            next = TimeSpan.Zero; // told before
        while (true)
        {
            await Wait(watch.Implied && last?.Due is null ? WithOthers(next) : next, told, gone);
            told = watch is PausedWatch ? actor.NextPause : null;
            var began = clocks.Time.GetTimestamp();
            Sight sight;
            try
            {
                sight = await look(gone);
            }
            catch (Exception failed) when (!gone.IsCancellationRequested)
            {
                // That the sentry cannot look says nothing of the program: it is told once, and looked again.
                if (!inTrouble)
                    actor.Trouble($"Calm Sentry failed at looking whether {watch.InWords}: {failed.Message}");
                inTrouble = true;
                next = watch.Beat;
                continue;
            }

            gone.ThrowIfCancellationRequested();
            inTrouble = false;
            actor.Looks[index] = new(clocks.Now, sight.Bad ?? sight.Seen, sight.Bad is not null);
            var now =
                sight.Bad is not null || last is null || last.Value.Bad is not null || Unseen(index)
                    ? await actor.Ask(new WatchSeen(run, watch, sight.Bad, sight.Seen))
                    : null;
            last = sight;
            next = watch.Beat - clocks.Time.GetElapsedTime(began);
            if (sight.Due is { } due && due + Margin < next)
                next = due + Margin;
            // A level that may be over its limit for some time is looked at again when that time is up.
            if (
                watch.Lasting > TimeSpan.Zero
                && now?.Run is { } live
                && index < live.Watched.Length
                && live.Watched[index] is { Bad: > 0, PoorSince: null, Since: { } since }
                && since + watch.Lasting - clocks.Now is var left
                && left < next
            )
                next = left + Margin;
            if (next < Margin)
                next = Margin;
        }
    }

    /// <param name="told">What ends the wait before its time.</param>
    private async Task Wait(TimeSpan length, Task? told, CancellationToken gone)
    {
        if (told is null)
        {
            await clocks.Delay(length, gone);
            return;
        }

        using var heard = CancellationTokenSource.CreateLinkedTokenSource(gone);
        await Task.WhenAny(clocks.Delay(length, heard.Token), told);
        await heard.CancelAsync();
        gone.ThrowIfCancellationRequested();
    }

    /// <summary>What nobody asked for is looked at on the full second: of a thousand services a hundred by one waking, not each by its own.</summary>
    private TimeSpan WithOthers(TimeSpan next)
    {
        var now = clocks.Forward.Ticks;
        var due = now + next.Ticks;
        return TimeSpan.FromTicks(due + Together.Ticks - 1 - ((due + Together.Ticks - 1) % Together.Ticks) - now);
    }

    /// <summary>What it saw was forgotten: its watches were paused.</summary>
    private bool Unseen(int index) =>
        actor.Situation.Run is { } live && index < live.Watched.Length && live.Watched[index].Since is null;

    private long EndedForMemory() =>
        actor.Site(run) is var site ? tools.Ceilings.EndedForMemory(site.Name, site.Group(tools.Groups)) : 0;

    private Func<CancellationToken, Task<Sight>> LookOf(Watch watch)
    {
        var began = clocks.Time.GetTimestamp();
        return watch switch
        {
            AnswerWatch answer => Answering(answer),
            SilenceWatch silence => Silence(silence, began),
            FreshFileWatch fresh => Fresh(fresh, began),
            WellWatch alive => Now(() =>
                AgeOf(
                    actor.AliveStamp == 0 ? null : clocks.Time.GetElapsedTime(actor.AliveStamp),
                    began,
                    alive.Within,
                    "it has not said that it is alive",
                    "it said that it is alive"
                )
            ),
            PausedWatch paused => Paused(paused),
            QuestionWatch asks => Now(() => Asks(asks)),
            StillWatch still => Now(() => Still(still, began)),
            CeilingWatch ceiling => Ceiling(ceiling),
            MemoryWatch memory => Leveled(
                watch,
                sample => sample.Memory,
                memory.Bytes,
                bytes => Size.About(bytes),
                "its memory is",
                Size.Write(memory.Bytes)
            ),
            CpuWatch cpu => Leveled(
                watch,
                sample => (long)Math.Round(sample.Cpu ?? 0),
                cpu.Percent,
                percent => $"{percent} %",
                "its processor time is",
                $"{cpu.Percent} %"
            ),
            OpenFilesWatch files => Leveled(
                watch,
                sample => sample.Tree.Sum(ProcessFacts.CountOpenFiles),
                files.Most,
                Plain,
                "the files it has open are",
                Plain(files.Most)
            ),
            TreeWatch children => Leveled(
                watch,
                sample => Math.Max(0, sample.Tree.Count - 1),
                children.Most,
                Plain,
                "the processes below its main one are",
                Plain(children.Most)
            ),
            _ => throw new ArgumentOutOfRangeException(nameof(watch)),
        };
    }

    private Func<CancellationToken, Task<Sight>> Answering(AnswerWatch watch)
    {
        var took = new Queue<TimeSpan>();
        return async gone =>
        {
            var began = clocks.Time.GetTimestamp();
            var limit = LimitOf(watch.Beat, took);
            var (missing, seen) = await Answers.Of(watch.Look, actor, run, tools, limit, gone).OrWhyNot(ownToo: false);
            if (missing is null)
            {
                took.Enqueue(clocks.Time.GetElapsedTime(began));
                if (took.Count > Remembered)
                    took.Dequeue();
            }

            return new(missing, seen);
        };
    }

    /// <summary>
    /// How long an answer is waited for: a beat, so that what hangs is seen when that was asked for; of what is usually slower, four times
    /// as long as it usually takes, so that it is not taken for hanging; in any case 250 ms at least and 10 s at most.
    /// </summary>
    /// <param name="took">How long the last good answers took; none: it is not known yet what is usual.</param>
    internal static TimeSpan LimitOf(TimeSpan beat, IReadOnlyCollection<TimeSpan> took)
    {
        var slow = took.Count == 0 ? FirstLimit : took.Order().ElementAt(took.Count / 2) * SlowerThanUsual;
        return TimeSpan.FromMilliseconds(
            Math.Clamp(
                Math.Ceiling((slow > beat ? slow : beat).TotalMilliseconds),
                ShortestLimit.TotalMilliseconds,
                LongestLimit.TotalMilliseconds
            )
        );
    }

    private Func<CancellationToken, Task<Sight>> Silence(SilenceWatch watch, long began)
    {
        var output = new ChangeClock(
            () => Segments.Written(tools.Places.OutputDirectoryOf(definition.Name)),
            clocks.Time
        );
        return Now(() => AgeOf(output.Age(), began, watch.Longest, "it has printed nothing", "it printed something"));
    }

    private Func<CancellationToken, Task<Sight>> Fresh(FreshFileWatch watch, long began)
    {
        var file = new ChangeClock(watch.Path, clocks.Time);
        return Now(() =>
            AgeOf(file.Age(), began, watch.Oldest, $"{watch.Path} has not been written", $"{watch.Path} was written")
        );
    }

    private Func<CancellationToken, Task<Sight>> Paused(PausedWatch watch)
    {
        TimeSpan? since = null;
        return Now(() =>
        {
            // Its keeper tells at once, but for a process that was stopped before it was the keeper's, and a keeper of an earlier
            // version. What a fall's evidence shows of memory and processor comes from here, too.
            var sample = vitals.Look(actor.PausedSince is null && since is null ? watch.Beat / 2 : TimeSpan.Zero);
            var stopped = actor.Situation.Run?.Pid is { } pid && sample.Paused.Contains(pid);
            since = stopped ? actor.PausedSince ?? since ?? clocks.Forward : null;
            if (since is not { } from)
                return new(null, "its main process is not stopped by a signal");
            var length = clocks.Forward - from;
            return length >= watch.Longest
                ? new(
                    $"its main process has been kept stopped by a signal for {About(length)}: it has its "
                        + $"number still, but does nothing",
                    ""
                )
                : new(
                    null,
                    $"its main process has been stopped by a signal for {About(length)}",
                    watch.Longest - length
                );
        });
    }

    private Sight Asks(QuestionWatch watch)
    {
        if (actor.Situation.Run?.Asks is not var (question, at))
            return new(null, "it asks nothing");
        var length = clocks.Now - question.Since;
        return length >= watch.Longest
            ? new($"for {About(length)} it probably {Asked.InWords(question.Text, at)}", "")
            : new(null, "it has not asked for long", watch.Longest - length);
    }

    private Sight Still(StillWatch watch, long began) =>
        actor.Window.Wrong is { } wrong
            ? throw new IOException(wrong)
            : AgeOf(
                actor.Window.ChangedStamp == 0 ? null : clocks.Time.GetElapsedTime(actor.Window.ChangedStamp),
                began,
                watch.Longest,
                "what its window shows has not changed",
                "what its window shows changed"
            );

    private Func<CancellationToken, Task<Sight>> Ceiling(CeilingWatch watch)
    {
        var ended = EndedForMemory();
        return Now(() =>
        {
            var (before, now) = (ended, EndedForMemory());
            ended = now;
            // Its main process may live on, and nothing else would ever tell.
            return now > before
                ? new(
                    $"the kernel has ended {now - before} of its processes, for together they reached its limit "
                        + $"of {Size.Write(definition.Resources.Memory ?? 0)}",
                    ""
                )
                : Ahead(watch, watch.Beat);
        });
    }

    private static Func<CancellationToken, Task<Sight>> Now(Func<Sight> look) => _ => Task.FromResult(look());

    /// <summary>
    /// Something that must happen at least so often: how long ago it was, or has been since the watch began.
    /// </summary>
    private Sight AgeOf(TimeSpan? age, long began, TimeSpan longest, string not, string did)
    {
        var watched = clocks.Time.GetElapsedTime(began);
        var so = age is { } known && known < watched ? known : watched;
        if (so < longest)
            return new(null, age is { } ago ? $"{did} {About(ago)} ago" : "it has only just started", longest - so);
        return new($"{not} for {About(so)}", "");
    }

    private Func<CancellationToken, Task<Sight>> Leveled(
        Watch watch,
        Func<VitalSample, long> measure,
        long most,
        Func<long, string> words,
        string what,
        string limit
    ) =>
        Now(() =>
            measure(vitals.Look(watch.Beat / 2)) is var value && value > most
                ? new($"{what} {words(value)}, above {limit}", "")
                : new(null, $"{what} {words(value)}, of {limit}")
        );

    private Sight Ahead(CeilingWatch watch, TimeSpan every)
    {
        if (definition.Resources.Memory is not { } ceiling)
            return new(null, "it has no memory limit (resources.memory)");
        var (sample, growth) = vitals.Growth(every / 2);
        if (growth is not { } trend)
            return new(null, $"its memory is {Size.About(sample.Memory)}; too few looks yet to say how it grows");
        if (trend.Until(sample.Memory, ceiling) is not { } left)
            return new(
                null,
                $"its memory is {Size.About(sample.Memory)} of {Size.Write(ceiling)} and does not grow steadily"
            );
        var grows =
            $"its memory is {Size.About(sample.Memory)} and grows by {Size.About((long)(trend.PerSecond * 60))} a "
            + $"minute; at that rate it reaches its limit of {Size.Write(ceiling)} in about {About(left)}";
        return left <= watch.Within ? new(grows, "") : new(null, grows);
    }

    private static string Plain(long number) => number.ToString(CultureInfo.InvariantCulture);

    /// <summary>A length as people say it: 340 ms, 12 s, 4 min, 3 h.</summary>
    private static string About(TimeSpan length) =>
        length switch
        {
            { TotalSeconds: < 1 } => string.Create(CultureInfo.InvariantCulture, $"{length.TotalMilliseconds:0} ms"),
            { TotalSeconds: < 120 } => string.Create(CultureInfo.InvariantCulture, $"{length.TotalSeconds:0.#} s"),
            { TotalMinutes: < 120 } => string.Create(CultureInfo.InvariantCulture, $"{length.TotalMinutes:0} min"),
            _ => string.Create(CultureInfo.InvariantCulture, $"{length.TotalHours:0.#} h"),
        };
}
