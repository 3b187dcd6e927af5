using System.CommandLine;
using System.Text.RegularExpressions;
using CalmSentry.Cli.Terminals;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm terminal</c>: a service's own terminal, joined while it runs.</summary>
internal static class TerminalCommand
{
    /// <summary>So long it can be read how it is left.</summary>
    private static readonly TimeSpan Shown = TimeSpan.FromMilliseconds(700);

    public static Command Make()
    {
        var name = Common.Name();
        var watch = new Option<bool>("--watch") { Description = "Only see it: no key is taken" };
        var take = new Option<bool>("--take")
        {
            Description = "Type there although somebody else does, who only sees it then",
        };
        var record = new Option<string?>("--record")
        {
            Description = "Keep what is seen in this new file, as asciicast version 2",
            HelpName = "FILE",
        };
        var send = new Option<string?>("--send")
        {
            Description =
                "Only give its program this text, at its terminal or on an input that is kept (program.input: kept); \\n is a line's end",
            HelpName = "TEXT",
        };
        var command = new Command("terminal", "Join a service's own terminal while it runs; Ctrl-Q twice leaves it")
        {
            name,
            watch,
            take,
            record,
            send,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                if (parsed.GetValue(watch) && parsed.GetValue(take))
                    throw new Failure(Exit.Usage, "--watch and --take do not go together; nothing was done.");
                using var client = Common.Client(parsed);
                var service = parsed.GetValue(name)!;
                if (parsed.GetValue(send) is { } text)
                    return await Send(client, service, text, cancellation).ConfigureAwait(false);
                // What is in the way is said before this terminal is another's.
                var at = await client
                    .Send(
                        HttpMethod.Post,
                        $"{SentryClient.PathOf(service)}/terminal?watch=true",
                        null,
                        ApiJson.Default.TerminalTicket,
                        cancellation
                    )
                    .ConfigureAwait(false);
                using (var recording = Recording.To(parsed.GetValue(record)))
                {
                    var watches = parsed.GetValue(watch) || (at.TypedBy is not null && !parsed.GetValue(take));
                    Console.WriteLine(
                        (
                            watches
                                ? at.TypedBy is { } other && !parsed.GetValue(watch)
                                    ? $"{other} types there; you only see it (--take types)."
                                    : "You only see it."
                                : "You type, and the terminal has the size of this window."
                        )
                            + (watches ? $" It has {at.Columns}x{at.Rows} characters." : "")
                            + " Ctrl-Q twice leaves."
                    );
                    await Task.Delay(Shown, cancellation).ConfigureAwait(false);
                    using var joined = new Joined(client, service, watches, recording);
                    await joined.Show(parsed.GetValue(take), cancellation).ConfigureAwait(false);
                }

                Console.WriteLine($"Left the terminal of {service}; it goes on.");
                return Exit.True;
            }
        );
        return command;
    }

    private static async Task<int> Send(
        SentryClient client,
        string service,
        string text,
        CancellationToken cancellation
    )
    {
        string meant;
        try
        {
            meant = Regex.Unescape(text);
            if ((text.Length - text.TrimEnd('\\').Length) % 2 != 0)
                throw new ArgumentException("nothing follows the last one");
        }
        catch (ArgumentException)
        {
            throw new Failure(
                Exit.Usage,
                $"--send: found '{text}'; a backslash begins one of \\n \\r \\t \\e \\xHH, or is written twice.",
                "For a line: --send 'yes\\n'"
            );
        }

        var answer = await client
            .Send(
                HttpMethod.Post,
                $"{SentryClient.PathOf(service)}/input",
                new StringContent(meant),
                ApiJson.Default.Answer,
                cancellation
            )
            .ConfigureAwait(false);
        Console.WriteLine(answer.Said);
        return answer.CameTrue ? Exit.True : Exit.NotTrue;
    }
}
