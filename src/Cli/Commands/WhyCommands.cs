using System.CommandLine;
using System.Globalization;
using System.Text;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;

namespace CalmSentry.Cli.Commands;

/// <summary>
/// <c>why</c>, <c>runs</c>, <c>board</c>, <c>release</c>: why things are as they are, and what asks for a person.
/// </summary>
internal static class WhyCommands
{
    public static Command Why()
    {
        var name = Common.Name();
        var at = new Option<string?>("--at")
        {
            Description = "A time in the past: 03:12, '2026-11-20 03:12', or ISO 8601",
        };
        var json = Common.Json();
        var command = new Command(
            "why",
            "Why a service is, or was, as it is: what led there, what comes next, what you could do"
        )
        {
            name,
            at,
            json,
        };
        command.Shows(
            json,
            parsed =>
            {
                var query = parsed.GetValue(at) is { } text ? $"?at={Uri.EscapeDataString(text)}" : "";
                return $"{SentryClient.PathOf(parsed.GetValue(name)!)}/why{query}";
            },
            () => ApiJson.Plain.WhyView,
            why =>
            {
                Write(why);
            }
        );
        return command;
    }

    private static void Write(WhyView why)
    {
        Console.WriteLine(
            why.Past
                ? $"{why.Title} at {Stamp(why.At)}: {Words.Of(why.State)} since {Stamp(why.Since)}, health {Words.Of(why.Health)}."
                : $"{why.Title}: {Words.Of(why.State)} since {Stamp(why.Since)}, health {Words.Of(why.Health)}."
        );
        Console.WriteLine(why.Said);
        Console.WriteLine("\nWhat led there:");
        foreach (var step in why.Because)
            Console.WriteLine(
                $"  {Stamp(step.At)}{(step.Until > step.At ? $" to {Stamp(step.Until)}" : "")}  "
                    + $"{step.Text}{(step.By is { } by ? $" ({by})" : "")}"
            );
        if (why.Because.Count == 0)
            Console.WriteLine("  Nothing is on record.");
        if (why.LastFailure is { } failure)
        {
            Console.WriteLine($"\nLast lines before run {failure.Run} {failure.Words}, at {Stamp(failure.At)}:");
            foreach (var line in failure.LastLines)
                Console.WriteLine($"  | {line}");
            if (failure.LastLines.Count == 0)
                Console.WriteLine("  It printed nothing.");
        }

        Console.WriteLine(why.Past ? "\nWhat was to happen next:" : "\nWhat happens next:");
        foreach (var next in why.Next)
            Console.WriteLine($"  {(next.At is { } then ? $"{Stamp(then)}  " : "")}{next.Text}");
        if (why.Next.Count == 0)
            Console.WriteLine("  Nothing.");
        if (why.Could.Count == 0)
            return;
        Console.WriteLine("\nWhat you could do:");
        var width = why.Could.Max(could => could.Command.Length);
        foreach (var could in why.Could)
            Console.WriteLine($"  {could.Command.PadRight(width)}   {could.Text}");
    }

