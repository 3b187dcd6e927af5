using System.CommandLine;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Core.Text;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm window</c>: what a service shows on the display of its own.</summary>
internal static class WindowCommand
{
    public static Command Make()
    {
        var name = Common.Name();
        var to = new Option<string>("--to")
        {
            Description = "The file that the picture goes to, a PNG; one that is there is replaced",
            HelpName = "FILE",
            Required = true,
        };
        var run = new Option<long?>("--run")
        {
            Description = "What that run showed last, in place of what it shows now",
            HelpName = "N",
        };
        var command = new Command("window", "Save what a service shows on its own display") { name, to, run };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var (service, file) = (parsed.GetValue(name)!, parsed.GetValue(to)!);
                var (past, path) = (parsed.GetValue(run), $"{SentryClient.PathOf(service)}/window");
                using var answer = await client
                    .Stream(past is null ? path : $"{path}?run={past}", cancellation)
                    .ConfigureAwait(false);
                var picture = await answer.Content.ReadAsByteArrayAsync(cancellation).ConfigureAwait(false);
                await Save(picture, "--to", file, cancellation).ConfigureAwait(false);
                Console.WriteLine(
                    past is null
                        ? $"What {service} shows is in {file} ({Size.About(picture.Length)})."
                        : $"What run {past} of {service} showed last"
                            + $"{(answer.Content.Headers.LastModified is { } at ? $", at {Lengths.At(at)}," : "")} is in {file} ({Size.About(picture.Length)})."
                );
                return Exit.True;
            }
        );
        return command;
    }

    /// <summary>Into the file itself, whatever it is: it may be a device, a link, or another's.</summary>
    public static async Task Save(byte[] picture, string flag, string file, CancellationToken cancellation)
    {
        try
        {
            await File.WriteAllBytesAsync(file, picture, cancellation).ConfigureAwait(false);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new Failure(Exit.NotTrue, $"{flag} {file}: {error.Message.TrimEnd('.')}.", "Name another file.");
        }
    }
}
