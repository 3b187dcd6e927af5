using System.CommandLine;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm open</c>: a link that signs one browser in to the console.</summary>
internal static class OpenCommand
{
    public static Command Make()
    {
        var json = Common.Json();
        var command = new Command("open", "Print a one-time link that signs a browser on this host in to the console")
        {
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var link = await client
                    .Send(HttpMethod.Post, "sign-in-links", null, ApiJson.Default.SignInLink, cancellation)
                    .ConfigureAwait(false);
                if (parsed.GetValue(json))
                {
                    Common.WriteJson(link, ApiJson.Plain.SignInLink);
                    return Exit.True;
                }

                Console.WriteLine(link.Address);
                var port = new Uri(link.Address).Port;
                Console.Error.WriteLine(
                    $"Open it in a browser on this host; it works once, until {Lengths.At(link.Until)}.\n"
                        + $"From another machine (Windows has ssh, too): ssh -L {port}:127.0.0.1:{port} "
                        + $"{System.Environment.UserName}@{System.Environment.MachineName}, and while that is open, the same "
                        + $"address in a browser there."
                );
                return Exit.True;
            }
        );
        return command;
    }
}