    public static Command Runs()
    {
        var name = Common.Name();
        var last = new Option<int>("--last") { Description = "How many", DefaultValueFactory = _ => 20 };
        var before = new Option<string?>("--before") { Description = "Only those that began before this time" };
        var run = new Option<long?>("--run") { Description = "All that is kept of one run, by its number" };
        var json = Common.Json();
        var command = new Command(
            "runs",
            "A service's runs: began, ended, how, by whom, what they took; and how much it ran"
        )
        {
            name,
            last,
            before,
            run,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var path = SentryClient.PathOf(parsed.GetValue(name)!);
                var of = parsed.GetValue(before) is { } text ? $"&before={Uri.EscapeDataString(text)}" : "";
                var one = parsed.GetValue(run);
                var runs = await client
                    .Get(
                        $"{path}/runs?last={(one is null ? parsed.GetValue(last) : 10_000)}{of}",
                        ApiJson.Default.IReadOnlyListRunView,
                        cancellation
                    )
                    .ConfigureAwait(false);
                if (one is { } number)
                {
                    runs = [.. runs.Where(view => view.Run == number)];
                    if (runs.Count == 0)
                        throw new Failure(
                            Exit.NoSuchThing,
                            $"There is no run {number} on record.",
                            $"calm runs {CommandLine.Quoted(parsed.GetValue(name)!)} lists those there are."
                        );
                }

                if (parsed.GetValue(json))
                    Common.WriteJson(runs, ApiJson.Plain.IReadOnlyListRunView);
                else if (runs.Count == 0)
                    Console.WriteLine("No run yet.");
                else if (one is not null)
                    Write(parsed.GetValue(name)!, runs[0]);
                else
                {
                    Write(runs);
                    var availability = await client
                        .Get($"{path}/availability", ApiJson.Default.IReadOnlyListAvailabilityView, cancellation)
                        .ConfigureAwait(false);
                    Write(availability);
                }

                return Exit.True;
            }
        );
        return command;
    }

    private static void Write(IReadOnlyList<AvailabilityView> availability)
    {
        if (availability.All(of => of.Job is not null))
        {
            Console.WriteLine("\nHow its runs went:");
            Table.Write(
                ["OVER", "DONE", "FAILED", "MISSED", "LATE", "USUALLY", "LONGEST"],
                [
                    .. availability.Select(of =>
                        new[]
                        {
                            Window(of),
                            Text(of.Job!.Done),
                            Text(of.Job.Failed),
                            Text(of.Job.Missed),
                            Text(of.Job.Late),
                            of.Job.UsualMs is { } usual ? Length(usual) : "-",
                            of.Job.LongestMs is { } longest ? Length(longest) : "-",
                        }
                    ),
                ]
            );
            return;
        }

        Console.WriteLine("\nOf the time it was to run, it ran:");
        Table.Write(
            ["OVER", "RAN", "UP", "FAILED", "FAILURES", "PLANNED STOPS", "PLANNED DOWN"],
            [
                .. availability.Select(of =>
                    new[]
                    {
                        Window(of),
                        Percent(of.Percent),
                        Length(of.UpMs),
                        Length(of.FallenMs),
                        Text(of.Falls),
                        Text(of.Stops),
                        Length(of.PlannedMs),
                    }
                ),
            ]
        );
    }

    private static string Window(AvailabilityView of) =>
        of.Window switch
        {
            "day" => "a day",
            "week" => "a week",
            "30-days" => "30 days",
            _ => "12 months",
        };

    public static void Write(IReadOnlyList<RunView> runs) =>
        Table.Write(
            ["RUN", "FILES", "STARTED", "BY", "LASTED", "ENDED BY", "PEAK MEMORY", "CPU", "OUTPUT", "HOW IT ENDED"],
            [
                .. runs.Select(run =>
                    new[]
                    {
                        Text(run.Run),
                        run.Version is { } version ? Text(version) : "-",
                        Lengths.At(run.Began),
                        run.BegunBy ?? Words.Of(run.Cause),
                        Lengths.Of((run.Ended ?? DateTimeOffset.UtcNow) - (run.Launched ?? run.Began)),
                        run.EndedBy ?? "-",
                        Size(run.PeakKib * 1024),
                        run.CpuUs is { } cpu ? string.Create(CultureInfo.InvariantCulture, $"{cpu / 1e6:0.00} s") : "-",
                        Size(run.OutputBytes),
                        (run.Words ?? "running")
                            + (run.Forced ? ", after its steps did not suffice" : "")
                            + (
                                run.Steps is [.., { EndedMs: not null } step] && !run.Forced
                                    ? $"; {step.What} did it"
                                    : ""
                            ),
                    }
                ),
            ]
        );

    private static void Write(string name, RunView run)
    {
        Row("run", $"{run.Run}, started by {run.BegunBy ?? Words.Of(run.Cause)} at {Lengths.At(run.Began)}");
        if (run.Version is { } version)
            Row("files", $"version {version}");
        if (run.Launched is { } launched)
            Row("launched", $"{Lengths.At(launched)} as pid {run.Pid}");
        if (run.Proven is { } proven)
            Row("ready", $"{Lengths.At(proven)}: {run.Proof}");
        Row(
            "ended",
            run.Ended is { } ended
                ? $"{Lengths.At(ended)} by {run.EndedBy ?? "-"}, "
                    + $"{Lengths.Of(ended - (run.Launched ?? run.Began))} after its launch: "
                    + $"{run.Words}{(run.Forced ? ", after its steps did not suffice" : "")}"
                : "running"
        );
        Row(
            "took",
            $"peak memory {Size(run.PeakKib * 1024)} of one process, "
                + $"{(run.CpuUs is { } cpu ? string.Create(CultureInfo.InvariantCulture, $"{cpu / 1e6:0.00} s") : "-")} "
                + $"of processor time, {Size(run.OutputBytes)} of output"
        );
        foreach (var step in run.Steps)
            Row(
                "wind-down",
                $"{Lengths.At(step.At)} "
                    + $"{step.What}{(step.Answer is { } answer ? $": {answer}" : "")}{(step.Failed ? " (failed)" : "")}"
                    + (step.EndedMs is { } after ? $"; it ended {Lengths.Exactly(after)} after that" : "")
            );
        if (run.PictureAt is { } taken)
            Row(
                "window",
                $"as it was last seen, at {Lengths.At(taken)}: calm window {name} --run {run.Run} --to FILE.png"
            );
        if (run.Evidence is not { } evidence)
            return;
        if (evidence.MemoryBytes is not null)
            Row(
                "last look",
                $"memory {Size(evidence.MemoryBytes)}, processor "
                    + $"{(evidence.CpuPercent is { } percent ? string.Create(CultureInfo.InvariantCulture, $"{percent:0} %") : "-")}, "
                    + $"at {(evidence.SampledAt is { } at ? Lengths.At(at) : "-")}"
            );
        if (evidence.CoreDump is { } core)
            Row("core dump", core);
        Row(
            "changed",
            evidence.WellRun is not { } well ? "it has never run well before, so there is nothing to compare with"
                : evidence.Changes.Count == 0 ? $"nothing that is looked at, since run {well} went well"
                : $"since run {well} went well:"
        );
        foreach (var change in evidence.Changes)
            Row("", change);
        for (var i = 0; i < evidence.LastLines.Count; i++)
            Row(i == 0 ? "last lines" : "", evidence.LastLines[i]);
        if (evidence.LastLines.Count == 0)
            Row("last lines", "it printed nothing");
    }

    public static Command Release() => AskCommands.Each("release", "Let services that are on hold try again");

    public static Command Board()
    {
        var once = new Option<bool>("--once") { Description = "Show it as it is now and end; so it is in a pipe" };
        var json = Common.Json();
        var command = new Command("board", "What needs attention now, live until Ctrl-C") { once, json };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                Task<BoardView> Now() => client.Get("board", ApiJson.Default.BoardView, cancellation);
                var board = await Now().ConfigureAwait(false);
                if (parsed.GetValue(json))
                    Common.WriteJson(board, ApiJson.Plain.BoardView);
                else if (parsed.GetValue(once) || Console.IsOutputRedirected)
                    Console.Write(Folded(board, live: false));
                else
                    await Follow(client, board, Now, cancellation).ConfigureAwait(false);
                return Exit.True;
            }
        );
        return command;
    }

    private static async Task Follow(
        SentryClient client,
        BoardView board,
        Func<Task<BoardView>> next,
        CancellationToken cancellation
    )
    {
        using var changed = new SemaphoreSlim(1);
        Console.Write(Terminal.OtherScreen);
        try
        {
            var watching = client.Watch(_ => changed.Release(), null, cancellation);
            while (!cancellation.IsCancellationRequested && !watching.IsCompleted)
            {
                Console.Write(Terminal.Home + Folded(board, live: true));
                await changed.WaitAsync(TimeSpan.FromSeconds(1), cancellation).ConfigureAwait(false);
                while (changed.CurrentCount > 0)
                    await changed.WaitAsync(cancellation).ConfigureAwait(false);
                board = await next().ConfigureAwait(false);
            }

            await watching.ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            // Ctrl-C is how it ends.
        }
        finally
        {
            Console.Write(Terminal.Back);
        }
    }

    private static string Folded(BoardView board, bool live) => Folding.Prose(Text(board, live), Terminal.Width());

    private static string Text(BoardView board, bool live)
    {
        var text = new StringBuilder();
        var colours = !Console.IsOutputRedirected;
        text.Append(
            CultureInfo.InvariantCulture,
            $"{board.Host}, {Lengths.DayAt(board.At)}{(live ? "   (Ctrl-C ends)" : "")}\n\n"
        );
        foreach (var limit in board.Limits)
            text.Append(
                CultureInfo.InvariantCulture,
                $"{(colours ? Terminal.Red : "")}{limit}{(colours ? Terminal.Plain : "")}\n\n"
            );
        if (board.NeedAttention.Count == 0)
            text.Append("No service needs attention.\n");
        else
            text.Append(
                CultureInfo.InvariantCulture,
                $"{(colours ? Terminal.Red : "")}{board.NeedAttention.Count} "
                    + $"{(board.NeedAttention.Count == 1 ? "service needs" : "services need")} "
                    + $"attention:{(colours ? Terminal.Plain : "")}\n"
            );
        foreach (var view in board.NeedAttention)
        {
            text.Append(
                CultureInfo.InvariantCulture,
                $"  {view.Name}  {Words.Of(view.State)}{(view.Health == HealthLevel.Poor ? ", poor" : "")} since "
                    + $"{Lengths.At(view.HealthSince ?? view.Since)}: {view.Attention}\n"
            );
            text.Append(CultureInfo.InvariantCulture, $"      calm why {view.Name}\n");
        }

        if (board.Asking.Count > 0)
            text.Append("\nProbably asking at their terminals:\n");
        foreach (var view in board.Asking)
            text.Append(CultureInfo.InvariantCulture, $"  {view.Name}  {Words.Of(view.State)}: {view.Why}\n");
        if (board.Apart.Count > 0)
            text.Append("\nDifferent from their files:\n");
        foreach (var view in board.Apart)
            text.Append(
                CultureInfo.InvariantCulture,
                $"  {view.Name}  since {Lengths.At(view.ApartSince!.Value)}{(view.Files is { } place ? $": calm compare {CommandLine.Quoted(place)}" : "")}\n"
            );
        if (board.Moving.Count > 0)
            text.Append("\nStarting, stopping or waiting:\n");
        foreach (var view in board.Moving)
            text.Append(CultureInfo.InvariantCulture, $"  {view.Name}  {Words.Of(view.State)}: {view.Why}\n");
        text.Append(
            CultureInfo.InvariantCulture,
            $"\n{board.Well} running and healthy, {board.Down} stopped as intended.\n"
        );
        if (board.Told.Count > 0)
            text.Append("\nRecent alerts:\n");
        foreach (var entry in board.Told)
            text.Append(
                CultureInfo.InvariantCulture,
                $"  {Lengths.At(entry.At)}  {entry.Service ?? "(sentry)"}  {entry.Text}\n"
            );
        return text.ToString();
    }

    private static string Stamp(DateTimeOffset time) => Lengths.At(time);

    private static string Percent(double? percent) =>
        percent is { } known
            ? string.Create(CultureInfo.InvariantCulture, $"{Math.Floor(known * 1000) / 1000:0.###} %")
            : "-";

    private static string Length(double ms) => ms <= 0 ? "-" : Lengths.Of(TimeSpan.FromMilliseconds(ms));

    private static string Size(long? bytes) =>
        bytes switch
        {
            null => "-",
            < 1024 => string.Create(CultureInfo.InvariantCulture, $"{bytes} B"),
            < 1 << 20 => string.Create(CultureInfo.InvariantCulture, $"{bytes / 1024.0:0.0} KiB"),
            _ => string.Create(CultureInfo.InvariantCulture, $"{bytes / 1048576.0:0.0} MiB"),
        };

    private static void Row(string key, string value) => Console.WriteLine($"  {key, -11} {value}");

    private static string Text(long number) => number.ToString(CultureInfo.InvariantCulture);
}
