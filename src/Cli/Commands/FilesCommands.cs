using System.CommandLine;
using System.Net.Http.Json;
using CalmSentry.Cli.Files;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Guided;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Settling;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm export</c>, <c>calm compare</c> and <c>calm settle</c>: services as files.</summary>
internal static class FilesCommands
{
    private const string GoesOn = "the settling goes on with the next one: 'calm settle --last' shows what came of it";

    public static Command Export()
    {
        var to = new Option<string?>("--to")
        {
            Description = "The directory they are written to; what is the same is left as it is",
            HelpName = "DIR",
        };
        var json = new Option<bool>("--json")
        {
            Description = "All as one JSON document, which compare and settle take from a pipe",
        };
        var command = new Command("export", "Write definitions as files that read back to the same services");
        var selection = new Selection(command, mayBeAll: true);
        command.Add(to);
        command.Add(json);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var names = await selection.Of(client, parsed, cancellation).ConfigureAwait(false);
                if (names.Count == 0)
                    throw new Failure(Exit.NotTrue, "There is no service to be written.", "calm wrap NAME -- PROGRAM");
                var files = await client
                    .Get(
                        selection.IsAll(parsed)
                            ? "files"
                            : $"files?services={Uri.EscapeDataString(string.Join(',', names))}",
                        ApiJson.Default.FilesDocument,
                        cancellation
                    )
                    .ConfigureAwait(false);
                if (parsed.GetValue(json))
                {
                    Common.WriteJson(files, ApiJson.Plain.FilesDocument);
                    return Exit.True;
                }

                if (parsed.GetValue(to) is not { } directory)
                {
                    if (files.Files.Count > 1)
                        throw new Failure(
                            Exit.Usage,
                            $"Where to? These are {files.Files.Count} files.",
                            "calm export --all --to DIRECTORY, or --json for one document"
                        );
                    Console.Write(files.Files.Values.First());
                    return Exit.True;
                }

                var (written, same) = FilesDirectory.Write(files, directory);
                foreach (var file in written)
                    Console.WriteLine($"  written  {file}");
                Console.WriteLine(
                    (written.Count == 0 ? "Nothing was to be written" : $"{Many(written.Count, "file")} written")
                        + (same.Count == 0 ? "." : $"; {Many(same.Count, "file")} as they were.")
                        + $" 'calm compare {CommandLine.Quoted(directory)}' shows where they and this machine differ."
                );
                return Exit.True;
            }
        );
        return command;
    }

    public static Command Compare()
    {
        var directory = Directory("A directory of definition files; -: what is piped in");
        var with = new Argument<string?>("with")
        {
            Description = "Another directory; left out: this machine",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var takeAway = TakeAway("Count services that no file names as to be unwrapped");
        var json = Common.Json();
        var command = new Command(
            "compare",
            "Show where files and this machine differ, and what settling would do; exits 1 where they do"
        )
        {
            directory,
            with,
            takeAway,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var files = FilesDirectory.Read(parsed.GetValue(directory)!, mustBeOurs: false);
                var other = parsed.GetValue(with) is { } second ? FilesDirectory.Read(second, mustBeOurs: false) : null;
                var comparison = await Ask(client, files, other, parsed.GetValue(takeAway), cancellation)
                    .ConfigureAwait(false);
                if (parsed.GetValue(json))
                    Common.WriteJson(comparison, ApiJson.Plain.ComparisonView);
                else
                    Write(comparison, parsed.GetValue(with));
                return comparison.Same ? Exit.True : Exit.NotTrue;
            }
        );
        return command;
    }

    public static Command Settle()
    {
        var directory = new Argument<string?>("directory")
        {
            Description = "A directory of definition files; -: what is piped in",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var takeAway = TakeAway("Unwrap services that no file names");
        var back = new Option<bool>("--back") { Description = "Undo what the latest settling did" };
        var last = new Option<bool>("--last") { Description = "Show the latest settling, and what came of each step" };
        var yes = new Option<bool>("--yes") { Description = "Do not ask" };
        var dry = Common.Dry();
        var json = Common.Json();
        var command = new Command(
            "settle",
            "Bring this machine to files: shows what differs, asks, and carries it out with check and proof after each step"
        )
        {
            directory,
            takeAway,
            back,
            last,
            yes,
            dry,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var (path, quiet) = (parsed.GetValue(directory), parsed.GetValue(json));
                var (isBack, isLast) = (parsed.GetValue(back), parsed.GetValue(last));
                if ((path is null ? 0 : 1) + (isBack ? 1 : 0) + (isLast ? 1 : 0) != 1)
                    throw new Failure(Exit.Usage, "Either a directory, or --back, or --last.", "calm settle DIRECTORY");
                if (isBack || isLast)
                {
                    var latest = await client
                        .Get("files/settle", ApiJson.Default.SettlementView, cancellation)
                        .ConfigureAwait(false);
                    if (isLast || parsed.GetValue(dry))
                        return Show(latest, quiet, asked: isLast);
                    if (!parsed.GetValue(yes) && !quiet)
                        Demand($"Undo settling {latest.Number}, {Many(latest.Steps.Count, "step")} of {latest.By}?");
                    return Show(
                        await Follow(client, "files/settle/back", null, quiet, cancellation).ConfigureAwait(false),
                        quiet
                    );
                }

                var files = FilesDirectory.Read(path!, mustBeOurs: !parsed.GetValue(dry));
                var comparison = await Ask(client, files, null, parsed.GetValue(takeAway), cancellation)
                    .ConfigureAwait(false);
                if (parsed.GetValue(dry) && quiet)
                {
                    Common.WriteJson(comparison, ApiJson.Plain.ComparisonView);
                    return Exit.True;
                }

                if (!quiet && !comparison.Same)
                    Write(comparison, null);
                if (parsed.GetValue(dry))
                {
                    Console.WriteLine(comparison.Same ? Nothing(comparison) : "Nothing was done.");
                    return Exit.True;
                }

                if (!comparison.Same && !parsed.GetValue(yes) && !quiet)
                    Demand("Carry that out?");
                var settled = await Follow(
                        client,
                        "files/settle",
                        JsonContent.Create(
                            new SettleOrder(files, comparison.Tag, parsed.GetValue(takeAway)),
                            ApiJson.Default.SettleOrder
                        ),
                        quiet,
                        cancellation
                    )
                    .ConfigureAwait(false);
                return Show(settled, quiet);
            }
        );
        return command;
    }

    private static Argument<string> Directory(string about) => new("directory") { Description = about };

    private static Option<bool> TakeAway(string about) => new("--take-away") { Description = about };

    private static void Demand(string question)
    {
        if (Console.IsInputRedirected)
            throw new Failure(
                Exit.Usage,
                "Without a terminal nothing can be asked; nothing was done.",
                "If that is meant, say so: --yes"
            );
        if (!Asking.YesNo(question, otherwise: false))
            throw new Failure(Exit.NotTrue, "Left as it is; nothing was done.");
    }

    private static async Task<ComparisonView> Ask(
        SentryClient client,
        FilesDocument files,
        FilesDocument? with,
        bool takeAway,
        CancellationToken cancellation
    )
    {
        using var content = JsonContent.Create(new CompareOrder(files, with, takeAway), ApiJson.Default.CompareOrder);
        return await client
            .Send(HttpMethod.Post, "files/compare", content, ApiJson.Default.ComparisonView, cancellation)
            .ConfigureAwait(false);
    }

    private static async Task<SettlementView> Follow(
        SentryClient client,
        string path,
        HttpContent? content,
        bool quiet,
        CancellationToken cancellation
    )
    {
        await foreach (
            var happened in client
                .Lines(HttpMethod.Post, path, content, ApiJson.Default.SettleEvent, GoesOn, cancellation)
                .ConfigureAwait(false)
        )
        {
            if (happened.Over is { } over)
                return over;
            if (!quiet)
                Console.Error.WriteLine($"… {First(happened.Text)}");
        }

        throw SentryClient.WentAway(GoesOn);
    }

    private static int Show(SettlementView settled, bool quiet, bool asked = false)
    {
        if (quiet)
            Common.WriteJson(settled, ApiJson.Plain.SettlementView);
        else
        {
            if (asked)
            {
                Console.WriteLine(
                    $"Settling {settled.Number} of {Lengths.At(settled.Began)}, asked for by {settled.By}"
                        + (settled.Back is { } undone ? $", undid settling {undone}" : "")
                        + (settled.Directory is { } place ? $", from {place}" : "")
                        + (settled.Head is { } head ? $" ({head})" : "")
                        + "."
                );
                if (settled.Steps.Count > 0)
                    Table.Write(
                        ["", "STEP", "WHAT CAME OF IT"],
                        [
                            .. settled.Steps.Select(
                                (step, i) =>
                                    new[]
                                    {
                                        $"{i + 1}",
                                        step.What,
                                        step.State switch
                                        {
                                            SettleState.Waiting => "not done",
                                            SettleState.Begun => "under way",
                                            SettleState.Failed => $"failed: {First(step.Said)}",
                                            _ => First(step.Said),
                                        },
                                    }
                            ),
                        ]
                    );
            }

            Console.WriteLine(settled.Said);
            if (settled.Next is { } next)
                Console.WriteLine($"  → {next.Replace("\n", "\n  → ", StringComparison.Ordinal)}");
        }

        return settled.CameTrue ? Exit.True : Exit.NotTrue;
    }

    private static string First(string? said) => said?.Split('\n')[0].TrimEnd(':') ?? "";

    private static void Write(ComparisonView comparison, string? with)
    {
        foreach (var one in comparison.Differences)
        {
            Console.WriteLine($"{one.Name}{(one.File is { } file ? $"  ({file})" : "")}");
            foreach (var change in one.Changes)
                Console.WriteLine($"    {change}");
            if (with is null && one.Said.Count > 0)
                Console.WriteLine($"  → {string.Join(", ", one.Said)}");
            else if (with is not null && one.Changes.Count == 0)
                Console.WriteLine(one.File is null ? "    only there" : "    only here");
        }

        if (comparison.Differences.Count > 0)
            Console.WriteLine();
        if (comparison.Left.Count > 0)
            Asking.Tell($"In no file, and left as they are: {string.Join(", ", comparison.Left)}.");
        foreach (var note in comparison.Notes)
            Asking.Tell($"{note}.");
        Console.WriteLine(
            comparison.Same
                ? Nothing(comparison)
                : $"{Many(comparison.Differences.Count, "difference")} in {Many(comparison.Services, "service")} of {Many(comparison.Files, "file")}."
        );
    }

    private static string Nothing(ComparisonView comparison) =>
        $"Nothing is to be done: {Many(comparison.Services, "service")} {(comparison.Services == 1 ? "is" : "are")} as the files say.";

    private static string Many(int number, string what) => number == 1 ? $"1 {what}" : $"{number} {what}s";
}
