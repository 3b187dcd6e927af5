using System.Globalization;

namespace CalmSentry.Tests.Unit.Simulation;

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

    [Fact]
    public void Whatever_happens_nothing_is_lost_or_doubled()
    {
        var (first, faults) = (Wanted("CALM_SIM_SEED", 1), Wanted("CALM_SIM_FAULTS", 250));
        var (steps, all) = (0L, 0L);
        for (var seed = first; seed < first + Wanted("CALM_SIM_SEEDS", 4); seed++)
        {
            var root = Path.Combine("/dev/shm", $"calm-sim-{Environment.ProcessId}-{seed}");
            try
            {
                using var simulation = new Simulation(seed, root);
                simulation.Go(faults);
                steps += simulation.Steps;
                all += simulation.Faults;
                Assert.True(
                    simulation.Violations.Count == 0,
                    $"seed {seed}:\n{string.Join("\n", simulation.Violations)}\n\n{string.Join("\n", simulation.History.TakeLast(Wanted("CALM_SIM_STORY", 100)))}"
                );
            }
            finally
            {
                if (Directory.Exists(root))
                    Directory.Delete(root, recursive: true);
            }
        }

        TestContext.Current.SendDiagnosticMessage($"{all} faults, {steps} steps");
    }
}
