using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// Fifty programs that crash five hundred times a minute: the sentry answers all the same, and does not grow.
/// </summary>
public class StormTests
{
    private const int Services = 50;

    private static long Memory(int pid) =>
        long.Parse(
            File.ReadLines($"/proc/{pid}/smaps_rollup")
                .First(line => line.StartsWith("Pss_Anon:", StringComparison.Ordinal))
                .Split(' ', StringSplitOptions.RemoveEmptyEntries)[1],
            System.Globalization.CultureInfo.InvariantCulture
        );

    [Fact]
    public async Task Under_a_storm_of_crashes_the_list_answers_and_memory_does_not_grow()
    {
        await using var sentry = await Sentry.Start();
        var storm = Path.Combine(sentry.Places.Root, "storm");
        // Each falls about every six seconds once the storm is let loose, its pause included.
        var program = sentry.Script(
            "gate",
            $"#!/bin/sh\necho counting\nwhile [ ! -e {storm.Quoted()} ]; do sleep 1; done\nsleep 5\necho 'the barrier "
                + $"reads -1' >&2\nexit 3\n"
        );
        await Task.WhenAll(
            Enumerable
                .Range(0, Services)
                .Select(i => sentry.Ok("wrap", "--from", Definition(sentry, $"gate-{i}", program)))
        );
        await sentry.Ok("start", "--all");
        await File.WriteAllTextAsync(storm, "");

        async Task<long> Falls() =>
            (await sentry.Ok("list", "--json")).Json.EnumerateArray().Sum(view => view.GetProperty("run").GetInt64())
            - Services;
        await Sentry.Eventually(async () => await Falls() > 100);
        var (before, from, since) = (Memory(sentry.ServerPid), await Falls(), Stopwatch.GetTimestamp());
        for (var i = 0; i < 50; i++)
            await sentry.Ok("list"); // how fast it answers is measured in bench/
        await Sentry.Eventually(async () => await Falls() > from + 250);
        var (after, fell) = (Memory(sentry.ServerPid), await Falls() - from);
        var perMinute = fell / Stopwatch.GetElapsedTime(since).TotalMinutes;
        TestContext.Current.SendDiagnosticMessage(
            $"storm: {perMinute:0} failures a minute; memory {before} kB, then {after} kB"
        );
        Assert.True(perMinute > 400, $"{perMinute:0} falls a minute");
        Assert.True(after < before * 1.2, $"memory of its own: {before} kB, after {fell} falls {after} kB");
    }

    /// <summary>Neither held nor with growing pauses.</summary>
    private static string Definition(Sentry sentry, string name, string program) =>
        sentry.Script(
            $"{name}.yaml",
            $$"""
            name: {{name}}
            program: { path: {{program}} }
            identity: { account: {{Sentry.Account}} }
            begin: { proof: { up-for: 100 ms } }
            recover: { pause: { first: 900 ms, grow: 1, spread: 20 % }, hold: { ends: 0 } }
            """,
            executable: false
        );
}
