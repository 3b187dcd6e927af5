using System.Threading.Channels;
using CalmSentry.Contract.Api;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Native;
using CalmSentry.Server.Keepers;

namespace CalmSentry.Server.Services;

/// <summary>
/// One service at work. Everything that happens to it goes through one channel with one reader, so it needs no lock; the
/// core decides, this carries the deeds out.
/// </summary>
internal sealed class ServiceActor : IDisposable
{
    private readonly House house;
    private readonly Action<ServiceActor> forget;
    private readonly Channel<Func<Task>> letters = Channel.CreateUnbounded<Func<Task>>(new UnboundedChannelOptions { SingleReader = true });
    private readonly List<Waiter> waiters = [];
    private readonly ITimer timer;
    private readonly string runDirectory;
    private KeeperLink? keeper;
    private Task keeperGone = Task.CompletedTask;
    private bool forgotten;
    private int outputStuck;
    private DateTimeOffset? armedFor;

    private sealed record Waiter(Func<Situation, bool> Met, TaskCompletionSource<Situation> Done);

    public ServiceActor(House house, Definition definition, int revision, Situation situation, Action<ServiceActor> forget)
    {
        (this.house, Definition, Revision, Situation, this.forget) = (house, definition, revision, situation, forget);
        runDirectory = house.Places.RunOf(definition.Name);
        timer = house.Clock.CreateTimer(_ => Post(Wake, null), null, Timeout.InfiniteTimeSpan, Timeout.InfiniteTimeSpan);
        View = ServiceViews.Of(this);
        _ = Task.Run(Work);
    }

    public Definition Definition { get; }

    public int Revision { get; }

    public Situation Situation { get; private set; }

    /// <summary>errno while output cannot be written, else 0.</summary>
    public int OutputStuck => outputStuck;

    /// <summary>The latest state as people see it; replaced whole.</summary>
    public ServiceView View { get; private set; }

    /// <summary>Where this run's output begins in the output file.</summary>
    public long OutputBegan { get; private set; }

    /// <summary>Lets something happen and returns the situation it led to at once.</summary>
    public Task<Situation> Ask(Happening happening)
    {
        var done = new TaskCompletionSource<Situation>(TaskCreationOptions.RunContinuationsAsynchronously);
        if (!Post(() => Apply(happening), () => done.TrySetResult(Situation))) done.TrySetResult(Situation);
        return done.Task;
    }

    /// <summary>Completes as soon as the situation is as wanted, or the service is no more.</summary>
    public Task<Situation> Until(Func<Situation, bool> met, CancellationToken cancellation)
    {
        var waiter = new Waiter(met, new(TaskCreationOptions.RunContinuationsAsynchronously));
        var posted = Post(
            () =>
            {
                waiters.Add(waiter);
                return Task.CompletedTask;
            },
            CheckWaiters);
        if (!posted) waiter.Done.TrySetResult(Situation);
        return waiter.Done.Task.WaitAsync(cancellation);
    }

    /// <summary>Finds out what became of the service while no server watched. Before anything else is asked of it.</summary>
    public Task TakeUp(bool newBoot)
    {
        var done = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        Post(() => FindKeeper(newBoot), () => done.TrySetResult());
        return done.Task;
    }

    public void Dispose() => timer.Dispose();

    private bool Post(Func<Task> work, Action? then) => letters.Writer.TryWrite(async () =>
    {
        await work().ConfigureAwait(false);
        then?.Invoke();
    });

    private async Task Work()
    {
        await foreach (var letter in letters.Reader.ReadAllAsync().ConfigureAwait(false))
        {
            try
            {
                await letter().ConfigureAwait(false);
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                house.Log(Definition.Name, "trouble", error.Message);
            }

            if (forgotten) break;
        }

        letters.Writer.TryComplete();
        while (letters.Reader.TryRead(out var late)) await late().ConfigureAwait(false);
        Dispose();
    }

    private Task Apply(Happening happening) => Apply(happening, house.Now);

    private async Task Apply(Happening happening, DateTimeOffset now)
    {
        if (forgotten) return;
        var before = Situation;
        var turn = ServiceLife.Step(Definition, before, happening, now);
        Situation = turn.After;
        foreach (var deed in turn.Deeds) await Carry(deed).ConfigureAwait(false);
        if (ReferenceEquals(before, turn.After) && turn.Deeds.IsEmpty) return;
        Arm();
        Publish();
        if (!forgotten) house.Store.Save(Definition.Name, Situation);
        CheckWaiters();
    }

    /// <summary>The time armed for has passed, whatever the wall clock says: it may have been set meanwhile.</summary>
    private Task Wake() => Situation.WakeAt is { } due && due == armedFor ? Apply(new TimeCame(), house.Now < due ? due : house.Now) : Task.CompletedTask;

