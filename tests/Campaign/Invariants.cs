using System.Globalization;
using System.IO.Compression;
using System.Text;
using System.Text.Json;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Tests.Campaign;

/// <summary>What must hold whenever all is at rest, looked at from outside: processes, locks, numbered lines, journals.</summary>
internal sealed class Invariants(Machine machine)
{
    private readonly HashSet<string> said = [];
    private readonly Dictionary<string, (long Number, long Place)> read = [];
    private readonly Dictionary<(string Service, string Run), long> counted = [];

    private static readonly TimeSpan RestLimit = TimeSpan.FromSeconds(60);

    /// <summary>Lines of programs that were looked at.</summary>
    public long Lines { get; private set; }

    /// <summary>Everything that does not hold, each once.</summary>
    public async Task<IReadOnlyList<string>> Look(Faults faults)
    {
        var broken = new List<string>();
        var views = await Rest(broken).ConfigureAwait(false);
        if (views is not null)
        {
            Processes(views, broken);
            if (!faults.WentBack)
                Promises(views, faults.Asked, broken);
            await Outcomes(views, broken).ConfigureAwait(false);
            await Logbook(broken).ConfigureAwait(false);
            Output(broken);
            OwnLogs(broken);
            TakenMoments(faults, broken);
            Leftovers(views, broken);
            // A dialog takes its time to be one: this is most of a rest.
            if (rests++ % BetweenWindows == 0)
                await Windows(views, broken).ConfigureAwait(false);
            Versions(broken);
            await Settling(broken).ConfigureAwait(false);
            await Rights(broken).ConfigureAwait(false);
        }

        // One that finds another at work leaves, which takes it a moment.
        foreach (
            var (program, word) in (ReadOnlySpan<(string, string)>)
                [("calm-keeper", "guard-on"), ("calm-keeper", "guard-second"), ("calm-sentry", "serve")]
        )
        {
            var until = DateTime.UtcNow + RestLimit;
            // A child on its way to another program looks like its parent for a moment: once it was one, it is one.
            int count;
            while ((count = machine.Processes(program, word).Count()) != 1 && DateTime.UtcNow < until)
                Thread.Sleep(50);
            if (count != 1)
                broken.Add($"there are {count} processes '{program} {word}'");
        }

        foreach (
            var (file, law) in (ReadOnlySpan<(string, string)>)
                [("doubled", "two at once"), (AnsweredTwice, AnsweredTwice)]
        )
            broken.AddRange(Witnessed(file).Select(line => $"{law}: {line}"));
        return [.. broken.Where(said.Add)];
    }

    /// <summary>No settling is left on its way, whatever was killed.</summary>
    private async Task Settling(List<string> broken)
    {
        var latest = await machine.Calm("settle", "--last", "--json").ConfigureAwait(false);
        if (latest.Exit is not (0 or 1) || !latest.Output.StartsWith('{'))
            return; // nothing was settled yet
        var view = JsonDocument.Parse(latest.Output).RootElement;
        if (!view.TryGetProperty("ended", out var ended) || ended.ValueKind == JsonValueKind.Null)
            broken.Add($"a settling is under way though all is at rest: {view.GetProperty("said").GetString()}");
    }

    private const string AnsweredTwice = "answered twice";

    private string[] Witnessed(string file) =>
        Path.Combine(machine.Witness, file) is var path && File.Exists(path) ? File.ReadAllLines(path) : [];

    /// <summary>Questions that had their answer, once.</summary>
    public int Answers => Witnessed("answers").Length;

