using System.Collections.Concurrent;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Plans;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Troubles;
using CalmSentry.Store;

namespace CalmSentry.Engine.Swaps;

/// <summary>
/// Carries swaps out, at most one a service: each is on record before its deeds are done, and is taken up again by the server
/// that follows.
/// </summary>
internal sealed class SwapRoom(
    Registry registry,
    PlanRoom plans,
    SentryStore store,
    Record logbook,
    RunTools tools,
    Clocks clocks
)
{
    private readonly ConcurrentDictionary<ServiceId, Live> live = [];

    /// <summary>A swap at work, or (no swap yet) new files being looked at.</summary>
    private sealed class Live(Swap? swap, ClockStamp frame, Action<string>? say, TaskCreationOptions promises)
    {
        /// <summary>Makes new files ready for what lies there; null: whoever asked for them is gone with the server that was lost.</summary>
        public Func<Task<Prepared>>? Look { get; init; }

        /// <summary>How often that was done once it was stopped.</summary>
        public int Looks { get; set; }

        /// <summary>Why it did not come to new files when that was last done.</summary>
        public Problem? Refused { get; set; }

        /// <summary>Something else lies where the files were to be exchanged.</summary>
        public bool Other { get; set; }

        public Swap? Swap { get; set; } = swap;

        /// <summary>The directory whose files it is about, once that is known.</summary>
        public string? Directory { get; set; } = swap?.Directory;

        private ClockStamp frame = frame;

        public ClockStamp Frame => frame;

        /// <summary>Now; when the host's clock was set since the last time, what is waited for keeps its length.</summary>
        public DateTimeOffset At(ClockStamp now)
        {
            Swap = Swap!.Shifted(ClockStamp.Advance(ref frame, now));
            return now.Wall;
        }

        public Action<string>? Say { get; set; } = say;

        /// <summary>Why the files could not be exchanged when that was last tried.</summary>
        public string? Stuck { get; set; }

        public TaskCompletionSource<Swap> Over { get; } = new(promises);

        public required Engagement Engagement { get; init; }

        /// <summary>What of the sentry's own is in the way, as it was last said; null: nothing.</summary>
        public string? Own { get; set; }
    }

    /// <summary>Whether new files of a service are under way, and how far, as a clause; null: none are.</summary>
    public string? UnderWay(ServiceId service) =>
        !live.TryGetValue(service, out var one) ? null
        : one.Swap is { } swap ? SwapWords.Doing(swap)
        : "new files are being looked at";

    /// <summary>Those of the server before, until they are taken up.</summary>
    private IReadOnlyDictionary<ServiceId, Swap> before = new Dictionary<ServiceId, Swap>();

    /// <summary>Whether a run was begun with new files that are judged by how it fares.</summary>
    public bool Judges(ServiceId service, RunNumber run) =>
        (live.TryGetValue(service, out var one) ? one.Swap : before.GetValueOrDefault(service))
            is { Step: SwapStep.Beginning or SwapStep.Watching } swap
        && run > swap.From;

    /// <summary>Takes the one place there is for swaps of a service; false: it is taken.</summary>
    /// <exception cref="BusyException">Somebody else has it in hand.</exception>
    public bool Take(ServiceActor actor, Principal by)
    {
        var one = new Live(null, clocks.Stamp, null, clocks.Promises) { Engagement = Hand(actor.Id, by, clocks.Now) };
        if (!live.TryAdd(actor.Id, one))
            return false;
        try
        {
            registry.InHand.Take([actor.Definition.Name], one.Engagement);
            return true;
        }
        catch (BusyException)
        {
            live.TryRemove(KeyValuePair.Create(actor.Id, one));
            throw;
        }
    }

    private Engagement Hand(ServiceId service, Principal by, DateTimeOffset began) =>
        new("a swap", by, began, () => UnderWay(service) ?? "it is nearly over");

    private readonly Lock claiming = new();

    /// <summary>Takes a directory, too: two services may have the same one.</summary>
    /// <returns>Whose new files are under way in it, in one above or below it; null: it is taken.</returns>
    public ServiceActor? Claim(ServiceId service, string directory)
    {
        lock (claiming)
        {
            foreach (var (other, one) in live)
                if (other != service && one.Directory is { } theirs && Overlap(directory, theirs))
                    return registry.WithId(other);
            live[service].Directory = directory;
            return null;
        }
    }

    private static bool Overlap(string one, string other) =>
        $"{one}/".StartsWith($"{other}/", StringComparison.Ordinal)
        || $"{other}/".StartsWith($"{one}/", StringComparison.Ordinal);

    /// <summary>Gives that place back, when no swap was begun.</summary>
    public void Leave(ServiceId service)
    {
        if (live.TryGetValue(service, out var one) && one.Swap is null)
            Over(service, one);
    }

    private void Over(ServiceId service, Live one)
    {
        live.TryRemove(KeyValuePair.Create(service, one));
        registry.InHand.Leave(one.Engagement);
    }

    /// <summary>Begins a swap, which goes on whether or not somebody waits for it. Its place is taken.</summary>
    /// <param name="prepared">On record already; null: it is stopped first, for its files do not stay as they are.</param>
    /// <param name="look">Makes new files ready while it is stopped.</param>
    /// <returns>The swap as it ended, and why there were no new files for it.</returns>
    public async Task<(Swap Swap, Problem? Refused)> Begin(
        FilesAsked asked,
        Prepared? prepared,
        Func<Task<Prepared>> look
    )
    {
        var actor = asked.Actor;
        var one = new Live(prepared?.Swap ?? StoppedFirst(asked), clocks.Stamp, asked.Say, clocks.Promises)
        {
            Look = look,
            Engagement = live[actor.Id].Engagement,
        };
        live[actor.Id] = one;
        _ = clocks.Run(() => Follow(actor.Id, one, resumed: false));
        var swap = await one.Over.Task;
        return (swap, one.Refused);
    }

    private Swap StoppedFirst(FilesAsked asked)
    {
        var actor = asked.Actor;
        var versions = store.Versions(actor.Id);
        var present = versions.FirstOrDefault(one => one.Present);
        return new()
        {
            By = asked.By,
            Began = clocks.Now,
            Directory = live[actor.Id].Directory ?? ServiceFiles.DirectoryOf(actor.Definition, tools.Places)!,
            Before = new(present?.Number ?? 1, present?.Identity ?? ""),
            // Until the new files are ready that is their number, and they are nowhere.
            Version = new(
                asked.Order.Back is > 0 and var back
                    ? back
                    : Math.Max(1, versions.Count == 0 ? 1 : versions[0].Number) + 1,
                ""
            ),
            WatchFor = TimeSpan.Zero,
            Dependents = [.. asked.Dependents],
            IsJob = actor.Definition.IsJob,
            WasUp = !actor.Definition.IsJob && actor.Situation.Lives,
            Step = SwapStep.Looking,
        };
    }

    /// <summary>Versions are on record, and on the disk, before anything is exchanged for them.</summary>
    /// <exception cref="IOException">They cannot be brought to the disk.</exception>
    public void Record(ServiceActor actor, Prepared prepared)
    {
        using (var files = ServiceFiles.Open(tools, actor.Id, prepared.Swap.Directory))
        using (var next = files.Kept(prepared.Swap.Version.Number))
            next.Flush(all: true);
        foreach (var version in prepared.Unrecorded)
            store.SetVersion(actor.Id, version);
        if (prepared.Unrecorded.FirstOrDefault(version => version.Present) is { } present)
            store.SetPresent(actor.Id, present.Number);
        logbook.Note(
            actor,
            new SwapBeganEntry(prepared.Swap.Version.Number, prepared.Plan.Source, $"{prepared.Swap.Before.Number}"),
            prepared.Swap.By
        );
    }

    /// <summary>
    /// Before services are taken up: an exchange in which a server was lost is finished, so that nothing is begun from a mixture.
    /// </summary>
    public void Settle()
    {
        before = store.Swaps().Where(one => one.Swap is not null).ToDictionary(one => one.Service, one => one.Swap!);
        foreach (var (service, swap) in before)
        {
            if (SwapLife.Wanted(swap) is not { } wanted)
                continue;
            try
            {
                using var files = ServiceFiles.Open(tools, service, swap.Directory);
                // Files are exchanged under nobody: of what is half done nothing lives.
                if (Whole(files, swap) is not null)
                    continue;
                if (Bring(files, swap, wanted) is { } why)
                    logbook.Trouble(
                        $"New files were being put in at {swap.Directory} when the sentry ended, and {why}."
                    );
                else
                    store.SetPresent(service, wanted.Number);
            }
            catch (IOException error)
            {
                logbook.Trouble($"New files were being put in at {swap.Directory}: {error.Message}.");
            }
        }
    }

    /// <summary>Goes on with what the server before had under way.</summary>
    public void TakeUp()
    {
        foreach (var (service, swap, saved) in store.Swaps())
        {
            if (swap is null || registry.WithId(service) is not { } actor)
            {
                store.RemoveSwap(service);
                continue;
            }

            logbook.Note(actor, new PlanTakenUpEntry(SwapWords.Name), swap.By);
            var one = live[service] = new(swap, saved ?? clocks.Stamp, null, clocks.Promises)
            {
                Engagement = Hand(service, swap.By, swap.Began),
            };
            registry.InHand.TakeUp([actor.Definition.Name], one.Engagement);
            _ = clocks.Run(() => Follow(service, one, resumed: true));
        }

        before = new Dictionary<ServiceId, Swap>();
    }

    private async Task Follow(ServiceId service, Live one, bool resumed)
    {
        try
        {
            await Journaled.ToItsEnd(
                resumed,
                taken => Go(service, one, taken),
                () => store.RemoveSwap(service),
                unexpected => logbook.Failed($"a swap of {one.Swap!.Directory}", unexpected),
                pause => clocks.Delay(pause)
            );
        }
        finally
        {
            Over(service, one);
            one.Over.TrySetResult(one.Swap!);
        }
    }

    private async Task Go(ServiceId service, Live one, bool resumed)
    {
        if (!resumed)
        {
            // On record before anything of it is done: whatever is lost from here on, the next server goes on with it.
            store.SetSwap(service, one.Swap!, one.Frame);
            await store.Flush();
        }

        while (one.Swap!.Step != SwapStep.Done && registry.WithId(service) is { } actor)
        {
            var change = registry.Readiness.NextChange();
            var (now, deed) = (one.At(clocks.Stamp), SwapDeed.None);
            try
            {
                (var after, deed) = SwapLife.Step(one.Swap, StandingOf(actor, one), now, resumed);
                resumed = false;
                await Take(actor, one, after, deed);
                one.Own = null;
            }
            catch (OwnTroubleException own)
            {
                // It says nothing of the files: it is waited out.
                if (one.Own != own.Message)
                    actor.Trouble($"Its new files wait: {own.Message}. It is tried again until it can be done.");
                one.Own = own.Message;
                resumed = true;
                await clocks.Delay(OwnTroublePause);
                continue;
            }

            if (one.Swap.Step == SwapStep.Done)
                break;
            if (deed == SwapDeed.None)
                await Task.WhenAny(change, clocks.Delay(Wait(one.Swap, one.At(clocks.Stamp))));
            await clocks.Delay(Breath);
        }

        if (registry.WithId(service) is { } there)
            await End(there, one.Swap);
    }

    private static readonly TimeSpan Breath = TimeSpan.FromMilliseconds(1), // changes that come together are looked at together
        OwnTroublePause = TimeSpan.FromMilliseconds(500),
        Look = TimeSpan.FromSeconds(5); // what makes no change known is seen within that

    private static TimeSpan Wait(Swap swap, DateTimeOffset now) =>
        swap is { Step: SwapStep.Watching, ProvenAt: { } proven }
        && proven + swap.WatchFor - now is var left
        && left < Look
            ? left < TimeSpan.Zero
                ? Breath
                : left
            : Look;

    /// <summary>On record first, then done.</summary>
    private async Task Take(ServiceActor actor, Live one, Swap after, SwapDeed deed)
    {
        var before = one.Swap!;
        one.Swap = after;
        if (after != before)
            store.SetSwap(actor.Id, after, one.Frame);
        if (after.Step != before.Step && after.Step != SwapStep.Done)
            one.Say?.Invoke(SwapWords.Doing(after));
        switch (deed)
        {
            case SwapDeed.Stop:
                if (after.Dependents.IsEmpty)
                    await actor.Ask(new StopAsked(ByIt(after)));
                else
                    await plans.Stop(
                        after.Dependents.Append(actor.Definition.Name).ToHashSet(StringComparer.Ordinal),
                        ByIt(after)
                    );
                break;
            case SwapDeed.Look:
                await store.Flush();
                await LookAgain(actor, one);
                break;
            case SwapDeed.Exchange when SwapLife.Wanted(after) is { } wanted:
                await store.Flush();
                OwnTroubleException? own = null;
                await actor.Exchange(() => own = Exchange(actor, one, wanted));
                if (own is not null)
                    throw own;
                break;
            case SwapDeed.Begin:
                await store.Flush();
                await Start(actor.Definition.Name, after);
                foreach (var dependent in after.Dependents.Reverse())
                    await Start(dependent, after);
                break;
        }
    }

    /// <summary>Its own words are told from those of whoever has asked for it.</summary>
    public static Principal ByIt(Principal by) => new(by.Name, PrincipalKind.Swap);

    private static Principal ByIt(Swap swap) => ByIt(swap.By);

    /// <summary>Looks at a stopped program's files often enough that nothing it has left behind is in the way.</summary>
    private const int MostLooks = 3;

    /// <summary>Makes new files ready for what lies there now, in the place of those that were made for something else.</summary>
    private async Task LookAgain(ServiceActor actor, Live one)
    {
        var swap = one.Swap!;
        if (one.Other)
            Drop(actor, swap, "other files were put there meanwhile");
        one.Looks++;
        (one.Stuck, one.Other) = (null, false);
        try
        {
            var prepared = await one.Look!();
            await clocks.Run(() =>
            {
                Record(actor, prepared);
                return Task.CompletedTask;
            });
            one.Swap = prepared.Swap with { WasUp = swap.WasUp, Began = swap.Began };
            store.SetSwap(actor.Id, one.Swap, one.Frame);
        }
        catch (FilesNotTakenException error)
            when (error.Problem.Code != FilesNotTakenException.FilesMove || one.Looks == MostLooks)
        {
            one.Refused = error.Problem;
        }
        catch (FilesNotTakenException) { }
        catch (OwnTroubleException)
        {
            one.Looks--;
            throw;
        }
    }

    private void Drop(ServiceActor actor, Swap swap, string why)
    {
        if (swap.Version.Identity.Length == 0)
            return; // it never came to new files
        using var files = ServiceFiles.Open(tools, actor.Id, swap.Directory);
        if (store.Versions(actor.Id).FirstOrDefault(one => one.Number == swap.Version.Number) is { } failed)
            store.SetVersion(actor.Id, failed with { Failed = why });
        if (swap.IsNew && files.Present() != swap.Version.Identity)
            files.Drop(swap.Version.Number);
    }

    private async Task Start(string name, Swap swap)
    {
        if (registry.Named(name) is { } actor)
            await actor.Ask(new StartAsked(ByIt(swap), BringsBack: true));
    }

    /// <summary>Within a letter of its actor: nothing of it is begun meanwhile.</summary>
    /// <returns>Null, unless the sentry itself is at fault.</returns>
    private OwnTroubleException? Exchange(ServiceActor actor, Live one, FileVersion wanted)
    {
        try
        {
            using var files = ServiceFiles.Open(tools, actor.Id, one.Swap!.Directory);
            one.Stuck = Bring(files, one.Swap, wanted);
            one.Other =
                one is { Stuck: not null, Look: not null, Looks: < MostLooks }
                && files.IsOther(Both(one.Swap.Version), Both(one.Swap.Before), one.Swap.Data);
        }
        catch (OwnTroubleException own)
        {
            return own;
        }
        catch (IOException error)
        {
            one.Stuck = error.Message;
        }

        if (one.Stuck is null)
            store.SetPresent(actor.Id, wanted.Number);
        return null;
    }

    private static string? Bring(ProgramFiles files, Swap swap, FileVersion wanted) =>
        files.Bring(Both(wanted), Both(wanted == swap.Version ? swap.Before : swap.Version), swap.Data);

    private static long? Whole(ProgramFiles files, Swap swap) =>
        files.Whole(Both(swap.Before), Both(swap.Version), swap.Data);

    private static (long Number, string Identity) Both(FileVersion version) => (version.Number, version.Identity);

    private SwapStanding StandingOf(ServiceActor actor, Live one)
    {
        var (now, swap) = (actor.Situation, one.Swap!);
        long? whole = null;
        if (SwapLife.Wanted(swap) is not null)
        {
            try
            {
                using var files = ServiceFiles.Open(tools, actor.Id, swap.Directory);
                whole = Whole(files, swap);
            }
            catch (IOException error) when (error is not OwnTroubleException)
            {
                // Then it cannot be told: the exchange says why.
            }
        }

        return new(
            now.Lives,
            now.Phase == Phase.Stopping,
            now is { Phase: Phase.Running, Run: not null },
            now.LastRun,
            SwapWords.Failed(actor.Definition, now, swap.From),
            now.Asked is { What: AskedFor.Stop, By.Kind: PrincipalKind.Account },
            whole,
            one.Stuck,
            one.Other,
            one.Look is null ? "the sentry ended before its new files were ready" : Clause(one.Refused)
        );
    }

    private static string? Clause(Problem? refused) =>
        refused
            ?.Detail.Replace("\n", " ", StringComparison.Ordinal)
            .Replace(" Nothing was changed.", "", StringComparison.Ordinal)
            .TrimEnd('.');

    private async Task End(ServiceActor actor, Swap swap)
    {
        if (
            swap is { Why: { } why, Stuck: true }
            && store.Versions(actor.Id).FirstOrDefault(one => one.Number == swap.Version.Number) is { } stuck
        )
            // Data that goes along with the files may still lie there.
            store.SetVersion(actor.Id, stuck with { Failed = why });
        else if (swap.Why is { } reason)
            // What was only made for this goes; what came back and failed again is still kept.
            Drop(actor, swap, reason);
        else
            using (var files = ServiceFiles.Open(tools, actor.Id, swap.Directory))
                foreach (
                    var old in store
                        .Versions(actor.Id)
                        .Where(one => one.Number != swap.Version.Number && files.IdentityOf(one.Number) is not null)
                        .Skip(actor.Definition.Files.Versions)
                )
                    files.Drop(old.Number);

        logbook.Note(
            actor,
            swap switch
            {
                { Down: { } down } => new SwapDownEntry(swap.InPlace, down, swap.Why),
                { Why: { } reason } => new SwapReturnedEntry(
                    swap.Version.Number,
                    $"{swap.Before.Number}",
                    swap.FailedRun,
                    reason
                ),
                _ => new SwappedEntry(
                    swap.Version.Number,
                    $"{swap.Before.Number}",
                    swap.ProvenAt is null ? null : swap.WatchFor
                ),
            },
            swap.By,
            tells: swap.Why is not null
        );
        await store.Kept();
    }
}
