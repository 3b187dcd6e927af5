using System.Diagnostics;
using System.Globalization;
using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd.Queue;

/// <summary>
/// One queue of classes, the longest first, and several workers that take from it. Each class's results must be the ones
/// the assembly lists for it; a class that does not end in time, or whose worker is lost, has failed.
/// </summary>
internal sealed class Coordinator
{
    /// <summary>No class takes a quarter of it on an idle machine.</summary>
    private static readonly TimeSpan ClassLimit = TimeSpan.FromMinutes(15);

    private static readonly TimeSpan EndLimit = TimeSpan.FromSeconds(20);

    private static readonly string DurationsFile = Path.Combine(
        Sentry.Repository,
        "tests",
        "EndToEnd",
        "Queue",
        "durations.json"
    );

    private readonly QueueOptions options;
    private readonly bool isolated;
    private readonly Queue<TestClass> waiting;
    private readonly int all;
    private readonly List<(TestClass Class, double Seconds, IReadOnlyList<TestResult> Results)> ended = [];
    private readonly List<(string Test, string Why)> failures = [];

    private Coordinator(QueueOptions options, IEnumerable<TestClass> classes, bool isolated)
    {
        (this.options, this.isolated) = (options, isolated);
        var durations = File.Exists(DurationsFile)
            ? JsonDocument
                .Parse(File.ReadAllText(DurationsFile))
                .RootElement.EnumerateObject()
                .ToDictionary(one => one.Name, one => one.Value.GetDouble(), StringComparer.Ordinal)
            : [];
        // One that has no duration yet may be the longest.
        waiting = new(classes.OrderByDescending(one => durations.GetValueOrDefault(Short(one.Name), double.MaxValue)));
        all = waiting.Count;
    }

    /// <returns>The exit code: 0 where every test of every class has its result and none failed.</returns>
    public static async Task<int> Run(QueueOptions options)
    {
        if (Directory.Exists(options.Results))
            Directory.Delete(options.Results, recursive: true);
        Directory.CreateDirectory(options.Results);
        var listed = await Listing.Classes();
        var classes = listed.Where(one => options.Takes(one.Name)).ToList();
        var unknown = options.Classes.Where(name => !listed.Any(one => QueueOptions.IsCalled(one.Name, name))).ToList();
        if (unknown.Count > 0)
        {
            await Console.Error.WriteLineAsync($"no class called {string.Join(" or ", unknown)}");
            return 2;
        }

        var tried = Directory.CreateDirectory(Path.Combine(options.Results, "tried")).FullName;
        var missing = await Isolation.Missing(tried);
        var coordinator = new Coordinator(options, classes, missing is null);
        // Most of a test's time is another process's, or a wait for it.
        var workers = missing is null
            ? Math.Min(options.Workers ?? (Environment.ProcessorCount * 2) + 1, classes.Count)
            : 1;
        Console.WriteLine(
            missing is null
                ? $"queue: {classes.Count} classes, {workers} workers"
                : $"queue: {classes.Count} classes, one worker, for this host gives none a part of its own: {missing}"
        );
        await Task.WhenAll(Enumerable.Range(1, workers).Select(coordinator.Work));
        return coordinator.Tell();
    }

    private static string Short(string name) => name["CalmSentry.Tests.EndToEnd.".Length..];

    private TestClass? Next()
    {
        lock (waiting)
            return waiting.TryDequeue(out var next) ? next : null;
    }

    /// <summary>A worker's life: classes, until there are none left or the process that runs them is not to be used on.</summary>
    private async Task Work(int number)
    {
        for (var lives = 0; Next() is { } first; lives++)
        {
            var place = Directory.CreateDirectory(Path.Combine(options.Results, $"worker {number}.{lives}")).FullName;
            string[] command = [Environment.ProcessPath!, "--worker"];
            using var worker = isolated
                ? Isolation.Start(place, number, command)
                : Process.Start(
                    new ProcessStartInfo(command[0], command[1..])
                    {
                        RedirectStandardInput = true,
                        RedirectStandardOutput = true,
                    }
                )!;
            for (var next = first; next is not null; next = Next())
                if (!await Ran(worker, next))
                    break;
            // It ends by itself, and all it has left with it: so what they have used is counted with this process's children.
            worker.StandardInput.Close();
            await Task.WhenAny(worker.WaitForExitAsync(), Task.Delay(EndLimit));
            if (!worker.HasExited)
                worker.Kill(entireProcessTree: true);
            await worker.WaitForExitAsync();
            Directory.Delete(place, recursive: true);
        }
    }