    /// <summary>Waits until nothing is on its way any more.</summary>
    private async Task<IReadOnlyList<JsonElement>?> Rest(List<string> broken)
    {
        var began = DateTime.UtcNow;
        var moving = "it does not answer";
        var rested = false;
        while (DateTime.UtcNow - began < RestLimit)
        {
            if (await machine.List().ConfigureAwait(false) is { } views)
            {
                if (views.Count != Fleet.All.Count)
                {
                    broken.Add($"{views.Count} services of {Fleet.All.Count} are there");
                    return null;
                }

                var marked = machine.Marked();
                moving = string.Join(
                    "; ",
                    views
                        .Where(view => !AtRest(view, marked))
                        .Select(view => $"{Name(view)} is {State(view)}: {view.GetProperty("why").GetString()}")
                );
                if (moving.Length == 0)
                    moving = await Swapping().ConfigureAwait(false);
                if (
                    moving.Length == 0
                    && machine.Processes("calm-keeper", "guard-second").Any()
                    && machine.Processes("calm-sentry", "serve").Count() == 1
                )
                {
                    // In the middle of a drill, too, all of it is down for a moment.
                    if (rested)
                        return views;
                    rested = true;
                    await Task.Delay(300).ConfigureAwait(false);
                    continue;
                }

                rested = false;
            }

            await Task.Delay(50).ConfigureAwait(false);
        }

        if (moving.Length == 0)
            moving = string.Join(
                "; ",
                machine.Own().Except(machine.Keepers).Select(Threads).Prepend("of services nothing moves")
            );
        broken.Add($"not at rest within {RestLimit.TotalSeconds:0} s: {moving}");
        return null;
    }

    /// <summary>New files that are still on their way.</summary>
    private async Task<string> Swapping()
    {
        var moving = new List<string>();
        foreach (var member in Fleet.All.Where(member => member.Swaps))
            if (
                await machine.Calm("swap", member.Name, "--json").ConfigureAwait(false) is not { Exit: 0 } said
                || !said.Output.Contains("\"under-way\": null", StringComparison.Ordinal)
            )
                moving.Add($"new files of {member.Name} are under way");
        return string.Join("; ", moving);
    }

    /// <summary>Files are all of one version, and never was anything launched from others.</summary>
    private void Versions(List<string> broken)
    {
        var mixed = Path.Combine(machine.Witness, "mixed");
        if (File.Exists(mixed))
            broken.AddRange(File.ReadAllLines(mixed).Select(line => $"launched from a mixture: {line}"));
        foreach (var home in Fleet.All.Where(member => member.Swaps).Select(machine.HomeOf))
        {
            var (first, second) = (
                File.ReadAllText(Path.Combine(home, "first")),
                File.ReadAllText(Path.Combine(home, "second"))
            );
            if (first != second)
                broken.Add($"{home} is a mixture of {first} and {second}");
        }
    }

    /// <summary>Whatever was cut off when, what was granted can be taken back, and then every right is as it was.</summary>
    private async Task Rights(List<string> broken)
    {
        if (!machine.IsRoot)
            return;
        foreach (var folder in machine.Granted)
            await machine.Calm("account", "take", machine.Account, folder).ConfigureAwait(false);
        if (await machine.Rights().ConfigureAwait(false) is var rights && rights != machine.RightsAtFirst)
            broken.Add(
                "rights are left in granted folders: "
                    + string.Join(
                        " / ",
                        rights
                            .Split('\n')
                            .Except(machine.RightsAtFirst.Split('\n'))
                            .Where(line => line.Length > 0)
                            .Take(5)
                    )
            );
    }

    /// <summary>Stopped, with nothing of it left; or running, with the process that the sentry names.</summary>
    private bool AtRest(JsonElement view, IReadOnlyList<(int Pid, string Id, long Run)> marked)
    {
        var own = marked.Where(one => one.Id == IdOf(view)).ToList();
        // What falls again and again is seldom at rest for long: never more than one run of it is there.
        if (
            (Tempers[Name(view)] is "falls" or "dies" or "leaves" or "job" || HasBadFiles(Name(view)))
            && State(view) is not ("stopped" or "held")
        )
            return own.Select(one => one.Run).Distinct().Count() <= 1;
        return State(view) switch
        {
            "stopped" or "held" => own.Count == 0,
            "running" => own.Count > 0 && own.TrueForAll(one => one.Run == Run(view)) && Lives(view),
            // Somebody has stopped what it needs.
            "waiting" => own.Count == 0
                && view.GetProperty("why").GetString()!.Contains("(it is stopped)", StringComparison.Ordinal),
            _ => false,
        };
    }

