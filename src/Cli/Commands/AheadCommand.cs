using System.CommandLine;
using System.Globalization;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Text;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm ahead</c>: what is planned; leaving the next moment out, or taking it now.</summary>
internal static class AheadCommand
{
    /// <summary>Of what comes more often than this only the first few moments have a line.</summary>
    private const int MostOfOne = 5;

    public static Command Make()
    {
        var length = new Option<string?>("--for")
        {
            Description = "How far ahead, such as 12h or 30d; 7d if left out",
            HelpName = "LENGTH",
        };
        var skip = new Option<bool>("--skip")
        {
            Description = "Leave the next moment of these services out, this once",
        };
        var now = new Option<bool>("--now")
        {
            Description = "Take the next moment of these services now; it does not come again",
        };
        var moments = new Option<string?>("--moments")
        {
            Description = "Only show the next ten moments of such a rhythm; nothing is planned",
            HelpName = "RHYTHM",
        };
        var zone = new Option<string?>("--zone") { Description = "With --moments: by whose clock", HelpName = "ZONE" };
        var dry = Common.Dry();
        var json = Common.Json();
        var command = new Command("ahead", "Show what is planned: runs of jobs and restarts, with their usual length");
        var selection = new Selection(command);
        foreach (var option in new Option[] { length, skip, now, moments, zone, dry, json })
            command.Add(option);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var quiet = parsed.GetValue(json);
                if (parsed.GetValue(moments) is { } words)
                    return await Moments(client, words, parsed.GetValue(zone), quiet, cancellation)
                        .ConfigureAwait(false);
                var (skips, advances) = (parsed.GetValue(skip), parsed.GetValue(now));
                if (skips && advances)
                    throw new Failure(Exit.Usage, "Either --skip or --now; nothing was done.");
                var services = selection.IsGiven(parsed)
                    ? await selection.Of(client, parsed, cancellation).ConfigureAwait(false)
                    : [];
                if (!skips && !advances)
                    return await Show(client, services, parsed.GetValue(length), quiet, cancellation)
                        .ConfigureAwait(false);
                if (services.Count == 0)
                    throw new Failure(
                        Exit.Usage,
                        "Of which service? Nothing was done.",
                        $"calm ahead NAME --{(skips ? "skip" : "now")}"
                    );
                var exit = Exit.True;
                foreach (var service in services)
                    exit = Math.Max(
                        exit,
                        await AskCommands
                            .Ask(
                                client,
                                HttpMethod.Post,
                                $"{SentryClient.PathOf(service)}/{(skips ? "skip" : "advance")}"
                                    + (parsed.GetValue(dry) ? "?dry=true" : ""),
                                service,
                                quiet,
                                cancellation
                            )
                            .ConfigureAwait(false)
                    );
                return exit;
            }
        );
        return command;
    }

    private static async Task<int> Moments(
        SentryClient client,
        string words,
        string? zone,
        bool json,
        CancellationToken cancellation
    )
    {
        var view = await client
            .Get(
                $"moments?when={Uri.EscapeDataString(words)}&zone={Uri.EscapeDataString(zone ?? "")}",
                ApiJson.Default.MomentsView,
                cancellation
            )
            .ConfigureAwait(false);
        if (json)
            Common.WriteJson(view, ApiJson.Plain.MomentsView);
        else
            Write([view]);
        return Exit.True;
    }

    /// <summary>The next moments of rhythms, as somebody reads them who is about to save them.</summary>
    public static void Write(IReadOnlyList<MomentsView>? all)
    {
        foreach (var one in all ?? [])
        {
            Console.WriteLine($"  {one.When}, by the clock of {one.Zone}; the next moments:");
            var two = one.Moments.Any(moment => moment.Here is not null);
            foreach (var moment in one.Moments)
                Console.WriteLine($"    {moment.There}{(two ? $"   here {moment.Here ?? moment.There}" : "")}");
            if (one.Moments.Count == 0)
                Console.WriteLine("    none any more");
        }
    }

    /// <summary>What a definition plans, before it is saved.</summary>
    /// <param name="path">Of the call that saves it, with what of its query there is.</param>
    public static async Task ShowBefore(
        SentryClient client,
        HttpMethod method,
        string path,
        Body body,
        CancellationToken cancellation
    )
    {
        try
        {
            using var content = body.Content();
            var answer = await client
                .Send(
                    method,
                    $"{path}{(path.Contains('?', StringComparison.Ordinal) ? '&' : '?')}dry=true",
                    content,
                    ApiJson.Default.Answer,
                    cancellation
                )
                .ConfigureAwait(false);
            Write(answer.Moments);
        }
        catch (Failure)
        {
            // What is wrong with it is told by the call that saves it.
        }
    }

    private static async Task<int> Show(
        SentryClient client,
        IReadOnlyList<string> services,
        string? length,
        bool json,
        CancellationToken cancellation
    )
    {
        var view = await client
            .Get(
                $"ahead?for={Uri.EscapeDataString(length ?? "7d")}"
                    + (services.Count == 0 ? "" : $"&services={Uri.EscapeDataString(string.Join(',', services))}"),
                ApiJson.Default.AheadView,
                cancellation
            )
            .ConfigureAwait(false);
        if (json)
        {
            Common.WriteJson(view, ApiJson.Plain.AheadView);
            return Exit.True;
        }

        var coming = view
            .Planned.Concat(view.Quiet)
            .SelectMany(planned =>
                planned.Moments.Take(MostOfOne).Select((moment, i) => (planned, moment, first: i == 0))
            )
            .OrderBy(one => one.moment)
            .ToList();
        if (coming.Count == 0)
        {
            Console.WriteLine(
                view.Planned.Count + view.Quiet.Count == 0
                    ? "Nothing is planned: no job, no restart, and no quiet time."
                    : $"Nothing comes within {length ?? "7d"}."
            );
            return Exit.True;
        }

        Table.Write(
            ["WHEN", "SERVICE", "WHAT", "USUALLY", "RHYTHM"],
            [
                .. coming.Select(one =>
                    (string[])
                        [
                            Lengths.DayAt(one.moment),
                            one.planned.Service,
                            one.planned.LastsMs is { } lasts
                                ? $"{one.planned.What}, for {Duration.Write(TimeSpan.FromMilliseconds(lasts))}"
                                : one.planned.What,
                            Usually(one.planned),
                            one.first ? $"{one.planned.When} ({one.planned.Zone}){More(one.planned)}" : "",
                        ]
                ),
            ]
        );
        return Exit.True;
    }

    private static string Usually(PlannedView planned) =>
        planned is { UsualMs: { } usual, SlowMs: { } slow }
            ? $"{Lengths.Exactly(usual)}, up to {Lengths.Exactly(slow)}"
            : "-";

    private static string More(PlannedView planned) =>
        planned.Count <= MostOfOne
            ? ""
            : string.Create(CultureInfo.InvariantCulture, $", {planned.Count} moments in all");
}