    private void Arm()
    {
        armedFor = Situation.WakeAt;
        if (Situation.WakeAt is not { } at)
        {
            timer.Change(Timeout.InfiniteTimeSpan, Timeout.InfiniteTimeSpan);
            return;
        }

        var wait = at - house.Now;
        timer.Change(wait > TimeSpan.Zero ? wait : TimeSpan.Zero, Timeout.InfiniteTimeSpan);
    }

    private void Publish()
    {
        if (forgotten) return;
        View = ServiceViews.Of(this);
        house.Events.Changed(View);
    }

    private void CheckWaiters()
    {
        foreach (var waiter in waiters.Where(waiter => forgotten || waiter.Met(Situation)).ToList())
        {
            waiters.Remove(waiter);
            waiter.Done.TrySetResult(Situation);
        }
    }

    private async Task Carry(Deed deed)
    {
        switch (deed)
        {
            case Launch launch:
                await Launch(launch).ConfigureAwait(false);
                break;
            case SendSignal signal:
                keeper?.Send(new Message(KeeperWord.Signal).With("number", SignalNames.Numbers[signal.Signal]).With("to", signal.WholeTree ? "tree" : "main"));
                break;
            case EndTree:
                keeper?.Send(new Message(KeeperWord.EndTree));
                break;
            case Dismiss:
                keeper?.Send(new Message(KeeperWord.Leave));
                keeper = null;
                break;
            case Note note:
                house.Log(Definition.Name, note.What, note.Text, note.By);
                break;
            case Forget:
                await Leave().ConfigureAwait(false);
                break;
        }
    }

    // Launching

    private async Task Launch(Launch launch)
    {
        outputStuck = 0;
        if (Account.Named(Definition.Account) is not { } account)
        {
            Refuse(launch.Run, $"this host has no account named {Definition.Account}; make it, or set another with --account");
            return;
        }

        try
        {
            var output = house.Places.OutputOf(Definition.Name);
            OutputBegan = File.Exists(output) ? new FileInfo(output).Length : 0;
            var fresh = keeper is null;
            if (fresh)
            {
                // The service's lock is free once the keeper before has gone for good.
                await keeperGone.ConfigureAwait(false);
                Prepare(account);
                Attach(KeeperLink.Start(house.Keepers, runDirectory));
            }

            keeper!.Send(LaunchOrder.Of(Definition, launch.Run, account, house.Places, house.Groups));
            house.Store.RunBegan(Definition.Name, Situation.Run!, Revision);
            if (fresh) house.Keepers.ReserveSoon();
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            Refuse(launch.Run, error.Message.TrimEnd('.'));
        }
    }

