using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Watching;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Services;

/// <summary>The actor's part in a wind-down: steps that are more than a signal.</summary>
internal sealed partial class ServiceActor
{
    /// <summary>A program kept stopped by a signal would not hear that it is to end: it is let go on.</summary>
    private void Rouse()
    {
        const int goOn = 18;
        if (Situation.Run?.Pid is { } pid && ProcessVitals.Of(pid)?.State == 'T')
            keeper?.Send(new Message(KeeperWord.Signal).With("number", goOn).With("to", "tree"));
    }

    private void TakeStep(PerformStep perform)
    {
        stepIndex = perform.Index;
        stepLook?.Cancel();
        stepLook = new();
        var taker = new StepTaker(Definition, house.Tools, Site(perform.Run), Situation.Run?.Pid, GiveInput);
        var mine = step = taker.Take(Definition.WindDown[perform.Index], stepLook.Token);
        _ = mine.ContinueWith(
            done => Post(() => ReferenceEquals(step, mine) ? HearStep(perform.Run) : Task.CompletedTask, null),
            house.Clocks.Tasks
        );
    }

    /// <summary>A step that a running program is told something by, outside a wind-down; what came of it.</summary>
    public Task<StepEffect> Perform(WindDownStep told, RunNumber run)
    {
        var done = new TaskCompletionSource<StepEffect>(house.Clocks.Promises);
        var posted = Post(
            async () =>
            {
                if (Situation is not { Phase: Phase.Running, Run: { } live } || live.Number != run)
                    done.TrySetResult(new($"run {run} is over", Failed: true));
                else if (told is SignalStep signal)
                {
                    await Carry(new SendSignal(run, signal.Signal, signal.WholeTree));
                    done.TrySetResult(new("it was sent", Failed: false));
                }
                else
                    _ = house.Clocks.Run(() => Take(live));
            },
            null
        );
        if (!posted)
            done.TrySetResult(new("the sentry is going down", Failed: true));
        return done.Task;

        async Task Take(LiveRun live)
        {
            var effect = await new StepTaker(Definition, house.Tools, Site(run), live.Pid, GiveInput).Take(
                told,
                default
            );
            done.TrySetResult(
                effect ?? new($"nothing came back within {Duration.Write(told.Wait)}", told is not SendStep)
            );
        }
    }

    /// <summary>How long a terminal may take to take an answer.</summary>
    private static readonly TimeSpan AnswerLimit = TimeSpan.FromSeconds(5);

    /// <summary>Gives a known question its answer, in whatever state the run is; not before it is on record that it has it.</summary>
    private void Answer(GiveAnswer give)
    {
        var taker = new StepTaker(Definition, house.Tools, Site(give.Run), Situation.Run?.Pid, GiveInput);
        _ = house.Clocks.Run(async () =>
        {
            string? failed;
            try
            {
                await house.Store.Flush();
                // A store that was held up may have taken its time: by now it may be asked something else.
                if (!QuestionLook.Stands(this, give, house.Tools))
                    return;
                var text = give.Known.With ?? house.Tools.Secrets.Open(Definition.Name, give.Known.Secret!) + "\n";
                var effect = await taker.Take(new SendStep(text, new SendTo(SendKind.Input, ""), AnswerLimit), default);
                failed = effect is { Failed: false } ? null : effect?.Answer ?? "its terminal did not take it";
            }
            catch (IOException error)
            {
                failed = error.Message;
            }

            if (failed is not null)
                Trouble($"What it asks at its terminal could not be answered: {failed}.");
        });
    }

    /// <summary>Takes in what came of the step under way, if anything has.</summary>
    private async Task HearStep(RunNumber run)
    {
        if (step is not { IsCompletedSuccessfully: true, Result: { } effect })
            return;
        step = null;
        await Apply(new StepAnswered(run, stepIndex, effect.Answer, effect.Failed));
    }

    private Task<int> GiveInput(Message order, CancellationToken cancellation)
    {
        var taken = new TaskCompletionSource<int>(house.Clocks.Promises);
        Post(
            () =>
            {
                inputs.Enqueue(taken);
                keeper?.Send(order);
                return Task.CompletedTask;
            },
            null
        );
        return taken.Task.WaitAsync(cancellation);
    }
}
