using System.CommandLine;
using CalmSentry.Cli.Wire;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm rename NAME NEW</c></summary>
internal static class RenameCommand
{
    public static Command Make()
    {
        var (name, dry, json) = (Common.Name(), Common.Dry(), Common.Json());
        var to = new Argument<string>("new")
        {
            Description = "Short name; one with spaces becomes the title, and a short name is made from it",
        };
        var command = new Command("rename", "Give a stopped service another name; its whole record comes along")
        {
            name,
            to,
            dry,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                return await AskCommands
                    .Ask(
                        client,
                        HttpMethod.Post,
                        $"{SentryClient.PathOf(parsed.GetValue(name)!)}/rename"
                            + $"?to={Uri.EscapeDataString(parsed.GetValue(to)!)}{(parsed.GetValue(dry) ? "&dry=true" : "")}",
                        parsed.GetValue(name)!,
                        parsed.GetValue(json),
                        cancellation
                    )
                    .ConfigureAwait(false);
            }
        );
        return command;
    }
}
