using CalmSentry.Core.Entries;
using CalmSentry.Core.Settling;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Store;

namespace CalmSentry.Engine.Settling;

/// <summary>What came of a step.</summary>
/// <param name="Said">In sentences.</param>
/// <param name="Next">What to do where it failed.</param>
internal sealed record StepCame(bool Done, string Said, string? Next = null);

/// <summary>How steps of a settling are carried out: as the calls of the same kind are, with the same refusals.</summary>
internal interface ISettleSteps
{
    /// <param name="again">It was begun before, and it is not known whether it was done.</param>
    Task<StepCame> Do(Settlement settlement, SettleStep step, bool again, Action<string> say);
}

/// <summary>
/// Carries settlings out, one at a time: each step is on record before it is done, and is taken up again by the server that follows. It
/// stops at the first that fails.
/// </summary>
internal sealed class SettleRoom(Registry registry, SentryStore store, Record logbook, Clocks clocks)
{
    private readonly Lock gate = new();
    private Live? live;

    private sealed class Live(Settlement settlement, Action<string>? say, TaskCreationOptions promises)
    {
        public Settlement Settlement { get; set; } = settlement;

        public Action<string>? Say { get; } = say;

        public TaskCompletionSource<Settlement> Over { get; } = new(promises);
    }

    public ISettleSteps? Steps { get; set; }

    /// <summary>The one under way; null: none is.</summary>
    public Settlement? UnderWay => Volatile.Read(ref live)?.Settlement;

    /// <summary>The one under way, or the latest; null: nothing was ever settled.</summary>
    public Settlement? Latest => UnderWay ?? store.Settlement();

    /// <summary>The latest settling was to start a service, and did not come to that.</summary>
    public static bool Awaited(Settlement? latest, string service) =>
        latest is { Back: null }
        && latest.Steps.Any(step =>
            step.Name == service
            && step is { Deed: SettleDeed.Start or SettleDeed.Restart, State: not SettleState.Done }
        );

    /// <summary>Begins one, which goes on whether or not somebody waits for it.</summary>
    /// <param name="say">Hears what is done, a clause each.</param>
    /// <returns>The settling as it ended; null: another is under way, and nothing was begun.</returns>
    public Task<Settlement>? Begin(Settlement settlement, Action<string>? say)
    {
        var one = new Live(settlement, say, clocks.Promises);
        lock (gate)
        {
            if (live is not null)
                return null;
            live = one;
        }

        _ = clocks.Run(() => Follow(one, resumed: false));
        return one.Over.Task;
    }

    /// <summary>Goes on with what the server before had under way.</summary>
    public void TakeUp()
    {
        if (store.Settlement() is not { Ended: null } cut)
            return;
        logbook.Note(new SettleTakenUpEntry(cut.Number), cut.By);
        live = new Live(cut, null, clocks.Promises);
        _ = clocks.Run(() => Follow(live, resumed: true));
    }

    private async Task Follow(Live one, bool resumed)
    {
        try
        {
            await Journaled.ToItsEnd(
                resumed,
                taken => Go(one, taken),
                () => store.SetSettlementEnd(one.Settlement),
                unexpected => logbook.Failed("a settling", unexpected),
                clocks.Delay
            );
        }
        finally
        {
            lock (gate)
                live = null;
            one.Over.TrySetResult(one.Settlement);
        }
    }

    private async Task Go(Live one, bool resumed)
    {
        var begun = one.Settlement;
        if (!resumed)
        {
            store.SetSettlement(begun);
            logbook.Note(
                new SettleBeganEntry(begun.Number, begun.Back, begun.Directory, begun.Head, begun.Steps.Length),
                begun.By
            );
        }

        while (one.Settlement.Turn is >= 0 and var turn)
        {
            var step = one.Settlement.Steps[turn];
            var again = step.State == SettleState.Begun;
            if (!again)
                Put(one, turn, step = AsItIs(step) with { State = SettleState.Begun });
            await store.Kept();
            var came = store.Failure is { } failure
                ? new StepCame(false, $"The store cannot be written: {failure}.", "Free some space, then go on.")
                : await Steps!.Do(one.Settlement, step, again, text => one.Say?.Invoke(text));
            Put(one, turn, step with { State = came.Done ? SettleState.Done : SettleState.Failed, Said = came.Said });
            one.Settlement = one.Settlement with { Next = came.Next };
            one.Say?.Invoke(came.Said);
        }

        await End(one);
    }

    private async Task End(Live one)
    {
        var all = one.Settlement;
        if (all.Steps.All(step => step.State == SettleState.Done))
            await Marked(all);
        one.Settlement = all with { Ended = clocks.Now };
        store.SetSettlementEnd(one.Settlement);
        logbook.Note(
            new SettleEndedEntry(
                all.Number,
                all.Steps.FirstOrDefault(step => step.State == SettleState.Failed) is { } failed
                    ? $"{failed.What}: {failed.Said}"
                    : null
            ),
            all.By
        );
        await store.Kept();
    }

    /// <summary>Its services are as the files say; of one that undid another, of no files any more.</summary>
    public async Task Marked(Settlement settlement)
    {
        var settled = new SettledAs(0, clocks.Now, settlement.Directory, settlement.Head);
        foreach (var name in settlement.Settled)
            if (
                registry.Named(name) is { } actor
                && (
                    settlement.Back is not null
                    || actor is not { Apart: null, Files: { } files }
                    || (files.Directory, files.Head, files.Revision)
                        != (settled.Directory, settled.Head, actor.Revision)
                )
            )
                await actor.Settled(settlement.Back is null ? settled : null);
    }

    /// <summary>With what it finds, so that it can be undone.</summary>
    private SettleStep AsItIs(SettleStep step) =>
        registry.Named(step.Name) is { } actor
            ? step with
            {
                Before = store.Document(actor.Id),
                LastRun = actor.Situation.LastRun,
                Ran = actor.Situation.Run is not null,
            }
            : step;

    private void Put(Live one, int turn, SettleStep step)
    {
        one.Settlement = one.Settlement.With(turn, step);
        store.SetSettleStep(one.Settlement, turn);
    }
}
