using System.Globalization;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Tests.Engine.Simulation;

/// <summary>
/// A few seeds each time; more on demand: <c>CALM_SIM_SEED</c> (the first), <c>CALM_SIM_SEEDS</c> (how many),
/// <c>CALM_SIM_FAULTS</c> (things that happen in each).
/// </summary>
public class SimulationTests
{
    private static int Wanted(string name, int otherwise) =>
        int.TryParse(
            Environment.GetEnvironmentVariable(name),
            NumberStyles.None,
            CultureInfo.InvariantCulture,
            out var n
        )
            ? n
            : otherwise;

    /// <summary>A simulation of its own directory, which goes with it.</summary>
    private static T Of<T>(int seed, Func<Simulation, T> what)
    {
        var root = Path.Combine(
            Directory.Exists("/dev/shm") ? "/dev/shm" : Path.GetTempPath(),
            $"calm-sim-{Environment.ProcessId}-{seed}"
        );
        try
        {
            using var simulation = new Simulation(seed, root);
            return what(simulation);
        }
        finally
        {
            if (Directory.Exists(root))
                Directory.Delete(root, recursive: true);
        }
    }

    [Fact]
    public void The_same_seed_tells_the_same_story()
    {
        var (first, second) = (Story(), Story());
        Assert.NotEmpty(first);
        Assert.Equal(first, second);

        static List<string> Story() =>
            Of(
                11,
                simulation =>
                {
                    simulation.Go(60);
                    return simulation.History.ConvertAll(line => $"{simulation.Steps} {line}");
                }
            );
    }

    [Theory]
    [InlineData(-30)]
    [InlineData(30)]
    public void An_end_while_no_server_was_there_is_as_long_ago_as_it_is_whatever_the_clock_was_set_to(int days)
    {
        var (again, ago) = Of(21, simulation => simulation.EndsWhileAway(TimeSpan.FromDays(days)));
        Assert.True(again, "it was not begun again");
        Assert.InRange(ago, TimeSpan.FromSeconds(0.5), TimeSpan.FromSeconds(3));
    }

    [Fact]
    public void A_keeper_that_was_told_nothing_takes_no_run_with_it() =>
        Assert.Equal([(1, true)], Of(22, simulation => simulation.LosesAKeeperThatWasToldNothing()));

    [Theory]
    [InlineData("pulls")]
    [InlineData("relays")]
    [InlineData("counts")]
    public void A_moment_is_run_once_although_its_server_was_lost_before_that_was_on_record(string job)
    {
        for (var seed = 0; seed < 12; seed++)
        {
            var before = TimeSpan.FromMilliseconds(50 << (seed % 8)); // it is at work still, or has ended by then
            Assert.Single(Of(30 + seed, simulation => simulation.RunsForAMomentNotOnRecord(job, before)));
        }
    }

    [Fact]
    public void The_machine_sees_a_run_that_is_launched_twice_and_one_beside_another()
    {
        var loop = new SimLoop(1);
        var machine = new SimMachine(loop);
        machine.Launch("S1", 1);
        Assert.Empty(machine.Violations);
        machine.Launch("S1", 2);
        Assert.Contains("beside run 1", Assert.Single(machine.Violations), StringComparison.Ordinal);
        machine.End(machine.Processes[0], 0);
        machine.End(machine.Processes[0], 0);
        machine.Launch("S1", 2);
        Assert.Contains("launched twice", machine.Violations[1], StringComparison.Ordinal);
    }

    [Fact]
    public void What_somebody_stopped_stays_so_though_no_disk_took_it() =>
        Assert.Equal(Phase.Stopped, Of(40, simulation => simulation.StoppedNotOnRecord()));

    /// <summary>Lives that once broke a law, by their seeds: what they came upon is rare.</summary>
    [Theory]
    [InlineData(5006, 300)] // the run directory wiped while a run was ordered, and its keeper did not answer
    public void What_once_was_broken_holds(int seed, int faults) =>
        Assert.Empty(
            Of(
                seed,
                simulation =>
                {
                    simulation.Go(faults);
                    return simulation.Violations;
                }
            )
        );

    [Fact]
    public void Whatever_happens_nothing_is_lost_or_doubled()
    {
        var (first, faults) = (Wanted("CALM_SIM_SEED", 1), Wanted("CALM_SIM_FAULTS", 250));
        var (steps, all) = (0L, 0L);
        for (var seed = first; seed < first + Wanted("CALM_SIM_SEEDS", 4); seed++)
        {
            var (violations, story) = Of(
                seed,
                simulation =>
                {
                    simulation.Go(faults);
                    steps += simulation.Steps;
                    all += simulation.Faults;
                    return (simulation.Violations, simulation.History);
                }
            );
            Assert.True(
                violations.Count == 0,
                $"seed {seed}:\n{string.Join("\n", violations)}\n\n"
                    + string.Join("\n", story.TakeLast(Wanted("CALM_SIM_STORY", 100)))
            );
        }

        TestContext.Current.SendDiagnosticMessage($"{all} faults, {steps} steps");
    }
}
