using System.Buffers;
using System.CommandLine;
using System.CommandLine.Completions;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Commands;

/// <summary>What all commands share: where the sentry is, and how answers are shown.</summary>
internal static class Common
{
    public static Option<string?> Root { get; } =
        new("--root")
        {
            Description = $"The sentry whose places lie under this directory (also {Places.Variable})",
            Recursive = true,
        };

    public static Option<bool> Json() => new("--json") { Description = "Answer as JSON" };

    public static Option<string?> Since() =>
        new("--since")
        {
            Description = "From this time on: 03:12, '2026-11-20 03:12', ISO 8601, or how long ago, such as 10min",
            HelpName = "TIME",
        };

    public static Option<string?> Until() =>
        new("--until") { Description = "Up to this time, in the same words", HelpName = "TIME" };

    public static Option<bool> Dry() => new("--dry") { Description = "Only say what would be done" };

    public static Option<bool> Wait() => new("--wait") { Description = "Wait while something else has it in hand" };

    /// <summary>The end of a call's address: that it is only to be said what would be done, where that was asked.</summary>
    public static string Query(ParseResult parsed, Option<bool> dry) => parsed.GetValue(dry) ? "?dry=true" : "";

    public static Argument<string> Name()
    {
        var name = new Argument<string>("name") { Description = "A service, by its short name or its title" };
        name.CompletionSources.Add(ServiceNames);
        return name;
    }

    /// <summary>Names for a shell to complete; none when no sentry answers soon.</summary>
    public static IEnumerable<CompletionItem> ServiceNames(CompletionContext context)
    {
        using var soon = new CancellationTokenSource(TimeSpan.FromSeconds(1));
        try
        {
            using var client = Client(context.ParseResult);
            return
            [
                .. client
                    .Get("services", ApiJson.Default.IReadOnlyListServiceView, soon.Token)
                    .GetAwaiter()
                    .GetResult()
                    .Select(view => new CompletionItem(view.Name)),
            ];
        }
        catch (Exception error) when (error is Failure or OperationCanceledException)
        {
            return [];
        }
    }

    public static SentryClient Client(ParseResult parsed) => new(Places.From(parsed.GetValue(Root)));

    /// <summary>The command asks for one thing and shows it: as JSON with --json, else for people.</summary>
    /// <param name="path">What is asked for, below the API's address.</param>
    /// <param name="type">Made only when the command runs: each takes a while, and all commands are set up each time.</param>
    public static void Shows<T>(
        this Command command,
        Option<bool> json,
        Func<ParseResult, string> path,
        Func<JsonTypeInfo<T>> type,
        Action<T> write
    ) =>
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Client(parsed);
                var answer = await client.Get(path(parsed), type(), cancellation).ConfigureAwait(false);
                if (parsed.GetValue(json))
                    WriteJson(answer, type());
                else
                    write(answer);
                return Exit.True;
            }
        );

    /// <summary>Indented, one value a line.</summary>
    public static void WriteJson<T>(T value, JsonTypeInfo<T> type) =>
        WriteJson(writer => JsonSerializer.Serialize(writer, value, type));

    /// <summary>The sentry's answer as it came, only indented: nothing is made of it on the way.</summary>
    public static async Task WriteJson(SentryClient client, string path, CancellationToken cancellation)
    {
        using var answer = await client.Stream(path, cancellation).ConfigureAwait(false);
        var bytes = await answer.Content.ReadAsByteArrayAsync(cancellation).ConfigureAwait(false);
        WriteJson(writer => Copy(bytes, writer));
    }

    private static void WriteJson(Action<Utf8JsonWriter> write)
    {
        var text = new ArrayBufferWriter<byte>(1 << 16);
        using (
            var writer = new Utf8JsonWriter(
                text,
                new JsonWriterOptions { Indented = true, Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping }
            )
        )
            write(writer);
        text.Write("\n"u8);
        if (text.WrittenSpan.ContainsAnyExcept(Harmless))
            // What JSON leaves as it is and a terminal would obey is shown as JSON would escape it.
            Console.Out.Write(Encoding.UTF8.GetString(text.WrittenSpan));
        else
            Terminal.Raw(text.WrittenSpan);
    }

    private static readonly SearchValues<byte> Harmless = SearchValues.Create([
        (byte)'\n',
        .. Enumerable.Range(' ', '~' - ' ' + 1).Select(one => (byte)one),
    ]);

    private static void Copy(ReadOnlySpan<byte> json, Utf8JsonWriter writer)
    {
        var reader = new Utf8JsonReader(json);
        while (reader.Read())
            switch (reader.TokenType)
            {
                case JsonTokenType.StartObject:
                    writer.WriteStartObject();
                    break;
                case JsonTokenType.EndObject:
                    writer.WriteEndObject();
                    break;
                case JsonTokenType.StartArray:
                    writer.WriteStartArray();
                    break;
                case JsonTokenType.EndArray:
                    writer.WriteEndArray();
                    break;
                case JsonTokenType.PropertyName when !reader.ValueIsEscaped:
                    writer.WritePropertyName(reader.ValueSpan);
                    break;
                case JsonTokenType.PropertyName:
                    writer.WritePropertyName(reader.GetString()!);
                    break;
                case JsonTokenType.String when !reader.ValueIsEscaped:
                    writer.WriteStringValue(reader.ValueSpan);
                    break;
                case JsonTokenType.String:
                    writer.WriteStringValue(reader.GetString());
                    break;
                default:
                    writer.WriteRawValue(reader.ValueSpan, skipInputValidation: true); // a number, true, false, null
                    break;
            }
    }
}