    /// <summary>Files with which it falls at once: what was stopped gets them as they are, and is begun with them.</summary>
    private bool HasBadFiles(string name)
    {
        var first = Path.Combine(machine.HomeOf(Fleet.All.First(member => member.Name == name)), "first");
        return File.Exists(first) && File.ReadAllText(first).EndsWith("bad", StringComparison.Ordinal);
    }

    private static readonly Dictionary<string, string> Tempers = Fleet.All.ToDictionary(
        one => one.Name,
        one => one.Temper
    );

    private static bool Lives(JsonElement view) =>
        view.TryGetProperty("pid", out var pid)
        && pid.ValueKind == JsonValueKind.Number
        && ProcessFacts.Lives(pid.GetInt32());

    /// <summary>No program that the sentry does not know.</summary>
    private void Processes(IReadOnlyList<JsonElement> views, List<string> broken)
    {
        var ids = views.ToDictionary(IdOf, view => view);
        foreach (var (pid, mark, run) in machine.Marked())
        {
            // A display is of the run that it belongs to.
            var id = mark.Split('-')[0];
            if (!ids.TryGetValue(id, out var view))
                broken.Add($"pid {pid} is of {id}, which nobody knows");
            else if (
                State(view) == "stopped"
                || (State(view) == "running" && run < Run(view) && ProcessFacts.Lives(pid))
            )
                broken.Add($"pid {pid} is of run {run} of {Name(view)}, which is {State(view)}, run {Run(view)}");
        }
    }

    /// <summary>What was asked, and told as true, is so, where nothing else was asked since.</summary>
    private static void Promises(IReadOnlyList<JsonElement> views, IReadOnlyList<Asked> asked, List<string> broken)
    {
        foreach (var one in asked.Where(one => one.Said is { Exit: -1 }))
            broken.Add($"calm {one.What} {one.Service}: {one.Said!.Error}");
        foreach (var group in asked.Where(one => one.Service is not null).GroupBy(one => one.Service))
        {
            var service = group.Key!;
            var view = views.First(view => Name(view) == service);
            var titles = group.Where(one => one.What.Contains(' ', StringComparison.Ordinal)).ToList();
            if (
                titles is [{ Said: { Exit: 0 } kept } title]
                && !kept.Error.Contains("not on record", StringComparison.Ordinal)
                && view.GetProperty("title").GetString() != title.What
            )
                broken.Add(
                    $"{group.Key} was adjusted to '{title.What}', and is '{view.GetProperty("title").GetString()}'"
                );
            if (
                group.Except(titles).ToList() is [{ What: "stop", Said.Exit: 0 } stop]
                // Where the disk took nothing it was said, and the next server may not know.
                && !stop.Said!.Error.Contains("not on record", StringComparison.Ordinal)
                && State(view) != "stopped"
                && !asked.Any(other => other.What == "drill")
                && !Needed.Contains(service)
            )
                broken.Add(
                    $"{group.Key} was stopped ({stop.Said!.Output.Trim().Split('\n')[0]}), and is {State(view)}"
                );
        }
    }

    /// <summary>Whom others need may be started again for them.</summary>
    private static readonly HashSet<string> Needed =
    [
        .. Fleet
            .All.SelectMany(one => Fleet.All.Where(other => one.More.Contains($"service: {other.Name}")))
            .Select(one => one.Name),
    ];

