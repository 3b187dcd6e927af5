using System.Text;
using System.Text.Json.Nodes;

namespace CalmSentry.Cli.Wire;

/// <summary>A definition on its way to the sentry, as JSON or as the file it stands in.</summary>
/// <param name="File">Name of the file, to be said with the places of mistakes; null when it came from flags.</param>
internal sealed record Body(string Text, string? File)
{
    private const int Longest = 1 << 20;

    public static Body Of(JsonObject definition) => new(definition.ToJsonString(), null);

    public static Body FromFile(string path)
    {
        try
        {
            if (new FileInfo(path).Length > Longest)
                throw new Failure(
                    Exit.Usage,
                    $"{path} is longer than the {Longest} bytes a definition may have.",
                    "Name a definition file: YAML, one service."
                );
            return new(System.IO.File.ReadAllText(path), path);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new Failure(
                Exit.NotTrue,
                $"{path} cannot be read: {error.Message}",
                "Name a definition file: YAML, one service."
            );
        }
    }

    /// <summary>Whether a word on the command line names a file rather than a service.</summary>
    public static bool IsFile(string word) =>
        word.Contains('/', StringComparison.Ordinal)
        || word.EndsWith(".yaml", StringComparison.Ordinal)
        || word.EndsWith(".yml", StringComparison.Ordinal)
        || word.EndsWith(".json", StringComparison.Ordinal);

    public StringContent Content() =>
        new(
            Text,
            Encoding.UTF8,
            File is null || File.EndsWith(".json", StringComparison.Ordinal) ? "application/json" : "application/yaml"
        );

    /// <summary>Mistakes with the name of the file they are in.</summary>
    public Failure Explain(Failure failure) =>
        File is null || failure.Code is not ("definition-invalid" or "malformed-body")
            ? failure
            : new Failure(
                failure.ExitCode,
                string.Join('\n', failure.Message.Split('\n').Select(line => $"{File}: {line}")),
                failure.Next,
                failure.Code
            );
}
