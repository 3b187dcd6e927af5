using System.CommandLine;
using System.Globalization;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm history NAME</c> and <c>calm revert NAME REVISION</c>: what a definition was, and that it is so again.</summary>
internal static class HistoryCommands
{
    public static Command History()
    {
        var name = Common.Name();
        var last = new Option<int>("--last") { Description = "How many revisions", DefaultValueFactory = _ => 20 };
        var from = new Option<int?>("--from") { Description = "What differs from this revision", HelpName = "N" };
        var to = new Option<int?>("--to")
        {
            Description = "With --from: in this one; left out: in the one in effect",
            HelpName = "N",
        };
        var file = new Option<int?>("--file") { Description = "One revision, as a definition file", HelpName = "N" };
        var json = Common.Json();
        var command = new Command("history", "Revisions of a definition: when, by whom, and what each changed")
        {
            name,
            last,
            from,
            to,
            file,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var service = parsed.GetValue(name)!;
                var path = $"{SentryClient.PathOf(service)}/revisions";
                if (parsed.GetValue(to) is not null && parsed.GetValue(from) is null)
                    throw new Failure(
                        Exit.Usage,
                        "--to goes with --from.",
                        $"calm history {CommandLine.Quoted(service)} --from 3 --to 5"
                    );
                if (parsed.GetValue(file) is { } one)
                {
                    using var answer = await client
                        .Stream(string.Create(CultureInfo.InvariantCulture, $"{path}/{one}"), cancellation)
                        .ConfigureAwait(false);
                    Console.Write(await answer.Content.ReadAsStringAsync(cancellation).ConfigureAwait(false));
                    return Exit.True;
                }

                var all = await client
                    .Get(
                        string.Create(CultureInfo.InvariantCulture, $"{path}?last={parsed.GetValue(last)}"),
                        ApiJson.Default.IReadOnlyListRevisionView,
                        cancellation
                    )
                    .ConfigureAwait(false);
                if (parsed.GetValue(from) is { } before)
                {
                    var after = parsed.GetValue(to) ?? all[0].Revision;
                    var difference = await client
                        .Get(
                            string.Create(CultureInfo.InvariantCulture, $"{path}/{after}/difference?from={before}"),
                            ApiJson.Default.RevisionDifference,
                            cancellation
                        )
                        .ConfigureAwait(false);
                    if (parsed.GetValue(json))
                        Common.WriteJson(difference, ApiJson.Plain.RevisionDifference);
                    else
                        Write(service, difference);
                    return Exit.True;
                }

                if (parsed.GetValue(json))
                    Common.WriteJson(all, ApiJson.Plain.IReadOnlyListRevisionView);
                else
                    Write(all);
                return Exit.True;
            }
        );
        return command;
    }

    private static void Write(string service, RevisionDifference difference)
    {
        Console.WriteLine(
            difference.Changes.Count == 0
                ? $"Revisions {difference.From} and {difference.To} of {service} are the same."
                : $"From revision {difference.From} to {difference.To} of {service}:"
        );
        foreach (var change in difference.Changes)
            Console.WriteLine($"  {change}");
    }

    private static void Write(IReadOnlyList<RevisionView> all) =>
        Table.Write(
            ["REVISION", "GIVEN", "BY", "WHAT IT CHANGED"],
            [
                .. all.SelectMany(one =>
                    (
                        one.Changes.Count > 0 ? one.Changes : [one.Revision == 1 ? "wrapped" : "no effective change"]
                    ).Select(
                        (change, i) =>
                            i > 0
                                ? new[] { "", "", "", change }
                                :
                                [
                                    $"{one.Revision}{(one.InEffect ? " (in effect)" : "")}",
                                    Lengths.At(one.At),
                                    one.By + (one.From is { } place ? $", {place}" : ""),
                                    change,
                                ]
                    )
                ),
            ]
        );

    public static Command Revert()
    {
        var (name, dry, json) = (Common.Name(), Common.Dry(), Common.Json());
        var restart = new Option<bool>("--restart")
        {
            Description = "Where it runs and a start is needed: restart it, and wait for its proof",
        };
        var revision = new Argument<int>("revision") { Description = "The revision that is to hold again" };
        var command = new Command(
            "revert",
            "Make an earlier revision of a definition the newest, checked as any change"
        )
        {
            name,
            revision,
            restart,
            dry,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var service = parsed.GetValue(name)!;
                var came = await AskCommands
                    .Ask(
                        client,
                        HttpMethod.Post,
                        string.Create(
                            CultureInfo.InvariantCulture,
                            $"{SentryClient.PathOf(service)}/revisions/{parsed.GetValue(revision)}/revert{Common.Query(parsed, dry)}"
                        ),
                        service,
                        parsed.GetValue(json),
                        cancellation
                    )
                    .ConfigureAwait(false);
                if (came != Exit.True || !parsed.GetValue(restart) || parsed.GetValue(dry))
                    return came;
                var now = await client
                    .Get(SentryClient.PathOf(service), ApiJson.Default.ServiceDetail, cancellation)
                    .ConfigureAwait(false);
                return now.Pending is null
                    ? came
                    : await AskCommands
                        .Ask(
                            client,
                            HttpMethod.Post,
                            $"{SentryClient.PathOf(service)}/restart",
                            service,
                            parsed.GetValue(json),
                            cancellation
                        )
                        .ConfigureAwait(false);
            }
        );
        return command;
    }
}
