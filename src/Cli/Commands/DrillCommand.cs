using System.CommandLine;
using System.Globalization;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Guided;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Reports;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm drill</c>: prove a reboot without one.</summary>
internal static class DrillCommand
{
    private const int BarWidth = 40;

    public static Command Make()
    {
        var names = new Argument<string[]>("name")
        {
            Description = "Only these services and all they need",
            Arity = ArgumentArity.ZeroOrMore,
        };
        names.CompletionSources.Add(Common.ServiceNames);
        var without = new Option<string[]>("--without")
        {
            Description = "A service that goes on meanwhile, and with it all it needs",
            HelpName = "NAME",
        };
        without.CompletionSources.Add(Common.ServiceNames);
        var dry = new Option<bool>("--dry")
        {
            Description = "Only show the order and the expected time, from history; nothing is touched",
        };
        var last = new Option<bool>("--last") { Description = "Show the latest report again, of a boot or a drill" };
        var lastBoot = new Option<bool>("--last-boot") { Description = "Show the report of the latest real boot" };
        var yes = new Option<bool>("--yes") { Description = "Do not ask before anything is interrupted" };
        var (wait, json) = (Common.Wait(), Common.Json());
        var command = new Command(
            "drill",
            "Prove a reboot without one: stop all in order, start it as a boot would, and report"
        )
        {
            names,
            without,
            dry,
            last,
            lastBoot,
            yes,
            wait,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var quiet = parsed.GetValue(json);
                if (parsed.GetValue(last) || parsed.GetValue(lastBoot))
                {
                    var latest = await client
                        .Get(
                            parsed.GetValue(lastBoot) ? "drills/latest?kind=boot" : "drills/latest",
                            ApiJson.Default.BeginReport,
                            cancellation
                        )
                        .ConfigureAwait(false);
                    return Show(latest, quiet);
                }

                var query =
                    $"services={Uri.EscapeDataString(string.Join(',', parsed.GetValue(names) ?? []))}"
                    + $"&without={Uri.EscapeDataString(string.Join(',', parsed.GetValue(without) ?? []))}";
                var plan = await client
                    .Get($"drills/plan?{query}", ApiJson.Default.DrillPlan, cancellation)
                    .ConfigureAwait(false);
                if (parsed.GetValue(dry))
                {
                    if (quiet)
                        Common.WriteJson(plan, ApiJson.Plain.DrillPlan);
                    else
                        Write(plan, Console.Out);
                    return Exit.True;
                }

                if (!parsed.GetValue(yes))
                {
                    Write(plan, Console.Error);
                    if (Console.IsInputRedirected)
                        throw new Failure(
                            Exit.Usage,
                            "A drill interrupts what it names above; nobody is there to ask.",
                            "If that is wanted: calm drill --yes"
                        );
                    if (!Asking.YesNo("Interrupt these services now?", otherwise: false))
                    {
                        Console.WriteLine("Nothing was touched.");
                        return Exit.NotTrue;
                    }
                }

                if (parsed.GetValue(wait))
                    query += "&wait=true";
                return Show(await Play(client, query, quiet, cancellation).ConfigureAwait(false), quiet);
            }
        );
        return command;
    }

    private static async Task<BeginReport> Play(
        SentryClient client,
        string query,
        bool quiet,
        CancellationToken cancellation
    )
    {
        await foreach (
            var happened in client
                .Lines(HttpMethod.Post, $"drills?{query}", null, ApiJson.Default.DrillEvent, GoesOn, cancellation)
                .ConfigureAwait(false)
        )
        {
            if (happened.Report is { } report)
            {
                if (!quiet)
                    Console.Error.WriteLine();
                return report;
            }

            if (!quiet)
                Console.Error.WriteLine($"… {happened.Text}");
        }

        throw SentryClient.WentAway(GoesOn);
    }

    private const string GoesOn = "the drill goes on with the next one: 'calm drill --last' shows what came of it";

    private static void Write(DrillPlan plan, TextWriter to)
    {
        if (plan.Stops.Count > 0)
        {
            to.WriteLine("To be interrupted, in this order (what does not need each other, at the same time):");
            Table.Write(
                ["", "SERVICE", "UP", "STOPS USUALLY IN", "AT MOST"],
                [
                    .. plan.Stops.Select(
                        (stop, i) =>
                            new[]
                            {
                                Number(i + 1),
                                stop.Name,
                                Long(stop.UpMs),
                                Long(stop.UsualMs),
                                Long(stop.LongestMs),
                            }
                    ),
                ],
                to: to
            );
            to.WriteLine();
        }

        to.WriteLine(
            plan.Begins.Count == 0 ? "Nothing starts with the machine." : "Then started as a boot would, in this order:"
        );
        if (plan.Begins.Count > 0)
            Table.Write(
                ["", "SERVICE", "STARTS", "USUALLY IN", "READY AT", "AFTER"],
                [
                    .. plan.Begins.Select(
                        (begin, i) =>
                            new[]
                            {
                                Number(i + 1),
                                begin.Name,
                                begin.At,
                                Long(begin.UsualMs),
                                begin.UsualMs is null ? "not known" : Long(begin.ExpectedMs),
                                begin.Needs.Count == 0 ? "-" : string.Join(", ", begin.Needs),
                            }
                    ),
                ],
                to: to
            );
        to.WriteLine($"\n{plan.Said}");
    }

    private static int Show(BeginReport report, bool quiet)
    {
        if (quiet)
            Common.WriteJson(report, ApiJson.Plain.BeginReport);
        else
            Write(report);
        return report.CameTrue ? Exit.True : Exit.NotTrue;
    }

    private static void Write(BeginReport report)
    {
        var sinceBoot = report.Booted is { } booted ? (report.Began - booted).TotalMilliseconds : 0;
        Console.WriteLine(
            report.Kind switch
            {
                ReportKind.Boot =>
                    $"Boot of {Lengths.At(report.Booted ?? report.Began)}; the sentry started {Seconds(sinceBoot)} "
                        + $"after it. Times are since the boot.",
                ReportKind.Drill =>
                    $"Drill of {Lengths.At(report.Began)}, asked for by {report.By}. Times are since the "
                        + $"word to start.",
                _ => $"Start of {Lengths.At(report.Began)}, after all had been stopped.",
            }
        );
        if (report.Stops.Count > 0)
        {
            Console.WriteLine($"\nStopped, in {Seconds(report.Stops.Max(stop => stop.FromMs + stop.TookMs))}:");
            Table.Write(
                ["SERVICE", "FROM", "TOOK", ""],
                [
                    .. report.Stops.Select(stop =>
                        new[] { stop.Name, Seconds(stop.FromMs), Seconds(stop.TookMs), stop.Forced ? "killed" : "" }
                    ),
                ]
            );
        }

        var begun = report.Services.Where(service => service.Came != "not-begun").ToList();
        var whole = begun
            .Select(service => service.ProvenMs ?? service.LaunchedMs ?? 0)
            .Append(report.TookMs)
            .Append(1)
            .Max();
        Console.WriteLine("\nStarted (· waiting, ~ starting, █ ready):");
        Table.Write(
            ["SERVICE", "OUTCOME", "STARTED", "READY", "USUALLY", "TIME LINE", "WAITED FOR"],
            [
                .. begun.Select(service =>
                    new[]
                    {
                        service.Name,
                        Outcome(service.Came) + (service.Tries > 1 ? $", try {service.Tries}" : ""),
                        Since(service.LaunchedMs, sinceBoot),
                        Since(service.ProvenMs, sinceBoot),
                        Long(service.UsualMs),
                        Bar(service, whole),
                        !service.Waited.Any(IsLong)
                            ? "-"
                            : string.Join(
                                ", ",
                                service
                                    .Waited.Where(IsLong)
                                    .Select(waited =>
                                        $"{waited.For} {Seconds(waited.Ms)}{(waited.PassedOver ? " in vain" : "")}"
                                    )
                            ),
                    }
                ),
            ],
            row => begun[row].Came is not ("proven" or "over")
        );
        foreach (var service in begun.Where(service => service.Came != "proven"))
            Console.WriteLine($"\n{service.Name}: {service.Why}");
        var different = report.Services.Where(service => service.Differences.Count > 0).ToList();
        if (different.Count > 0)
            Console.WriteLine("\nDifferent from before:");
        foreach (var service in different)
            Console.WriteLine($"  {service.Name, -20} {string.Join(" ", service.Differences)}");
        Console.WriteLine(
            $"\n{report.Said} {(report.LoggedIn.Count == 0 ? "Nobody was logged in." : $"Logged in: {string.Join(", ", report.LoggedIn)}.")}"
        );
    }

    private static string Bar(BeginView service, double whole)
    {
        var bar = new char[BarWidth];
        for (var i = 0; i < BarWidth; i++)
        {
            var at = (i + 0.5) / BarWidth * whole;
            bar[i] =
                at >= (service.ProvenMs ?? double.MaxValue) ? '█'
                : at >= (service.LaunchedMs ?? double.MaxValue) ? '~'
                : at >= (service.WantedMs ?? double.MaxValue) ? '·'
                : ' ';
        }

        if (service.ProvenMs is not null)
            bar[^1] = '█'; // the last to be proven has no time left to show it
        return new(bar);
    }

    private static string Outcome(string came) =>
        came switch
        {
            "proven" => "ready",
            "over" => "ended well",
            _ => came.Replace('-', ' '),
        };

    /// <summary>What was there already was not waited for.</summary>
    private static bool IsLong(WaitedView waited) => waited.PassedOver || waited.Ms >= 5;

    private static string Since(double? ms, double from) => ms is { } time ? Seconds(time + from) : "-";

    private static string Seconds(double ms) => string.Create(CultureInfo.InvariantCulture, $"{ms / 1000:0.00} s");

    private static string Long(double? ms) => ms is { } length ? Lengths.Exactly(length) : "-";

    private static string Number(int number) => number.ToString(CultureInfo.InvariantCulture);
}