    /// <summary>Every run but the live one has an outcome, and no number is missing.</summary>
    private async Task Outcomes(IReadOnlyList<JsonElement> views, List<string> broken)
    {
        foreach (var view in views)
        {
            var asked = await machine.Calm("runs", Name(view), "--last", "200", "--json").ConfigureAwait(false);
            if (asked.Exit != 0)
            {
                broken.Add($"calm runs {Name(view)}: {asked.Error}");
                continue;
            }

            var runs = JsonDocument.Parse(asked.Output).RootElement.EnumerateArray().ToList();
            var numbers = runs.ConvertAll(run => run.GetProperty("run").GetInt64());
            for (var i = 0; i < runs.Count; i++)
            {
                var number = numbers[i];
                // Every number between this run and the one after it.
                for (var missing = number + 1; i > 0 && missing < numbers[i - 1]; missing++)
                    if (
                        missing > passedOver.GetValueOrDefault(Name(view))
                        && missing > await PassedOver(Name(view)).ConfigureAwait(false)
                    )
                        broken.Add($"{Name(view)} has no run {missing}");
                if (
                    i > 0
                    && !(
                        runs[i].TryGetProperty("outcome", out var outcome) && outcome.ValueKind == JsonValueKind.String
                    )
                )
                    broken.Add($"run {number} of {Name(view)} has no outcome");
            }
        }
    }

    /// <summary>Up to which number the logbook says that some are left out, as after the run directory was wiped.</summary>
    private async Task<long> PassedOver(string service)
    {
        var said = await machine
            .Calm("logbook", service, "--last", "1000", "--kind", "numbers-passed-over", "--json")
            .ConfigureAwait(false);
        return passedOver[service] =
            said.Exit == 0
                ? JsonDocument
                    .Parse(said.Output)
                    .RootElement.EnumerateArray()
                    .Select(entry => entry.GetProperty("run").GetInt64())
                    .Append(passedOver.GetValueOrDefault(service))
                    .Max()
                : 0;
    }

    /// <summary>What was said once is not asked again at each rest, and holds over an older store.</summary>
    private readonly Dictionary<string, long> passedOver = [];

    /// <summary>The logbook is as it was written, whatever was killed.</summary>
    private async Task Logbook(List<string> broken)
    {
        if (await machine.Calm("logbook", "--prove").ConfigureAwait(false) is { Exit: not 0 } said)
            broken.Add($"calm logbook --prove: {said.Error}");
    }

    /// <summary>
    /// Of each run the numbered lines are there from 0 on without a gap. Only where a keeper was killed are the last ones
    /// lost, and that leaves no gap.
    /// </summary>
    private void Output(List<string> broken)
    {
        foreach (var member in Fleet.All.Where(one => one.Counts))
        {
            var lines = New(machine.Places.OutputDirectoryOf(member.Name))
                .Split('\n', StringSplitOptions.RemoveEmptyEntries);
            for (var i = 0; i < lines.Length; i++)
            {
                var line = lines[i];
                if (RanInto(line, lines.ElementAtOrDefault(i + 1)) is { } begun)
                {
                    counted[(member.Name, begun)] = 0;
                    continue;
                }

                if (
                    line.Split(' ') is not [var run, var number, ..]
                    || !long.TryParse(number, NumberStyles.None, CultureInfo.InvariantCulture, out var n)
                )
                    continue; // the last line of a run that was killed, cut off
                Lines++;
                var expected = counted.TryGetValue((member.Name, run), out var last) ? last + 1 : 0;
                if (n != expected && n != 0)
                    broken.Add($"{member.Name}, run {run}: line {n} follows {expected - 1}");
                counted[(member.Name, run)] = n;
            }
        }
    }

    /// <summary>
    /// What is kept of log files that their own programs move aside is whole, over the ends of runs, too: each run says what the
    /// one before wrote last. Only where a mark says so may something be missing.
    /// </summary>
    private void OwnLogs(List<string> broken)
    {
        foreach (var member in Fleet.All.Where(one => one.Rotates))
        {
            var lines = New(machine.Places.KeptFileOf(member.Name, "own"))
                .Split('\n', StringSplitOptions.RemoveEmptyEntries);
            foreach (var line in lines)
            {
                Lines++;
                var before = written.GetValueOrDefault(member.Name, "none");
                if (line.StartsWith("[calm: ", StringComparison.Ordinal))
                {
                    written[member.Name] = "";
                    continue;
                }

                var follows = line.Split(' ') switch
                {
                    [_, "begins", "after", .. var last] => string.Join(' ', last.Take(2)),
                    [var run, "0", ..] => $"{run} begins",
                    [var run, var n, ..] when long.TryParse(n, out var number) => $"{run} {number - 1}",
                    _ => null,
                };
                if (follows != before && before.Length > 0)
                    broken.Add($"the log of {member.Name}: '{Short(line)}' follows '{before}'");
                written[member.Name] = string.Join(' ', line.Split(' ').Take(2));
            }
        }

        static string Short(string line) => line.Length <= 40 ? line : line[..40];
    }

