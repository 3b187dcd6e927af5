using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Wire;

/// <summary>A definition on its way to the sentry, as JSON or as the file it stands in.</summary>
/// <param name="File">Name of the file, to be said with the places of mistakes; null when it came from flags.</param>
internal sealed record Body(string Text, string? File)
{
    /// <summary>With the files that it is put together from; null: it stands for itself.</summary>
    public FilesDocument? Files { get; init; }

    private const int Longest = 1 << 20;

    public static Body Of(JsonObject definition) => new(definition.ToJsonString(), null);

    /// <param name="path">A dash: what is piped in.</param>
    public static Body FromFile(string path)
    {
        var isPiped = path == "-";
        try
        {
            using var from = isPiped ? Console.OpenStandardInput() : System.IO.File.OpenRead(path);
            var bytes = new byte[Longest + 1];
            var length = from.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false);
            if (bytes.AsSpan(0, length) is [(byte)'#', (byte)'!', ..] or [0x7f, (byte)'E', (byte)'L', (byte)'F', ..])
                throw new Failure(
                    Exit.Usage,
                    $"{path} is a program, and no definition.",
                    $"A program stands at the end, behind two dashes: -- {Core.Definitions.CommandLine.Quoted(path)}"
                );
            if (length <= Longest)
            {
                var text = TextOf(bytes.AsSpan(0, length), path).TrimStart('\ufeff');
                return new(text, isPiped ? "standard input" : path);
            }

            throw NoDefinition($"{path} is longer than the {Longest} bytes a definition may have.");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            var why = error switch
            {
                FileNotFoundException or DirectoryNotFoundException => "it is not there",
                UnauthorizedAccessException when Directory.Exists(path) => "it is a directory",
                UnauthorizedAccessException => "you may not read it",
                _ => error.Message.TrimEnd('.'),
            };
            throw NoDefinition($"{path} cannot be read: {why}.");
        }
    }

    /// <summary>All that is piped in.</summary>
    /// <exception cref="Failure">It is longer than that, or no text.</exception>
    public static string FromPipe(int longest)
    {
        using var from = Console.OpenStandardInput();
        using var all = new MemoryStream();
        var block = new byte[1 << 16];
        for (int got; (got = from.Read(block)) > 0; )
        {
            all.Write(block.AsSpan(0, got));
            if (all.Length > longest)
                throw new Failure(Exit.Usage, $"What is piped in is longer than the {longest} bytes allowed.");
        }

        return TextOf(all.GetBuffer().AsSpan(0, (int)all.Length), "standard input").TrimStart('\ufeff');
    }

    /// <summary>What a file is saved as decides whether it can be read: it is not taken for text that it is not.</summary>
    internal static string TextOf(ReadOnlySpan<byte> bytes, string path)
    {
        if (bytes is [0xff, 0xfe, ..] or [0xfe, 0xff, ..] || bytes.Contains((byte)0))
            throw new Failure(
                Exit.Usage,
                $"{path} is not UTF-8: it looks like UTF-16.",
                $"Save it as UTF-8: iconv -f UTF-16 -t UTF-8 {Core.Definitions.CommandLine.Quoted(path)} > NEW-FILE"
            );
        try
        {
            return new UTF8Encoding(false, throwOnInvalidBytes: true).GetString(bytes);
        }
        catch (DecoderFallbackException wrong)
        {
            var line = bytes[..wrong.Index].Count((byte)'\n') + 1;
            throw new Failure(
                Exit.Usage,
                $"{path} is not UTF-8, at line {line}: it looks like Latin-1 or windows-1252.",
                $"Save it as UTF-8: iconv -f WINDOWS-1252 -t UTF-8 {Core.Definitions.CommandLine.Quoted(path)} > NEW-FILE"
            );
        }
    }

    private static Failure NoDefinition(string why) =>
        new(Exit.Usage, why, "Name a definition file: YAML, one service; - is what is piped in.");

    /// <summary>Whether a word on the command line names a file rather than a service.</summary>
    public static bool IsFile(string word) =>
        word == "-"
        || word.Contains('/', StringComparison.Ordinal)
        || word.EndsWith(".yaml", StringComparison.Ordinal)
        || word.EndsWith(".yml", StringComparison.Ordinal)
        || word.EndsWith(".json", StringComparison.Ordinal);

    public StringContent Content() =>
        Files is not null
            ? new(
                JsonSerializer.Serialize(Files, ApiJson.Default.FilesDocument),
                Encoding.UTF8,
                FilesDocument.MediaType
            )
            : new(
                Text,
                Encoding.UTF8,
                File is null || File.EndsWith(".json", StringComparison.Ordinal)
                    ? "application/json"
                    : "application/yaml"
            );

    /// <summary>Mistakes with the name of the file they are in.</summary>
    public Failure Explain(Failure failure) =>
        File is null
        || Files is not null
        || !(failure.Code == ProblemCode.DefinitionInvalid || failure.Code == ProblemCode.MalformedBody)
            ? failure
            : new Failure(
                failure.ExitCode,
                string.Join('\n', failure.Message.Split('\n').Select(line => $"{File}: {line}")),
                failure.Next,
                failure.Code
            )
            {
                Mistakes = failure.Mistakes,
            };
}
