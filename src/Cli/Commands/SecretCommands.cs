using System.CommandLine;
using System.Text;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Commands;

/// <summary>
/// <c>calm secret set | list | remove</c>. A value is typed at a prompt or piped, never an argument: those are in the
/// process list.
/// </summary>
internal static class SecretCommands
{
    public static Command Make()
    {
        var command = new Command("secret", "Secrets of services: sealed, given to the program alone, never shown")
        {
            Set(),
            List(),
            Remove(),
        };
        return command;
    }

    private static Command Set()
    {
        var (which, dry) = (new Which(), Common.Dry());
        var command = new Command("set", "Give a secret its value, typed at a prompt or piped in") { dry };
        which.AddTo(command);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                var (path, key) = which.Of(parsed);
                var value = Console.IsInputRedirected ? await Piped(cancellation).ConfigureAwait(false) : Typed(key);
                using var client = Common.Client(parsed);
                using var content = new StringContent(
                    System.Text.Json.JsonSerializer.Serialize(new SecretValue(value), ApiJson.Default.SecretValue),
                    Encoding.UTF8,
                    "application/json"
                );
                return Say(
                    await client
                        .Send(
                            HttpMethod.Put,
                            path + Common.Query(parsed, dry),
                            content,
                            ApiJson.Default.Answer,
                            cancellation
                        )
                        .ConfigureAwait(false)
                );
            }
        );
        return command;
    }

    private static Command List()
    {
        var (name, sentry, json) = (Common.Name(), Which.OfSentry(), Common.Json());
        name.Arity = ArgumentArity.ZeroOrOne;
        var command = new Command("list", "A service's secrets by name, and whether each has a value")
        {
            name,
            sentry,
            json,
        };
        command.Shows(
            json,
            parsed =>
                parsed.GetValue(sentry) ? "secrets"
                : parsed.GetValue(name) is { } service ? $"{SentryClient.PathOf(service)}/secrets"
                : throw new Failure(Exit.Usage, "Of which service? Or --sentry: of the sentry itself."),
            () => ApiJson.Plain.IReadOnlyListSecretView,
            secrets =>
            {
                if (secrets.Count == 0)
                    Console.WriteLine("It has no secrets. One is given with: calm secret set NAME KEY");
                else
                    Table.Write(
                        ["SECRET", "VALUE", "THE SERVICE"],
                        [
                            .. secrets.Select(secret =>
                                new[]
                                {
                                    secret.Key,
                                    secret.HasValue ? "sealed" : "none yet",
                                    secret.Used ? "asks for it" : "does not ask for it",
                                }
                            ),
                        ],
                        row => !secrets[row].HasValue
                    );
            }
        );
        return command;
    }

    private static Command Remove()
    {
        var (which, dry) = (new Which(), Common.Dry());
        var command = new Command("remove", "Remove a secret's value") { dry };
        which.AddTo(command);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                return Say(
                    await client
                        .Send(
                            HttpMethod.Delete,
                            which.Of(parsed).Path + Common.Query(parsed, dry),
                            null,
                            ApiJson.Default.Answer,
                            cancellation
                        )
                        .ConfigureAwait(false)
                );
            }
        );
        return command;
    }

    /// <summary>Typed without being shown, ended by the enter key.</summary>
    public static string Typed(string key)
    {
        Console.Error.Write($"{key} (not shown): ");
        var value = new StringBuilder();
        while (true)
        {
            var pressed = Console.ReadKey(intercept: true);
            if (pressed.Key == ConsoleKey.Enter)
                break;
            if (pressed.Key == ConsoleKey.Backspace)
                value.Length = Math.Max(0, value.Length - 1);
            else if (pressed.KeyChar != '\0')
                value.Append(pressed.KeyChar);
        }

        // Reading single keys has switched the terminal's keypad over.
        Console.Error.WriteLine(Console.IsErrorRedirected ? "" : Terminal.UsualKeys);
        return value.ToString();
    }

    /// <summary>All that is piped in, but for one line end at its end, which echo adds.</summary>
    private static async Task<string> Piped(CancellationToken cancellation)
    {
        var value = await Console.In.ReadToEndAsync(cancellation).ConfigureAwait(false);
        return value.EndsWith('\n') && value.IndexOf('\n', StringComparison.Ordinal) == value.Length - 1
            ? value[..^1].TrimEnd('\r')
            : value;
    }

    /// <summary>A service's secret, or one of the sentry's own.</summary>
    private sealed class Which
    {
        private readonly Argument<string> name = Common.Name();

        private readonly Argument<string?> key = new("key")
        {
            Description = "The secret's name: letters, digits and _",
            Arity = ArgumentArity.ZeroOrOne,
        };

        private readonly Option<bool> sentry = OfSentry();

        public static Option<bool> OfSentry() =>
            new("--sentry") { Description = "One of the sentry's own, such as a mail password: KEY alone" };

        public void AddTo(Command command)
        {
            command.Add(name);
            command.Add(key);
            command.Add(sentry);
        }

        public (string Path, string Key) Of(ParseResult parsed)
        {
            var (first, second) = (parsed.GetValue(name)!, parsed.GetValue(key));
            return (parsed.GetValue(sentry), second) switch
            {
                (true, null) => ($"secrets/{Uri.EscapeDataString(first)}", first),
                (true, _) => throw new Failure(
                    Exit.Usage,
                    $"--sentry goes with a secret's name alone, and there are '{first}' and '{second}'; nothing was done.",
                    $"calm secret set --sentry {second}"
                ),
                (_, null) => throw new Failure(
                    Exit.Usage,
                    $"Which secret of {first}? Nothing was done.",
                    $"calm secret set {first} KEY   or, of the sentry itself: calm secret set --sentry {first}"
                ),
                var (_, one) => ($"{SentryClient.PathOf(first)}/secrets/{Uri.EscapeDataString(one)}", one),
            };
        }
    }

    public static int Say(Answer answer)
    {
        (answer.CameTrue ? Console.Out : Console.Error).WriteLine(answer.Said);
        return answer.CameTrue ? Exit.True : Exit.NotTrue;
    }
}
