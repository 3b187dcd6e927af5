using System.CommandLine;
using System.Diagnostics;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Tests.Campaign;

/// <summary>
/// Random faults against the real thing, from a seed: a guarded sentry with its services is killed, frozen, robbed of
/// its files and disk and given commands meanwhile; now and then all comes to rest, and is looked at from outside.
/// </summary>
internal static class Program
{
    private const int BetweenRests = 25,
        RestsBetweenCopies = 6;

    private const long LeastRoom = 32 << 20;

    private static readonly TimeSpan LongestList = TimeSpan.FromSeconds(1),
        TellEvery = TimeSpan.FromMinutes(1);

    private static Task<int> Main(string[] arguments)
    {
        var seed = new Option<int>("--seed")
        {
            Description = "Which faults, and in which order",
            DefaultValueFactory = _ => Environment.TickCount,
        };
        var minutes = new Option<double>("--minutes") { Description = "How long", DefaultValueFactory = _ => 2 };
        var most = new Option<int>("--faults")
        {
            Description = "How many at most",
            DefaultValueFactory = _ => int.MaxValue,
        };
        var programs = new Option<string>("--programs")
        {
            Description = "Directory of the programs that are tried",
            DefaultValueFactory = _ => "out",
        };
        var only = new Option<string[]>("--only") { Description = "Only faults whose name has one of these in it" };
        var command = new RootCommand("Random faults against a real sentry") { seed, minutes, most, programs, only };
        command.SetAction(parsed =>
            Run(
                parsed.GetValue(seed),
                TimeSpan.FromMinutes(parsed.GetValue(minutes)),
                parsed.GetValue(most),
                Path.GetFullPath(parsed.GetValue(programs)!),
                parsed.GetValue(only) ?? []
            )
        );
        return command.Parse(arguments).InvokeAsync();
    }

    private static async Task<int> Run(int seed, TimeSpan length, int most, string programs, string[] only)
    {
        Console.WriteLine($"campaign: seed {seed}, programs in {programs}");
        var random = new Random(seed);
        await using var machine = new Machine(programs);
        await using var alarms = new Alarms(machine);
        await machine.Begin().ConfigureAwait(false);
        alarms.Begin();
        var viewers = new Viewers(machine);
        using var completions = new Completions(machine);
        var faults = new Faults(machine, alarms, viewers, completions);
        var kinds = faults.All.Where(fault => only.Length == 0 || only.Any(fault.Name.Contains)).ToList();
        var counts = new SortedDictionary<string, int>(StringComparer.Ordinal);
        var lists = new List<TimeSpan>();
        var violations = 0;
        var done = 0;
        var invariants = new Invariants(machine);
        var began = Stopwatch.StartNew();
        var recent = new List<string>();
        (int Guard, int Server)? open = null;
        var told = TimeSpan.Zero;
        while (began.Elapsed < length && done < most)
        {
            for (var i = 0; i < BetweenRests && done < most; i++, done++)
            {
                var fault = Pick(kinds, random);
                counts[fault.Name] = counts.GetValueOrDefault(fault.Name) + 1;
                recent.Add($"{began.Elapsed.TotalSeconds:0.000} {fault.Name}");
                await fault.Do(machine, random).ConfigureAwait(false);
                await Task.Delay(random.Next(5, 250)).ConfigureAwait(false);
                if (random.Next(4) != 0)
                    continue;
                // One that cannot answer anybody says nothing of how long it takes.
                var (deaf, times) = (faults.Deaf, faults.TimesDeaf);
                if (
                    await machine.Calm("list").ConfigureAwait(false) is { Exit: 0 } said
                    && !deaf
                    && times == faults.TimesDeaf
                )
                    lists.Add(said.Took);
            }

            await faults.Settle().ConfigureAwait(false);
            IReadOnlyList<string> seen =
            [
                .. await viewers.Look().ConfigureAwait(false),
                .. completions.Look(),
                .. await alarms.Look(faults.LastThaw, faults.WentBack).ConfigureAwait(false),
                .. await invariants.Look(faults).ConfigureAwait(false),
            ];
            violations += seen.Count;
            foreach (var broken in seen)
                Console.WriteLine($"BROKEN after {done} faults, {began.Elapsed.TotalSeconds:0.0} s: {broken}");
            if (seen.Count > 0)
            {
                Console.WriteLine($"  since the last rest: {string.Join(", ", recent)}");
                Console.WriteLine(
                    $"  what guard and server said last:\n    {string.Join("\n    ", machine.LastWords)}"
                );
            }

            recent.Clear();
            faults.BeginAnew();
            if (random.Next(RestsBetweenCopies) == 0)
                await machine.KeepStore().ConfigureAwait(false);
            if (Machine.Room(machine.Places.Library) < LeastRoom)
            {
                Console.WriteLine("campaign: ended early, for what the sentry keeps has filled its small disk.");
                break;
            }

            if (began.Elapsed - told > TellEvery)
            {
                told = began.Elapsed;
                Console.WriteLine(
                    $"{told.TotalMinutes:0} min: {done} faults, {violations} violations, memory of the server "
                        + $"{ProcessFacts.OwnMemory(machine.Server) >> 10} KiB, open files "
                        + $"{ProcessFacts.CountOpenFiles(machine.Guard)} and {ProcessFacts.CountOpenFiles(machine.Server)}, "
                        + $"groups {machine.Groups}, files of runs {machine.RunFiles}"
                );
            }

            open ??= (ProcessFacts.CountOpenFiles(machine.Guard), ProcessFacts.CountOpenFiles(machine.Server));
        }

        foreach (var (kind, count) in counts)
            Console.WriteLine($"  {count, 5}  {kind}");
        lists.Sort();
        var late = lists.Count(took => took > LongestList);
        Console.WriteLine(
            $"campaign: {done} faults in {began.Elapsed.TotalSeconds:0} s; {invariants.Lines} numbered lines, {invariants.Moments} moments of jobs; open files of "
                + $"guard and server {open} at first, ({ProcessFacts.CountOpenFiles(machine.Guard)}, "
                + $"{ProcessFacts.CountOpenFiles(machine.Server)}) at last; memory of the server "
                + $"{ProcessFacts.OwnMemory(machine.Server) >> 10} KiB; list: {lists.Count} times, "
                + (
                    lists.Count == 0
                        ? ""
                        : $"median {lists[lists.Count / 2].TotalMilliseconds:0} ms, p99 "
                            + $"{lists[lists.Count * 99 / 100].TotalMilliseconds:0} ms, longest "
                            + $"{lists[^1].TotalMilliseconds:0} ms, {late} over a second"
                )
        );
        Console.WriteLine($"alarms: {alarms.Told}.");
        Console.WriteLine($"viewers: {viewers.Told}.");
        Console.WriteLine($"paths: {completions.Told}.");
        Console.WriteLine($"questions: {invariants.Answers} had their answer.");
        Console.WriteLine(
            violations == 0 ? "campaign: every law held." : $"campaign: {violations} violations; seed {seed}."
        );
        return violations == 0 ? 0 : 1;
    }

    private static Fault Pick(IReadOnlyList<Fault> kinds, Random random)
    {
        var at = random.Next(kinds.Sum(kind => kind.Weight));
        foreach (var kind in kinds)
            if ((at -= kind.Weight) < 0)
                return kind;
        return kinds[^1];
    }
}
