using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Tests.Unit.Lifecycle;

/// <summary>A simulated machine with one service on it: carries deeds out as the server would, and checks the laws at every step.</summary>
internal sealed class World(Definition definition)
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    private DateTimeOffset? lastEnd;
    private long highestRun;

    public DateTimeOffset Now { get; private set; } = Start;

    public Situation Situation { get; private set; } = Situation.New(Start);

    /// <summary>The run that is really there, as the kernel would know it.</summary>
    public long? Live { get; private set; }

    public bool Forgotten { get; private set; }

    public List<Deed> Done { get; } = [];

    public int Launches => Done.OfType<Launch>().Count();

    public void Happens(Happening happening)
    {
        if (Forgotten) return;
        var before = Situation;
        var turn = ServiceLife.Step(definition, before, happening, Now);
        // What is switched on lives on when its start command has ended.
        if (happening is RunEnded ended && ended.Run == Live && turn.After.Run?.Number != ended.Run)
        {
            Live = null;
            lastEnd = Now;
        }

        Situation = turn.After;
        foreach (var deed in turn.Deeds) Carry(deed, before, happening);
        CheckSituation();
    }

    public void Passes(TimeSpan time) => Now += time;

    /// <summary>Lets time run to the next decision that is due. False when none is.</summary>
    public bool PassToNextDecision()
    {
        if (Situation.WakeAt is not { } at) return false;
        if (at > Now) Now = at;
        Happens(new TimeCame());
        return true;
    }

    public void Launch() => Happens(new Launched(Live!.Value, 4711));

    public void End(Outcome outcome) => Happens(new RunEnded(Live!.Value, outcome));

    private void Carry(Deed deed, Situation before, Happening cause)
    {
        Assert.False(Forgotten, "nothing is done for a service that was removed");
        Done.Add(deed);
        switch (deed)
        {
            case Launch launch:
                Assert.Null(Live); // never two runs at once
                Assert.True(launch.Run > highestRun, "a run's number is never used twice");
                Assert.False(before.Phase == Phase.Held && cause is not (StartAsked or RestartAsked or MachineBegan), "held never launches by itself");
                if (launch.Cause == Cause.Recovery && lastEnd is { } end) Assert.True(Now - end >= definition.Recover.First, "no restart comes sooner than its pause");
                (Live, highestRun) = (launch.Run, launch.Run);
                break;
            case SendSignal signal:
                Assert.Equal(Live, signal.Run);
                break;
            case EndTree all:
                Assert.Equal(Live, all.Run);
                break;
            case FindMain find:
                Assert.Equal(Live, find.Run);
                Assert.Equal(ProgramKind.Detaches, definition.Program.Kind);
                break;
            case SwitchOff off:
                Assert.Equal(Live, off.Run);
                Assert.Equal(ProgramKind.Toggles, definition.Program.Kind);
                break;
            case Dismiss:
                Assert.True(Live is null || Situation.Run is { Switch: Switch.On }, "a keeper with a process is never dismissed");
                break;
            case Forget:
                Assert.Null(Live);
                Forgotten = true;
                break;
        }
    }

    private void CheckSituation()
    {
        Assert.Equal(Live, Situation.Run?.Number);
        Assert.Equal(Situation.Run is not null, Situation.Phase is Phase.Starting or Phase.Running or Phase.Stopping);
        if (Situation.Phase == Phase.Waiting) Assert.NotNull(Situation.WakeAt); // waiting never waits for nothing
        if (Situation.Phase is Phase.Stopped or Phase.Held) Assert.Null(Situation.WakeAt);
        var sentence = Core.Wording.Explanation.Of(definition, Situation, TimeZoneInfo.Utc);
        Assert.EndsWith(".", sentence, StringComparison.Ordinal);
    }
}
