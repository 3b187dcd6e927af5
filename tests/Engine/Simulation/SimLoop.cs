namespace CalmSentry.Tests.Engine.Simulation;

/// <summary>
/// One thread on which everything happens, in an order that a seed decides: of all that is ready any may be next, and
/// when nothing is, the clock goes on to the next moment anybody waits for.
/// </summary>
internal sealed class SimLoop(int seed)
{
    private readonly List<(SimServerTime? Of, Action Do)> ready = [];
    private readonly PriorityQueue<SimTimer, (long Due, long Order)> timers = new();
    private readonly int thread = Environment.CurrentManagedThreadId;
    private long order;

    public Random Random { get; } = new(seed);

    /// <summary>Ticks that have passed, by the clock that only goes forward.</summary>
    public long Now { get; private set; } = TimeSpan.TicksPerDay;

    /// <summary>By how much people's clock was set.</summary>
    public TimeSpan Set { get; set; }

    public long Steps { get; private set; }

    /// <summary>What came from another thread: then a seed decides no longer.</summary>
    public string? Escaped { get; private set; }

    public DateTimeOffset Wall => new DateTimeOffset(2026, 11, 1, 0, 0, 0, TimeSpan.Zero).AddTicks(Now) + Set;

    public bool Chance(double of) => Random.NextDouble() < of;

    public TimeSpan Between(double fromMs, double toMs) =>
        TimeSpan.FromMilliseconds(fromMs + ((toMs - fromMs) * Random.NextDouble()));

    public void Ready(SimServerTime? of, Action what)
    {
        if (Environment.CurrentManagedThreadId != thread)
        {
            Escaped ??= Environment.StackTrace;
            return;
        }

        ready.Add((of, what));
    }

    /// <summary>Something of the world, not of a server.</summary>
    public void After(TimeSpan length, Action what) => Arm(new SimTimer(null, what), length);

    public void Arm(SimTimer timer, TimeSpan length)
    {
        if (Environment.CurrentManagedThreadId != thread)
            Escaped ??= Environment.StackTrace;
        timer.Armed = ++order;
        timers.Enqueue(timer, (Now + Math.Max(0, length.Ticks), order));
    }

    /// <summary>One thing happens; false: nothing ever will again.</summary>
    public bool Step()
    {
        Steps++;
        while (timers.TryPeek(out var first, out var at) && (first.Gone || first.Armed != at.Order))
            timers.Dequeue();
        // Threads are slow at times: what is due may come before what is ready.
        var soon = timers.TryPeek(out _, out var due) && due.Due - Now < TimeSpan.TicksPerMillisecond * 30;
        if (ready.Count > 0 && !(soon && Chance(0.03)))
        {
            var which = Random.Next(ready.Count);
            var (of, what) = ready[which];
            ready[which] = ready[^1];
            ready.RemoveAt(ready.Count - 1);
            if (of is not { Dead: true })
                what();
            return true;
        }

        if (!timers.TryDequeue(out var timer, out due))
            return false;
        Now = Math.Max(Now, due.Due);
        timer.Armed = 0;
        timer.Rings();
        return true;
    }

    /// <summary>Lets a length of time pass.</summary>
    public void Pass(TimeSpan length)
    {
        var over = false;
        After(length, () => over = true);
        while (!over && Step()) { }
    }
}

internal sealed class SimTimer(SimServerTime? of, Action rings) : ITimer
{
    private TimeSpan period = Timeout.InfiniteTimeSpan;

    public long Armed { get; set; }

    public bool Gone { get; private set; }

    public void Rings()
    {
        if (of is { Dead: true })
            return;
        if (period > TimeSpan.Zero && of is not null)
            of.Loop.Arm(this, period);
        rings();
    }

    public bool Change(TimeSpan dueTime, TimeSpan period)
    {
        this.period = period;
        Armed = 0;
        if (!Gone && dueTime != Timeout.InfiniteTimeSpan)
            of!.Loop.Arm(this, dueTime);
        return !Gone;
    }

    public void Dispose() => Gone = true;

    public ValueTask DisposeAsync()
    {
        Dispose();
        return ValueTask.CompletedTask;
    }
}

/// <summary>The clock and the threads of one server; with it they are gone.</summary>
internal sealed class SimServerTime(SimLoop loop)
{
    public SimLoop Loop => loop;

    public bool Dead { get; set; }

    public TimeProvider Clock => clock ??= new SimClock(this);

    public TaskScheduler Tasks => tasks ??= new SimTasks(this);

    private SimClock? clock;
    private SimTasks? tasks;

    private sealed class SimClock(SimServerTime of) : TimeProvider
    {
        public override DateTimeOffset GetUtcNow() => of.Loop.Wall;

        public override long GetTimestamp() => of.Loop.Now;

        public override long TimestampFrequency => TimeSpan.TicksPerSecond;

        public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period)
        {
            var timer = new SimTimer(of, () => callback(state));
            timer.Change(dueTime, period);
            return timer;
        }
    }

    private sealed class SimTasks(SimServerTime of) : TaskScheduler
    {
        protected override void QueueTask(Task task) => of.Loop.Ready(of, () => TryExecuteTask(task));

        protected override bool TryExecuteTaskInline(Task task, bool taskWasPreviouslyQueued) => false;

        protected override IEnumerable<Task> GetScheduledTasks() => [];
    }
}