    /// <summary>Which line of a log of its own was kept last; empty: some may be missing after it.</summary>
    private readonly Dictionary<string, string> written = [];

    /// <summary>Each moment of a job is run for at most once.</summary>
    private void TakenMoments(Faults faults, List<string> broken)
    {
        foreach (var job in Fleet.All.Where(one => one.IsJob))
        {
            var file = Path.Combine(machine.Witness, job.Name + ".moments");
            var all = File.Exists(file) ? File.ReadAllLines(file) : [];
            var (taken, seen) = moments.GetValueOrDefault(job.Name, ([], 0));
            Moments += all.Length - seen;
            if (faults.MomentsMayComeAgain || faults.Asked.Any(one => one.Service == job.Name || one.What == "drill"))
                taken.Clear(); // a job that is stopped and started counts its moments anew
            else
                foreach (var line in all.Skip(seen))
                    if (line.Split(' ') is [var moment, var run] && !taken.TryAdd(moment, run) && taken[moment] != run)
                        broken.Add($"{job.Name} was run for {moment} by run {taken[moment]} and by run {run}");
            moments[job.Name] = (taken, all.Length);
        }
    }

    private readonly Dictionary<string, (Dictionary<string, string> Taken, int Seen)> moments = [];

    /// <summary>Moments of jobs that were run for.</summary>
    public int Moments { get; private set; }

    /// <summary>What each thread of a process does, as the kernel has it: its state, and which call it is in (proc(5)).</summary>
    private static string Threads(int pid)
    {
        try
        {
            return $"pid {pid} ({string.Join(' ', ProcessFacts.CommandLine(pid).Take(2).Select(Path.GetFileName))}, of {ProcessFacts.Parent(pid)}): "
                + string.Join(
                    ", ",
                    Directory
                        .EnumerateDirectories($"/proc/{pid}/task")
                        .Select(task =>
                            File.ReadAllText(task + "/comm").Trim()
                            + " "
                            + File.ReadAllText(task + "/stat").Split(") ")[^1][0]
                            + " "
                            + string.Join(' ', File.ReadAllText(task + "/syscall").Split(' ').Take(3))
                        )
                );
        }
        catch (IOException)
        {
            return $"pid {pid} has ended";
        }
    }

    /// <summary>The whole lines that came since the last look, also in files that were turned over and packed meanwhile.</summary>
    private string New(string folder)
    {
        if (!Directory.Exists(folder))
            return "";
        var (number, place) = read.GetValueOrDefault(folder, (1, 0));
        var all = new StringBuilder();
        while (true)
        {
            // Files are turned over and packed meanwhile: that one with this number lies there shows that the current one, which
            // was opened before, was this one or an older.
            using var current = Opened(Path.Combine(folder, "output.log"));
            Stream? turned = Opened(Path.Combine(folder, $"output.{number}.log"));
            if (turned is null)
            {
                var packed = Opened(Path.Combine(folder, $"output.{number}.log.gz"));
                turned = packed is null ? null : new GZipStream(packed, CompressionMode.Decompress);
            }

            using (turned)
            {
                if ((turned ?? current) is not { } bytes)
                    return all.ToString();
                using var whole = new MemoryStream();
                bytes.CopyTo(whole);
                var more = whole.GetBuffer().AsSpan(0, (int)whole.Length)[(int)Math.Min(place, whole.Length)..];
                var end = more.LastIndexOf((byte)'\n') + 1;
                all.Append(Encoding.UTF8.GetString(more[..end]));
                read[folder] = turned is null ? (number, place + end) : (number + 1, 0);
            }

            if (turned is null)
                return all.ToString();
            (number, place) = read[folder];
        }
    }

