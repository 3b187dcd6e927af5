using System.Diagnostics;
using System.Globalization;
using System.Text;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Programs;
using CalmSentry.Linux.Sockets;
using CalmSentry.Server.Definitions;
using CalmSentry.Server.Keepers;

namespace CalmSentry.Tests.Unit.Foreign;

/// <summary>
/// The readers of bytes that others control, fed with inputs made from a corpus: none may fail in another way than by saying
/// what is wrong, and none may take long. Inputs that bring a new outcome out of a reader join the pool that further ones are
/// made from. CALM_FUZZ_SECONDS says how long each reader is fed (3 s where it is not set), CALM_FUZZ_SEED where it begins.
/// </summary>
public class FuzzTests
{
    private static readonly TimeSpan Length = TimeSpan.FromSeconds(double.Parse(Environment.GetEnvironmentVariable("CALM_FUZZ_SECONDS") ?? "3", CultureInfo.InvariantCulture));

    private static readonly int Seed = int.Parse(Environment.GetEnvironmentVariable("CALM_FUZZ_SEED") ?? "20261125", CultureInfo.InvariantCulture);

    private static readonly string Place = Path.Combine(AppContext.BaseDirectory, "Foreign", "corpus");

    private static readonly string[] Words =
    [
        "&a", "*a", "<<", "---\n", "...\n", "%YAML 1.2\n", "!!binary ", "!!str ", "|\n", ">\n", "? ", "- ", "\"\\u0000\"", "\\ud800", "\\udfff", "null", "true", "1e999", "-0", "99999999999999999999",
        "name: ", "program: ", "path: /srv/x\n", "begin: ", "needs: [", "watch: ", "wind-down: ", "recover: ", "{", "}", "[", "]", "\r\n", "\t", "\u202e", "\ufeff", "#!", "#!/usr/bin/env ", "\u007fELF", ") R 1 2 3", "import ", " from \"x\"", "require(",
        "0100007F:1CEF", "pid=", "status=", "\0", "run=1\0",
    ];

    public static TheoryData<string> Readers => [.. All.Keys];

    /// <summary>Each gives what came of an input as a short word: its kind of outcome, not the input itself.</summary>
    private static readonly Dictionary<string, Func<byte[], string>> All = new()
    {
        ["definition.yaml"] = bytes => Definition(YamlNodes.Read(Encoding.UTF8.GetString(bytes))),
        ["definition.json"] = bytes => Definition(JsonNodes.Read(Encoding.UTF8.GetString(bytes))),
        ["keeper-message"] = Keeper,
        ["pid-file"] = bytes => AsFile(bytes, file => DetachedMain.Of(file, _ => 0, 1)?.ToString(CultureInfo.InvariantCulture) ?? "none"),
        ["program"] = bytes => AsFile(bytes, file => $"{Elf(file)} {ProgramFile.Look(file).Fault} {Interpreters.FirstLine(file) is null}"),
        ["script"] = bytes => Encoding.UTF8.GetString(bytes) is var text ? $"{ModuleLooks.OfJavaScript(text).Count > 0} {ModuleLooks.OfPerl(text).Count > 0}" : "",
        ["proc-stat"] = bytes => Encoding.UTF8.GetString(bytes) is var text ? $"{ProcessVitals.Read(text) is null} {Enumerable.Range(3, 50).Count(field => ProcessFacts.Field(text, field) != 0) / 10}" : "",
        ["proc-net"] = bytes => Encoding.UTF8.GetString(bytes).Split('\n').Any(line => Listening.Read("tcp", line.Split(' ', StringSplitOptions.RemoveEmptyEntries)) is not null) ? "some" : "none",
        ["access-list"] = Access,
    };

    [Theory]
    [MemberData(nameof(Readers))]
    public void A_reader_of_foreign_bytes_says_what_is_wrong_and_never_fails(string reader)
    {
        var pool = Directory.GetFiles(Place, reader + "*").Order(StringComparer.Ordinal).Select(File.ReadAllBytes).ToList();
        Assert.NotEmpty(pool);
        var read = All[reader];
        var outcomes = pool.Select(read).ToHashSet(StringComparer.Ordinal);
        var (tries, slowest) = (0, TimeSpan.Zero);
        for (var clock = Stopwatch.StartNew(); clock.Elapsed < Length; tries++)
        {
            var input = new Mutation(Seed + tries, Words).Of(pool);
            var began = Stopwatch.GetTimestamp();
            try
            {
                if (outcomes.Add(read(input)) && pool.Count < 2000) pool.Add(input);
            }
            catch (Exception error)
            {
                Assert.Fail($"{reader} failed on try {tries} of seed {Seed}: {error}\ninput, as base64: {Convert.ToBase64String(input)}");
            }

            var took = Stopwatch.GetElapsedTime(began);
            if (took > slowest) slowest = took;
            // A bound on what one small input may cost, far above what a busy machine adds to the few milliseconds it takes.
            Assert.True(took < TimeSpan.FromSeconds(5), $"{reader} took {took} on try {tries} of seed {Seed}; input, as base64: {Convert.ToBase64String(input)}");
        }

        TestContext.Current.TestOutputHelper?.WriteLine($"{reader}: {tries} inputs, {outcomes.Count} outcomes, slowest {slowest.TotalMilliseconds:0.0} ms");
        Assert.True(tries > 100, $"only {tries} inputs were tried");
    }

    private static string Definition((Node? Node, DefinitionError? Error) read)
    {
        if (read.Error is { } error) return Kind(error.ToString());
        if (read.Node is not MapNode map) return "no map";
        var (definition, errors) = DefinitionReader.Read(map);
        if (definition is null) return Kind(string.Join(' ', errors.Select(one => one.ToString()).Take(2)));
        // What is taken in can be written, and read again as the same.
        var (again, _) = DefinitionReader.Read(DefinitionWriter.Write(definition));
        Assert.NotNull(again);
        Assert.NotNull(YamlNodes.Read(YamlNodes.Write(map)).Node);
        return "taken";
    }

    /// <summary>The words of a message without what was found in the input.</summary>
    private static string Kind(string message) => string.Concat(message.Where(c => char.IsAsciiLetterLower(c) || c == ' ').Take(60));

    private static string Keeper(byte[] bytes)
    {
        try
        {
            if (!Message.TryReadHead(bytes, out var word, out var length)) return "short";
            var body = bytes.AsSpan(Message.HeadLength, Math.Min(length, bytes.Length - Message.HeadLength));
            var fields = 0;
            foreach (var field in new Fields(body)) fields += field.Value.Length >= 0 ? 1 : 0;
            return $"{Enum.IsDefined(word)} {Math.Min(fields, 5)} {Remains.Read(body).Kind} {Message.Text(body, "phase") is null}";
        }
        catch (InvalidDataException)
        {
            return "impossible length";
        }
    }

    private static string Elf(string file) => ElfFile.Read(file) is { } elf ? $"{elf.Bits} {elf.IsForThisMachine} {elf.Loader is null}" : "none";

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
            Assert.Equal(list, AccessList.Read(list.Write()));
            return $"{list.NamesAnybody} {list.AnyExecute}";
        }
        catch (FormatException)
        {
            return "none";
        }
    }
}
