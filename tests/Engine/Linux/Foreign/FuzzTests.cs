using System.Diagnostics;
using System.Globalization;

namespace CalmSentry.Tests.Engine.Linux.Foreign;

/// <summary>
/// The readers of bytes that others control, fed with inputs made from a corpus: none may fail in another way than by
/// saying
/// what is wrong, and none may take long. Inputs that bring a new outcome out of a reader join the pool that further
/// ones are
/// made from. CALM_FUZZ_SECONDS says how long each reader is fed (3 s where it is not set), CALM_FUZZ_SEED where it
/// begins.
/// </summary>
public class FuzzTests
{
    private static readonly TimeSpan Length = TimeSpan.FromSeconds(
        double.Parse(Environment.GetEnvironmentVariable("CALM_FUZZ_SECONDS") ?? "3", CultureInfo.InvariantCulture)
    );

    private static readonly int Seed = int.Parse(
        Environment.GetEnvironmentVariable("CALM_FUZZ_SEED") ?? "20261125",
        CultureInfo.InvariantCulture
    );

    private static readonly string Place = Path.Combine(AppContext.BaseDirectory, "Linux", "Foreign", "corpus");

    private static readonly string[] Words =
    [
        "&a",
        "*a",
        "<<",
        "---\n",
        "...\n",
        "%YAML 1.2\n",
        "!!binary ",
        "!!str ",
        "|\n",
        ">\n",
        "? ",
        "- ",
        "\"\\u0000\"",
        "\\ud800",
        "\\udfff",
        "null",
        "true",
        "1e999",
        "-0",
        "99999999999999999999",
        "name: ",
        "program: ",
        "path: /srv/x\n",
        "begin: ",
        "needs: [",
        "watch: ",
        "wind-down: ",
        "recover: ",
        "{",
        "}",
        "[",
        "]",
        "\r\n",
        "\t",
        "\u202e",
        "\ufeff",
        "#!",
        "#!/usr/bin/env ",
        "\u007fELF",
        ") R 1 2 3",
        "import ",
        " from \"x\"",
        "require(",
        "0100007F:1CEF",
        "pid=",
        "status=",
        "\0",
        "run=1\0",
    ];

    public static TheoryData<string> Readers => [.. ForeignReaders.All.Keys];

    [Theory]
    [MemberData(nameof(Readers))]
    public void A_reader_of_foreign_bytes_says_what_is_wrong_and_never_fails(string reader)
    {
        var pool = Directory
            .GetFiles(Place, reader + "*")
            .Order(StringComparer.Ordinal)
            .Select(File.ReadAllBytes)
            .ToList();
        Assert.NotEmpty(pool);
        var read = ForeignReaders.All[reader];
        var outcomes = pool.Select(read).ToHashSet(StringComparer.Ordinal);
        var (tries, slowest) = (0, TimeSpan.Zero);
        for (var clock = Stopwatch.StartNew(); clock.Elapsed < Length; tries++)
        {
            var input = new Mutation(Seed + tries, Words).Of(pool);
            var began = Stopwatch.GetTimestamp();
            try
            {
                if (outcomes.Add(read(input)) && pool.Count < 2000)
                    pool.Add(input);
            }
            catch (Exception error)
            {
                Assert.Fail(
                    $"{reader} failed on try {tries} of seed {Seed}: {error}\ninput, as base64: "
                        + $"{Convert.ToBase64String(input)}"
                );
            }

            var took = Stopwatch.GetElapsedTime(began);
            if (took > slowest)
                slowest = took;
            // A bound on what one small input may cost, far above what a busy machine adds to the few milliseconds it
            // takes.
            Assert.True(
                took < TimeSpan.FromSeconds(5),
                $"{reader} took {took} on try {tries} of seed {Seed}; input, as base64: {Convert.ToBase64String(input)}"
            );
        }

        TestContext.Current.TestOutputHelper?.WriteLine(
            $"{reader}: {tries} inputs, {outcomes.Count} outcomes, slowest {slowest.TotalMilliseconds:0.0} ms"
        );
        Assert.True(tries > 100, $"only {tries} inputs were tried");
    }
}
