using System.CommandLine;
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
        var command = new Command("window", "Save what a service shows on its own display now") { name, to };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var (service, file) = (parsed.GetValue(name)!, Path.GetFullPath(parsed.GetValue(to)!));
                using var answer = await client
                    .Stream($"{SentryClient.PathOf(service)}/window", cancellation)
                    .ConfigureAwait(false);
                var picture = await answer.Content.ReadAsByteArrayAsync(cancellation).ConfigureAwait(false);
                try
                {
                    // Whoever reads it meanwhile sees the one before, or this one.
                    var beside = $"{file}.{Environment.ProcessId}~";
                    await File.WriteAllBytesAsync(beside, picture, cancellation).ConfigureAwait(false);
                    File.Move(beside, file, overwrite: true);
                }
                catch (Exception error) when (error is IOException or UnauthorizedAccessException)
                {
                    throw new Failure(
                        Exit.NotTrue,
                        $"--to {file}: {error.Message.TrimEnd('.')}.",
                        "Name another file."
                    );
                }

                Console.WriteLine($"What {service} shows is in {file} ({Size.About(picture.Length)}).");
                return Exit.True;
            }
        );
        return command;
    }
}
