using System.CommandLine;
using System.Diagnostics;

namespace CalmSentry.Tests.PowerCuts;

/// <summary>
/// Power cuts: a virtual machine with the sentry in it, where somebody asks for one change after the other, is killed at a
/// random moment and booted again, many times. What it had told as done must be there after each boot.
/// </summary>
internal static class Program
{
    private static Task<int> Main(string[] arguments)
    {
        var seed = new Option<int>("--seed")
        {
            Description = "What is asked for, and when the power goes",
            DefaultValueFactory = _ => Environment.TickCount & 0xffff,
        };
        var cuts = new Option<int>("--cuts") { Description = "How often", DefaultValueFactory = _ => 50 };
        var programs = new Option<string>("--programs")
        {
            Description = "Directory of the programs that are tried",
            DefaultValueFactory = _ => "out",
        };
        var command = new RootCommand("Power cuts of a virtual machine with a sentry") { seed, cuts, programs };
        command.SetAction(parsed =>
            Run(parsed.GetValue(seed), parsed.GetValue(cuts), Path.GetFullPath(parsed.GetValue(programs)!))
        );
        return command.Parse(arguments).InvokeAsync();
    }

    private static async Task<int> Run(int seed, int cuts, string programs)
    {
        Console.WriteLine($"power cuts: seed {seed}, programs in {programs}; the machine is being made");
        using var machine = await Machine.Make(programs).ConfigureAwait(false);
        var random = new Random(seed);
        var ledger = new Ledger();
        var began = Stopwatch.StartNew();
        for (var boot = 0; boot <= cuts; boot++)
        {
            using var power = machine.PowerOn(seed, boot);
            // Mostly among what is asked for; now and then while it comes up.
            var early = boot > 0 && boot < cuts && random.Next(6) == 0;
            var ready = early || await power.UntilReady(ledger, TimeSpan.FromMinutes(3)).ConfigureAwait(false);
            if (!ready)
                ledger.Break($"boot {boot}: it did not come up: {power.Last}");
            if (boot < cuts)
                await power
                    .For(TimeSpan.FromMilliseconds(boot == 0 ? 8000 : random.Next(20, early ? 20_000 : 12_000)), ledger)
                    .ConfigureAwait(false);
            power.Cut(ledger);
            Console.WriteLine(
                $"cut {boot + 1}, {began.Elapsed.TotalMinutes:0.0} min{(early ? ", while it came up" : "")}: "
                    + $"{ledger.Told} things told so far, {ledger.Runs} runs, {ledger.Broken.Count} broken"
            );
        }

        foreach (var broken in ledger.Broken)
            Console.WriteLine($"BROKEN: {broken}");
        Console.WriteLine(
            $"power cuts: {cuts} cuts in {began.Elapsed.TotalMinutes:0.0} min, {ledger.Told} things told as done, "
                + $"{ledger.Runs} runs; "
                + (ledger.Broken.Count == 0 ? "nothing was lost." : $"{ledger.Broken.Count} broken; seed {seed}.")
        );
        return ledger.Broken.Count == 0 ? 0 : 1;
    }
}
