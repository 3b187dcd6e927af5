using CalmSentry.Contract.Keeper;
using CalmSentry.Engine.Keepers;

namespace CalmSentry.Tests.Engine.Simulation;

/// <summary>How a program of the simulation is.</summary>
internal enum Temper
{
    Steady,

    /// <summary>Exits with code 1 after a while.</summary>
    Falls,

    /// <summary>Exits with code 0 after a while.</summary>
    Ends,

    /// <summary>Does not hear TERM.</summary>
    Stubborn,

    /// <summary>Takes two seconds for its end.</summary>
    Slow,

    /// <summary>Leaves another process that lives on for a while.</summary>
    Leaves,

    /// <summary>Cannot be executed now and then.</summary>
    Broken,

    /// <summary>Says itself that it is ready, a while after its launch.</summary>
    Speaks,
}

/// <summary>One process of a run.</summary>
internal sealed class SimProcess(string label, long run, int pid)
{
    public string Label => label;

    public long Run => run;

    public int Pid => pid;

    public bool Lives { get; set; } = true;

    /// <summary>Wait status, once it has ended.</summary>
    public int Status { get; set; }

    /// <summary>The kernel holds it until then: it does not end before.</summary>
    public long HeldUntil { get; set; }
}

/// <summary>
/// A machine: its processes and keepers, what lies in the run directories, its boots. It keeps the books that laws are
/// judged by, and no server can write in them.
/// </summary>
internal sealed class SimMachine(SimLoop loop)
{
    private int lastPid = 50_000_000; // no process of this host has such a number
    private readonly HashSet<(string Label, long Run)> launched = [];
    private long lostUntil;

    /// <summary>Runs that nobody need know of: what was known of them went with the machine, or the run directory.</summary>
    public HashSet<(string Label, long Run)> Lost { get; } = [];

    /// <summary>Every run there ever was.</summary>
    public IReadOnlySet<(string Label, long Run)> Launched => launched;

    public SimLoop Loop => loop;

    public int Boots { get; private set; } = 1;

    public List<SimProcess> Processes { get; } = [];

    public List<SimKeeper> Keepers { get; } = [];

    public Dictionary<(string Place, long Run), RunNote> Notes { get; } = [];

    public Dictionary<(string Place, long Run), (KeeperWord Word, byte[] Body)> Outcomes { get; } = [];

    /// <summary>By whom services were stopped, as it is noted in their places.</summary>
    public Dictionary<string, string> Stops { get; } = [];

    /// <summary>Control groups that are there.</summary>
    public HashSet<(string Label, long Run)> Groups { get; } = [];

    public Dictionary<string, Temper> Tempers { get; } = [];

    /// <summary>Which moment a run of a job was ordered for.</summary>
    public Dictionary<(string Label, long Run), DateTimeOffset> Moments { get; } = [];

    /// <summary>How often a moment's run is tried again.</summary>
    public Dictionary<string, int> Tries { get; } = [];

    public List<string> Violations { get; } = [];

    /// <summary>What the host does for nobody at the moment.</summary>
    public bool NoKeepers { get; set; }

    public bool NoNotes { get; set; }

    public bool NoDisk { get; set; }

    /// <summary>A server of this boot has been at work in the run directory as it is.</summary>
    public bool Remembers { get; set; }

    /// <summary>Whoever listens on a service's socket: the server that lives.</summary>
    public Action<string> Say { get; set; } = _ => { };

    public IEnumerable<SimProcess> Live(string label) =>
        Processes.Where(process => process.Lives && process.Label == label);

    /// <summary>Hears what is done, for the story of a violation.</summary>
    public Action<string> Tell { get; set; } = _ => { };

    public void Broken(string law) => Violations.Add($"{loop.Wall:HH:mm:ss.fff} step {loop.Steps}: {law}");