    private void Prepare(Account account)
    {
        Directory.CreateDirectory(runDirectory, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        Directory.CreateDirectory(house.Places.OutputDirectoryOf(Definition.Name));
        Ownership.MakeDirectory(house.Places.StateOf(Definition.Name), account);
    }

    private void Refuse(long run, string why)
    {
        house.Store.RunBegan(Definition.Name, Situation.Run!, Revision);
        Post(() => Over(run, new(OutcomeKind.NeverLaunched, Detail: why), house.Now, null, null), null);
    }

    private void Attach(KeeperLink link)
    {
        keeper = link;
        keeperGone = Task.Run(async () =>
        {
            while (await link.Next().ConfigureAwait(false) is var (word, body)) Post(() => Hear(word, body), null);
            await link.Buried().ConfigureAwait(false);
            Post(() => Gone(link), null);
        });
    }

    // What keepers tell

    private async Task Hear(KeeperWord word, byte[] body)
    {
        var run = Message.Number(body, "run");
        switch (word)
        {
            case KeeperWord.Launched:
                var pid = (int)Message.Number(body, "pid");
                await Apply(new Launched(run, pid)).ConfigureAwait(false);
                house.Store.RunLaunched(Definition.Name, run, pid, house.Now);
                break;
            case KeeperWord.MainEnded:
                await Apply(new MainEnded(run, Remains.Read(body))).ConfigureAwait(false);
                break;
            case KeeperWord.NeverLaunched or KeeperWord.TreeEnded:
                await Over(word, body).ConfigureAwait(false);
                break;
            case KeeperWord.OutputStuck or KeeperWord.OutputFlows:
                outputStuck = word == KeeperWord.OutputStuck ? (int)Message.Number(body, "errno") : 0;
                house.Log(Definition.Name, outputStuck != 0 ? "output-stuck" : "output-flows", outputStuck != 0
                    ? $"Its output cannot be written: {Names.Errno(outputStuck)}. Nothing is dropped; the program waits when it prints more."
                    : "Its output is written again.");
                Publish();
                break;
        }
    }

    private async Task Over(KeeperWord word, byte[] body)
    {
        var run = Message.Number(body, "run");
        if (word == KeeperWord.NeverLaunched)
        {
            var words = LaunchWords.Of(
                (LaunchStep)Message.Number(body, "step"), (int)Message.Number(body, "errno"), Definition,
                LaunchOrder.DirectoryOf(Definition, house.Places), house.Places.OutputOf(Definition.Name));
            await Over(run, new(OutcomeKind.NeverLaunched, Detail: words), house.Now, null, null).ConfigureAwait(false);
            return;
        }

        var at = DateTimeOffset.FromUnixTimeMilliseconds(Message.Number(body, "ended-ms", house.Now.ToUnixTimeMilliseconds()));
        await Over(run, Remains.Read(body), at, Message.Number(body, "peak-kib"), Message.Number(body, "cpu-us")).ConfigureAwait(false);
        if (Message.Number(body, "unwritten") is > 0 and var lost)
            house.Log(Definition.Name, "output-lost", $"The last {lost} bytes of run {run}'s output found no room on the disk and are lost.");
    }

    private async Task Over(long run, Outcome outcome, DateTimeOffset at, long? peakKib, long? cpuMicroseconds)
    {
        var whole = Situation.Run?.Number == run ? Situation.Run.MainOutcome ?? outcome : outcome;
        await Apply(new RunEnded(run, outcome), at).ConfigureAwait(false);
        house.Store.RunEnded(Definition.Name, run, whole, at, peakKib, cpuMicroseconds);
        DiscardOnceKept(run);
    }

    /// <summary>The keeper's note of an outcome may go only when the store has it for good.</summary>
    private void DiscardOnceKept(long run) =>
        _ = house.Store.Flush(soon: false).ContinueWith(_ => Remains.Discard(runDirectory, run), TaskScheduler.Default);

    private async Task Gone(KeeperLink link)
    {
        if (!ReferenceEquals(keeper, link)) return;
        keeper = null;
        if (Situation.Run is { } run) await FindOutcome(run.Number, sameBoot: true).ConfigureAwait(false);
    }

    // What became of it while nobody watched

    private async Task FindKeeper(bool newBoot)
    {
        if (KeeperLink.Find(runDirectory) is { } link && await link.Next().ConfigureAwait(false) is { Word: KeeperWord.Hello } hello)
        {
            Attach(link);
            if (Message.Text(hello.Body, "phase") != "idle")
            {
                await TakeUpRun(hello.Body).ConfigureAwait(false);
                return;
            }
        }

        var unseen = Remains.LatestRun(runDirectory);
        if (Situation.Run is { } run) await FindOutcome(run.Number, sameBoot: !newBoot).ConfigureAwait(false);
        else if (unseen > Situation.LastRun) await FindOutcome(unseen, sameBoot: true).ConfigureAwait(false);
        if (newBoot) await Apply(new MachineBegan()).ConfigureAwait(false);
        Arm();
    }

    private async Task TakeUpRun(byte[] hello)
    {
        var number = Message.Number(hello, "run");
        var pid = (int)Message.Number(hello, "pid");
        if (Situation.Run is { } earlier && earlier.Number < number && Remains.Outcome(runDirectory, earlier.Number) is { Word: KeeperWord.TreeEnded } known)
            house.Store.RunEnded(Definition.Name, earlier.Number, Remains.Read(known.Body), house.Now, null, null);
        await Apply(new TakenUp(number, pid)).ConfigureAwait(false);
        house.Store.RunBegan(Definition.Name, Situation.Run!, Revision);
        house.Store.RunLaunched(Definition.Name, number, pid, house.Now);
        if (Message.Text(hello, "phase") == "ending") await Apply(new MainEnded(number, Remains.Read(hello))).ConfigureAwait(false);
    }

    private async Task FindOutcome(long run, bool sameBoot)
    {
        if (Remains.Outcome(runDirectory, run) is { Word: KeeperWord.TreeEnded or KeeperWord.NeverLaunched } known)
        {
            await Over(known.Word, known.Body).ConfigureAwait(false);
            return;
        }

        if (sameBoot && await Remains.End(Definition, run, house.Places, house.Groups).ConfigureAwait(false) is > 0 and var ended)
            house.Log(Definition.Name, "remains-ended", $"Run {run} had lost its keeper; {ended} of its processes lived on without one and were ended.");
        await Over(run, new(sameBoot ? OutcomeKind.KeeperLost : OutcomeKind.MachineLost), house.Now, null, null).ConfigureAwait(false);
    }

    private async Task Leave()
    {
        forgotten = true;
        await keeperGone.ConfigureAwait(false);
        house.Store.Remove(Definition.Name);
        forget(this);
        if (Directory.Exists(runDirectory)) Directory.Delete(runDirectory, recursive: true);
        house.Log(Definition.Name, "unwrapped", "Unwrapped: nothing of it is registered any more.", Situation.Asked?.By);
        house.Events.Removed(Definition.Name);
    }
}
