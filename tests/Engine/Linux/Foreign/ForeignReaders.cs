using System.Globalization;
using System.Text;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Keepers;
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
    };

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