    /// <summary>Has one class run, and keeps what came of it.</summary>
    /// <returns>Whether its worker can take another.</returns>
    private async Task<bool> Ran(Process worker, TestClass test)
    {
        var begun = Stopwatch.GetTimestamp();
        var name = Short(test.Name);
        var (report, log) = (
            Path.Combine(options.Results, name + ".xml"),
            Path.Combine(options.Results, name + ".log")
        );
        string? answer = null;
        var ending = "its worker ended in the middle of it";
        IReadOnlyList<TestResult> results = [];
        try
        {
            await worker.StandardInput.WriteLineAsync($"{test.Name}\t{report}\t{log}");
            await worker.StandardInput.FlushAsync();
            answer = await worker.StandardOutput.ReadLineAsync().WaitAsync(ClassLimit);
            if (answer is not null)
                results = Listing.Results(report);
        }
        catch (TimeoutException)
        {
            ending = $"it did not end within {ClassLimit.TotalMinutes} min";
        }
        catch (Exception error) when (error is IOException or System.Xml.XmlException)
        {
            (answer, ending) = (null, $"its worker or its report was lost: {error.Message}");
        }

        var left = answer?[Worker.Ended.Length..] ?? "";
        Keep(test, Stopwatch.GetElapsedTime(begun).TotalSeconds, results, answer is null ? ending : null, left);
        // What a class has left running must not meet the next.
        return answer is not null && left.Length == 0;
    }

    private void Keep(TestClass test, double seconds, IReadOnlyList<TestResult> results, string? ending, string left)
    {
        lock (ended)
        {
            ended.Add((test, seconds, results));
            var failed = results.Where(one => one.Outcome == "Fail").Select(one => (one.Test, one.Message)).ToList();
            if (ending is not null)
                failed.Add((test.Name, ending));
            else
                failed.AddRange(Listing.Differences(test, results).Select(what => (test.Name, what)));
            failures.AddRange(failed);
            var skipped = results.Count(one => one.Outcome == "Skip");
            Console.WriteLine(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"{ended.Count, 3}/{all}  {seconds, 6:0.0} s  {Short(test.Name)}: {results.Count - skipped - results.Count(one => one.Outcome == "Fail")} passed"
                        + $"{(skipped > 0 ? $", {skipped} skipped" : "")}{(left.Length > 0 ? $", left running: {left}" : "")}"
                )
            );
            foreach (var (which, why) in failed)
                Console.WriteLine(
                    $"    {which} [FAIL]\n      {why.Replace("\n", "\n      ", StringComparison.Ordinal)}"
                );
        }
    }

    /// <summary>The end of the log: what failed, for a run of that alone; durations; and the runner's own last line.</summary>
    private int Tell()
    {
        var results = ended.SelectMany(one => one.Results.Select(result => (one.Class, Result: result))).ToList();
        File.WriteAllLines(
            Path.Combine(options.Results, "durations"),
            results.Select(one =>
                string.Create(CultureInfo.InvariantCulture, $"{one.Result.Seconds:0.0} {one.Result.Test}")
            )
        );
        File.WriteAllLines(
            Path.Combine(options.Results, "failed"),
            ended
                .Where(one =>
                    failures.Any(failure =>
                        failure.Test == one.Class.Name
                        || failure.Test.StartsWith(one.Class.Name + ".", StringComparison.Ordinal)
                    )
                )
                .Select(one => one.Class.Name)
        );
        if (options.WriteDurations)
            File.WriteAllText(
                DurationsFile,
                "{\n"
                    + string.Join(
                        ",\n",
                        ended
                            .OrderBy(one => one.Class.Name, StringComparer.Ordinal)
                            .Select(one =>
                                string.Create(
                                    CultureInfo.InvariantCulture,
                                    $"  \"{Short(one.Class.Name)}\": {Math.Ceiling(one.Seconds)}"
                                )
                            )
                    )
                    + "\n}\n"
            );
        var skipped = results.Count(one => one.Result.Outcome == "Skip");
        // A failure that is no result, such as a class that did not end, counts as one more.
        var failed = results.Count(one => one.Result.Outcome == "Fail");
        Console.WriteLine(
            $"   Total: {results.Count - failed + failures.Count}, Errors: 0, Failed: {failures.Count}, Skipped: {skipped}, Not Run: 0"
        );
        return failures.Count == 0 ? 0 : 1;
    }
}