    private static FileStream? Opened(string path)
    {
        try
        {
            return new(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
        }
        catch (IOException)
        {
            return null;
        }
    }

    /// <summary>
    /// A line cut off by a killed keeper may run into the first of the next run: '137 4' and '138 0' are '137 4138 0'.
    /// </summary>
    /// <returns>The run that begins in it; null: none does.</returns>
    private static string? RanInto(string line, string? next) =>
        next?.Split(' ') is [var run, "1", ..]
        && line.IndexOf($"{run} 0", StringComparison.Ordinal) is > 0
        && !line.StartsWith($"{run} 0", StringComparison.Ordinal)
            ? run
            : null;

    /// <summary>Of runs that are over nothing is left in the run directory.</summary>
    private void Leftovers(IReadOnlyList<JsonElement> views, List<string> broken)
    {
        foreach (var view in views)
        {
            var directory = machine.Places.RunOf(IdOf(view));
            if (!Directory.Exists(directory))
                continue;
            var left = Directory
                .EnumerateFiles(directory, "o*.*")
                .Select(Path.GetFileName)
                .Where(file =>
                    long.TryParse(Path.GetExtension(file)!.TrimStart('.'), out var run) && run < Run(view) - 2
                )
                .ToList();
            if (left.Count > 2)
                broken.Add($"{Name(view)}, at run {Run(view)}, still has {string.Join(", ", left)}");
        }
    }

    /// <summary>
    /// What a display shows of the live run is kept, and its dialog is noticed; of runs that are over no more pictures are there than may
    /// be, and none of a run that is to come.
    /// </summary>
    private async Task Windows(IReadOnlyList<JsonElement> views, List<string> broken)
    {
        foreach (var view in views.Where(view => Fleet.All.Any(one => one.Shows && one.Name == Name(view))))
        {
            var folder = Path.Combine(machine.Places.Pictures, IdOf(view));
            var until = DateTime.UtcNow + WindowLimit;
            while (State(view) == "running" && await Missing().ConfigureAwait(false) is { } missing)
            {
                if (DateTime.UtcNow > until)
                {
                    broken.Add($"{missing} of run {Run(view)} of {Name(view)}");
                    break;
                }

                await Task.Delay(100).ConfigureAwait(false);
            }

            var kept = Directory.Exists(folder) ? Directory.GetFiles(folder, "*.png") : [];
            if (kept.Length > MostPictures)
                broken.Add($"{kept.Length} pictures are kept of {Name(view)}");

            async Task<string?> Missing()
            {
                var asked = await machine.Calm("show", Name(view), "--json").ConfigureAwait(false);
                if (asked.Exit != 0)
                    return $"nothing is shown ({asked.Error})";
                var now = JsonDocument.Parse(asked.Output).RootElement;
                if (State(now) != "running" || Run(now) != Run(view))
                    return null; // it ended by itself meanwhile
                if (now.GetProperty("asks").GetString() != $"berth {Run(view)}")
                    return "the dialog is not noticed";
                var picture = Path.Combine(folder, $"{Run(view)}.png");
                return !File.Exists(picture) ? "no picture is kept"
                    : !File.ReadAllBytes(picture)
                        .AsSpan()
                        .EndsWith((ReadOnlySpan<byte>)[0x49, 0x45, 0x4e, 0x44, 0xae, 0x42, 0x60, 0x82])
                        ? "half a picture is kept"
                    : null;
            }
        }
    }

    private static readonly TimeSpan WindowLimit = TimeSpan.FromSeconds(30);

    private const int MostPictures = 10,
        BetweenWindows = 5;

    private int rests;

    private static string Name(JsonElement view) => view.GetProperty("name").GetString()!;

    private static string State(JsonElement view) => view.GetProperty("state").GetString()!;

    private static string IdOf(JsonElement view) => $"S{view.GetProperty("id").GetInt64()}";

    private static long Run(JsonElement view) =>
        view.TryGetProperty("run", out var run) && run.ValueKind == JsonValueKind.Number ? run.GetInt64() : 0;
}
