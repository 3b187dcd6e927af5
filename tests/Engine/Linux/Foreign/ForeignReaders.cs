using System.Globalization;
using System.Net.Sockets;
using System.Text;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Settling;
using CalmSentry.Engine.Windows;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Programs;
using CalmSentry.Linux.Sockets;

namespace CalmSentry.Tests.Engine.Linux.Foreign;

/// <summary>
/// The readers of bytes that others control, each as a function from bytes to what came of them; whatever they throw is
/// a finding.
/// </summary>
internal static class ForeignReaders
{
    /// <summary>Each gives what came of an input as a short word: its kind of outcome, not the input itself.</summary>
    public static readonly Dictionary<string, Func<byte[], string>> All = new()
    {
        ["definition.yaml"] = bytes => Definition(YamlNodes.Read(Encoding.UTF8.GetString(bytes))),
        ["definition.json"] = bytes => Definition(JsonNodes.Read(Encoding.UTF8.GetString(bytes))),
        ["keeper-message"] = Keeper,
        ["pid-file"] = bytes =>
            AsFile(
                bytes,
                file => DetachedMain.Of(file, _ => 0, 1).Pid?.ToString(CultureInfo.InvariantCulture) ?? "none"
            ),
        ["program"] = bytes =>
            AsFile(bytes, file => $"{Elf(file)} {ProgramFile.Look(file).Fault} {Interpreters.FirstLine(file) is null}"),
        ["script"] = bytes =>
            Encoding.UTF8.GetString(bytes) is var text ? $"{ModuleLooks.OfJavaScript(text).Count > 0}" : "",
        ["proc-stat"] = bytes =>
            Encoding.UTF8.GetString(bytes) is var text
                ? $"{ProcessVitals.Read(text) is null} "
                    + $"{Enumerable.Range(3, 50).Count(field => ProcessFacts.Field(text, field) != 0) / 10}"
                : "",
        ["proc-net"] = bytes =>
            Encoding
                .UTF8.GetString(bytes)
                .Split('\n')
                .Any(line => Listening.Read("tcp", line.Split(' ', StringSplitOptions.RemoveEmptyEntries)) is not null)
                ? "some"
                : "none",
        ["access-list"] = Access,
        ["files"] = Files,
        ["display-picture"] = bytes =>
            AsDisplay(bytes, async (socket, over) => $"{(await Picture.Of(socket, over)).Length > 0}"),
        ["display-windows"] = bytes =>
            AsDisplay(
                bytes,
                async (socket, over) =>
                {
                    await using var line = await XLine.Open(socket, new byte[16], over);
                    var windows = await line.Within(line.Root, over);
                    return $"{windows.Count > 0} {await line.Property(line.Root, "WM_NAME", over) is null}";
                }
            ),
    };

    /// <summary>A base and what is made from it, a line of four dashes between them.</summary>
    private static string Files(byte[] bytes)
    {
        var texts = Encoding.UTF8.GetString(bytes).Split("\n----\n");
        var read = FileSet.Read(
            new(
                texts
                    .Select((text, i) => (text, i))
                    .ToDictionary(one => $"{(char)('a' + (one.i % 26))}{one.i}.yaml", one => one.text)
            ),
            "host",
            "nobody"
        );
        return read.Errors.Count > 0 ? Kind(read.Errors[0].Error.ToString()) : $"{read.Services.Count}";
    }

    /// <summary>What a display sends, all at once, and then no more.</summary>
    private static string AsDisplay(byte[] bytes, Func<Socket, CancellationToken, Task<string>> look)
    {
        using var over = new CancellationTokenSource(TimeSpan.FromSeconds(2));
        var place = Path.Combine(Path.GetTempPath(), $"calm-fuzz-display-{Environment.ProcessId}");
        File.Delete(place);
        using var listens = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        listens.Bind(new UnixDomainSocketEndPoint(place));
        listens.Listen();
        using var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        socket.Connect(new UnixDomainSocketEndPoint(place));
        using var display = listens.Accept();
        File.Delete(place);
        display.SendTimeout = 1000;
        var said = Task.Run(() =>
        {
            try
            {
                display.Send(bytes);
                display.Shutdown(SocketShutdown.Send);
            }
            catch (Exception error) when (error is SocketException or ObjectDisposedException)
            {
                // It was not heard to its end.
            }
        });
        try
        {
            return Task.Run(() => look(socket, over.Token)).GetAwaiter().GetResult();
        }
        catch (IOException error)
        {
            return Kind(error.Message);
        }
        catch (OperationCanceledException)
        {
            return "no end";
        }
        finally
        {
            display.Dispose();
            said.GetAwaiter().GetResult();
        }
    }

    private static string Definition((Node? Node, DefinitionError? Error) read)
    {
        if (read.Error is { } error)
            return Kind(error.ToString());
        if (read.Node is not MapNode map)
            return "no map";
        var (definition, errors) = DefinitionReader.Read(map);
        if (definition is null)
            return Kind(string.Join(' ', errors.Select(one => one.ToString()).Take(2)));
        // What is taken in can be written, and read again as the same.
        var (again, _) = DefinitionReader.Read(DefinitionWriter.Write(definition));
        if (again is null || YamlNodes.Read(YamlNodes.Write(map)).Node is null)
            throw new InvalidOperationException("what was written cannot be read");
        return "taken";
    }

    /// <summary>The words of a message without what was found in the input.</summary>
    private static string Kind(string message) =>
        string.Concat(message.Where(c => char.IsAsciiLetterLower(c) || c == ' ').Take(60));

    private static string Keeper(byte[] bytes)
    {
        try
        {
            if (!Message.TryReadHead(bytes, out var word, out var length))
                return "short";
            var body = bytes.AsSpan(Message.HeadLength, Math.Min(length, bytes.Length - Message.HeadLength));
            var fields = 0;
            foreach (var field in new Fields(body))
                fields += field.Value.Length >= 0 ? 1 : 0;
            return $"{Enum.IsDefined(word)} {Math.Min(fields, 5)} {Remains.Read(body).Kind} "
                + $"{Message.Text(body, "phase") is null}";
        }
        catch (InvalidDataException)
        {
            return "impossible length";
        }
    }

    private static string Elf(string file) =>
        ElfFile.Read(file) is { } elf ? $"{elf.Bits} {elf.IsForThisMachine} {elf.Loader is null}" : "none";

    private static string AsFile(byte[] bytes, Func<string, string> read)
    {
        var file = Path.Combine(Path.GetTempPath(), $"calm-fuzz-{Environment.ProcessId}");
        File.WriteAllBytes(file, bytes);
        File.SetUnixFileMode(file, (UnixFileMode)0b111_101_101);
        try
        {
            return read(file);
        }
        finally
        {
            File.Delete(file);
        }
    }

    private static string Access(byte[] bytes)
    {
        try
        {
            var list = AccessList.Read(bytes);
            if (!list.Equals(AccessList.Read(list.Write())))
                throw new InvalidOperationException("what was written is not what is read");
            return $"{list.NamesAnybody} {list.AnyExecute}";
        }
        catch (FormatException)
        {
            return "none";
        }
    }
}