    /// <summary>A keeper launches the program of a run.</summary>
    public SimProcess Launch(string label, long run)
    {
        if (!launched.Add((label, run)))
            Broken($"run {run} of {label} was launched twice");
        if (loop.Now < lostUntil)
            Lost.Add((label, run));
        if (Live(label).Any())
            Broken($"run {run} of {label} began beside {string.Join(", ", Live(label).Select(p => $"run {p.Run}"))}");
        LookAtMoment(label, run);
        Tell($"  run {run} of {label} is launched");
        var process = new SimProcess(label, run, ++lastPid);
        Processes.Add(process);
        Groups.Add((label, run));
        var temper = Tempers.GetValueOrDefault(label);
        var child = temper == Temper.Leaves ? new SimProcess(label, run, ++lastPid) : null;
        if (child is not null)
            Processes.Add(child);
        if (temper is Temper.Falls or Temper.Ends or Temper.Leaves)
            loop.After(
                loop.Chance(0.3) ? loop.Between(1, 200) : loop.Between(200, 60_000),
                () => End(process, (temper == Temper.Falls ? 1 : 0) << 8)
            );
        if (child is not null)
            loop.After(loop.Between(30_000, 65_000), () => End(child, 0));
        if (temper == Temper.Speaks)
            loop.After(
                loop.Between(1, 2000),
                () =>
                {
                    if (process.Lives)
                        Say(label);
                }
            );
        return process;
    }

    /// <summary>Somebody asked for something by which a moment's run may be begun once more.</summary>
    /// <param name="label">Of one service; null: of all.</param>
    public void ForgetMoments(string? label = null)
    {
        foreach (var one in Moments.Keys.Where(one => label is null || one.Label == label).ToList())
            Moments.Remove(one);
    }

    /// <summary>At most one run a moment, but for those that are tried again.</summary>
    private void LookAtMoment(string label, long run)
    {
        if (!Moments.TryGetValue((label, run), out var moment))
            return;
        var others = Moments
            .Where(one => one.Key.Label == label && one.Key.Run != run && one.Value == moment)
            .Select(one => one.Key)
            .Where(one => launched.Contains(one) && !Lost.Contains(one))
            .ToList();
        if (others.Count > Tries.GetValueOrDefault(label))
            Broken(
                $"run {run} of {label} is for {moment:u}, as runs {string.Join(", ", others.Select(one => one.Run))} were"
            );
    }

    public void Signal(SimProcess process, int signal)
    {
        if (!process.Lives)
            return;
        if (signal == 9)
        {
            End(process, signal);
            return;
        }

        if (signal is 18 or 19)
            return;
        switch (Tempers.GetValueOrDefault(process.Label))
        {
            case Temper.Stubborn:
                break;
            case Temper.Slow:
                loop.After(TimeSpan.FromSeconds(2), () => End(process, 0));
                break;
            default:
                loop.After(loop.Between(0.1, 30), () => End(process, signal));
                break;
        }
    }

    public void End(SimProcess process, int status)
    {
        if (!process.Lives)
            return;
        if (process.HeldUntil > loop.Now)
        {
            loop.After(TimeSpan.FromTicks(process.HeldUntil - loop.Now), () => End(process, status));
            return;
        }

        (process.Lives, process.Status) = (false, status);
        Tell($"  run {process.Run} of {process.Label} ends ({status})");
        foreach (var keeper in Keepers.Where(keeper => keeper.Main?.Label == process.Label))
            keeper.Soon();
        Processes.Remove(process);
    }

    /// <summary>While the disk took nothing no number could be reserved: those given then may be given again.</summary>
    /// <param name="label">Of one service; null: of all.</param>
    public void ForgetNumbers(string? label = null) => launched.RemoveWhere(one => label is null || one.Label == label);

    /// <summary>The disk has refused something that was not kept since.</summary>
    public bool Refused { get; set; }

    /// <summary>Everything in the run directory is gone.</summary>
    public void Wipe()
    {
        Notes.Clear();
        Outcomes.Clear();
        Stops.Clear();
        Remembers = false;
        // What is being ordered at this moment is noted there, too.
        lostUntil = loop.Now + (TimeSpan.TicksPerSecond * 3);
        foreach (var keeper in Keepers)
            keeper.Wiped = true;
    }

    /// <summary>The machine goes down as in a power cut, and comes up again.</summary>
    public void Reboot()
    {
        foreach (var keeper in Keepers.ToList())
            keeper.Die();
        foreach (var process in Processes.ToList())
        {
            process.Lives = false;
            Processes.Remove(process);
        }

        Wipe();
        Groups.Clear();
        Boots++;
    }
}
