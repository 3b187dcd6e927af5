using System.Diagnostics;
using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using CalmSentry.Cli.Wire;

namespace CalmSentry.Cli.Terminals;

/// <summary>
/// What a viewer sees, as a file in the asciicast format, version 2: a line of JSON about it, then a line for each time something was
/// shown, as [seconds, "o", text], or the size changed, as [seconds, "r", "COLUMNSxROWS"].
/// </summary>
internal sealed class Recording : IDisposable
{
    private readonly StreamWriter file;
    private readonly long began = Stopwatch.GetTimestamp();
    private readonly Decoder decoder = new UTF8Encoding(false).GetDecoder();
    private (int Columns, int Rows)? size;

    private Recording(StreamWriter file) => this.file = file;

    /// <exception cref="Failure">There is such a file, or none can be made.</exception>
    public static Recording? To(string? path)
    {
        if (path is null)
            return null;
        try
        {
            return new(
                new StreamWriter(
                    new FileStream(
                        path,
                        new FileStreamOptions
                        {
                            Mode = FileMode.CreateNew,
                            Access = FileAccess.Write,
                            UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                        }
                    )
                )
            );
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new Failure(
                Exit.NotTrue,
                $"--record {path}: {error.Message.TrimEnd('.')}; nothing was done.",
                "Name a file that is not there yet."
            );
        }
    }

    public void Size(int columns, int rows)
    {
        if (size is null)
            file.WriteLine(
                Json(json =>
                {
                    json.WriteStartObject();
                    json.WriteNumber("version", 2);
                    json.WriteNumber("width", columns);
                    json.WriteNumber("height", rows);
                    json.WriteNumber("timestamp", DateTimeOffset.UtcNow.ToUnixTimeSeconds());
                    json.WriteStartObject("env");
                    json.WriteString("TERM", "xterm-256color");
                    json.WriteEndObject();
                    json.WriteEndObject();
                })
            );
        else if (size != (columns, rows))
            Event("r", string.Create(CultureInfo.InvariantCulture, $"{columns}x{rows}"));
        size = (columns, rows);
    }

    public void Shown(ReadOnlySpan<byte> bytes)
    {
        var text = new char[Encoding.UTF8.GetMaxCharCount(bytes.Length)];
        var length = decoder.GetChars(bytes, text, flush: false);
        if (size is not null && length > 0)
            Event("o", new string(text, 0, length));
    }

    private void Event(string kind, string what) =>
        file.WriteLine(
            Json(json =>
            {
                json.WriteStartArray();
                json.WriteNumberValue(Math.Round(Stopwatch.GetElapsedTime(began).TotalSeconds, 6));
                json.WriteStringValue(kind);
                json.WriteStringValue(what);
                json.WriteEndArray();
            })
        );

    private static string Json(Action<Utf8JsonWriter> write)
    {
        using var bytes = new MemoryStream();
        using (var json = new Utf8JsonWriter(bytes, new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping }))
            write(json);
        return Encoding.UTF8.GetString(bytes.ToArray());
    }

    public void Dispose() => file.Dispose();
}
