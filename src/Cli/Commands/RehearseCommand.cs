using System.CommandLine;
using System.Runtime.InteropServices;
using System.Text.Json;
using CalmSentry.Cli.Rehearsing;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm rehearse NAME | FILE | [flags] -- PROGRAM …</c></summary>
internal static class RehearseCommand
{
    public static Command Make(Typed typed)
    {
        var program = typed.Program;
        var target = new Argument<string?>("name-or-file")
        {
            Description = "A service that is not running, or a definition file",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var flags = new DefinitionFlags(typed.Names("rehearse") ? DefinitionKeys.All : []);
        var length = new Option<string>("--for")
        {
            Description = "How long it is let run, such as 30s; Ctrl-C ends it sooner",
            DefaultValueFactory = _ => "10s",
        };
        var adopt = new Option<bool>("--adopt") { Description = "Of a service: adjust it by what is proposed" };
        var write = new Option<string?>("--write")
        {
            Description = "Write the whole definition with what is proposed into this file",
        };
        var picture = new Option<string?>("--picture")
        {
            Description = "What it showed last on its own display, as a PNG, into this file",
            HelpName = "FILE",
        };
        var compare = new Option<bool>("--compare-with-mine")
        {
            Description = "Run it as you, in this shell, too, and name what differs",
        };
        var json = Common.Json();
        var command = new Command(
            "rehearse",
            "Run a program exactly as its service would, watch it, and report; nothing is registered"
        )
        {
            target,
            length,
            adopt,
            write,
            picture,
            compare,
            json,
        };
        foreach (var flag in flags.All)
            command.Add(flag);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var word = parsed.GetValue(target);
                var (path, body) = Target.Of(parsed, word, flags, program, "rehearse");
                if (parsed.GetValue(adopt) && body is not null)
                    throw new Failure(
                        Exit.Usage,
                        "--adopt goes with a service that is wrapped.",
                        "Use --write FILE, then calm wrap --from FILE."
                    );
                var quiet = parsed.GetValue(json);
                var query =
                    $"rehearsals?length={Uri.EscapeDataString(parsed.GetValue(length)!)}&accept={Uri.EscapeDataString(flags.Accepted(parsed))}";
                var report = await Play(client, body is null ? $"{path}/{query}" : query, body, quiet, cancellation)
                    .ConfigureAwait(false);
                if (quiet)
                    Common.WriteJson(report, ApiJson.Plain.RehearsalReport);
                else
                    ReportText.Write(report);
                if (parsed.GetValue(compare))
                    await MyOwn
                        .Compare(client, path, body, report, parsed.GetValue(length)!, cancellation)
                        .ConfigureAwait(false);
                if (parsed.GetValue(write) is { } file)
                {
                    await File.WriteAllTextAsync(file, report.File, cancellation).ConfigureAwait(false);
                    Console.Error.WriteLine(
                        $"The definition with what is proposed is in {file}; take it in with: calm wrap --from {CommandLine.Quoted(file)}"
                    );
                }

                if (parsed.GetValue(picture) is { } shown)
                {
                    if (report.Picture is { } png)
                        await WindowCommand.Save(png, "--picture", shown, cancellation).ConfigureAwait(false);
                    Console.Error.WriteLine(
                        report.Picture is null
                            ? $"No picture of a display of its own came, so {shown} is not written."
                            : $"What it showed last is in {shown}."
                    );
                }
                else if (report.Picture is not null && !quiet)
                    Console.Error.WriteLine("What it showed on its display: give --picture FILE.png as well.");

                if (parsed.GetValue(adopt))
                    return await Adopt(client, path, word!, report, cancellation).ConfigureAwait(false);
                return report.StayedUp ? Exit.True : Exit.NotTrue;
            }
        );
        return command;
    }

    /// <summary>
    /// Plays a rehearsal, shows its lines as they come, and returns its report. Ctrl-C ends the rehearsal, not the
    /// report.
    /// </summary>
    public static async Task<RehearsalReport> Play(
        SentryClient client,
        string path,
        Body? body,
        bool quiet,
        CancellationToken ended
    )
    {
        using var content = body?.Content();
        using var response = await client
            .Open(HttpMethod.Post, path, content, CancellationToken.None)
            .ConfigureAwait(false);
        using var reader = new StreamReader(
            await response.Content.ReadAsStreamAsync(CancellationToken.None).ConfigureAwait(false)
        );
        string? id = null;
        void End()
        {
            if (id is not null)
                _ = client.Open(HttpMethod.Post, $"rehearsals/{id}/end", null, CancellationToken.None);
        }

        using var end = ended.Register(End);
        using var interrupt = PosixSignalRegistration.Create(
            PosixSignal.SIGINT,
            signal =>
            {
                signal.Cancel = true;
                End();
            }
        );
        while (await SentryClient.Next(reader, IsOver, CancellationToken.None).ConfigureAwait(false) is { } line)
        {
            var happened = JsonSerializer.Deserialize(line, ApiJson.Default.RehearsalEvent)!;
            id ??= happened.Id;
            if (happened.Report is { } report)
                return report;
            if (quiet)
                continue;
            if (happened.Kind is "began" or "note")
                Console.Error.WriteLine(
                    $"… {happened.Text}{(happened.Kind == "began" ? " Ctrl-C ends it sooner." : "")}"
                );
            else if (happened.Kind == "error")
                Console.WriteLine($"  ! {happened.Text}");
            else
                Console.WriteLine($"    {happened.Text}");
        }

        throw SentryClient.WentAway(IsOver);
    }

    private const string IsOver = "the rehearsal is over, and nothing of it runs on";

    private static async Task<int> Adopt(
        SentryClient client,
        string path,
        string word,
        RehearsalReport report,
        CancellationToken cancellation
    )
    {
        if (report.Adoption is not { } adoption)
        {
            Console.WriteLine("Nothing is proposed that could be adopted.");
            return report.StayedUp ? Exit.True : Exit.NotTrue;
        }

        using var content = new StringContent(adoption.GetRawText(), System.Text.Encoding.UTF8, "application/json");
        var answer = await client
            .Send(HttpMethod.Patch, path, content, ApiJson.Default.Answer, cancellation)
            .ConfigureAwait(false);
        Console.WriteLine(answer.Said);
        return answer.CameTrue ? Exit.True : Exit.NotTrue;
    }
}
