using System.IO.Pipes;
using System.Text;
using CalmSentry.Contract.Keeper;
using CalmSentry.Keeper;
using CsCheck;

namespace CalmSentry.Tests.Engine.Keeper;

/// <summary>
/// What is to be hidden never reaches the file, however the output is cut into pieces; everything else does, unchanged.
/// </summary>
public class PumpTests
{
    /// <summary>Few letters, so that secrets overlap themselves, each other and the ends of pieces.</summary>
    private static readonly Gen<string> Letters = Gen.String[Gen.Char["ab"], 0, 60];

    private static readonly Gen<string> Secret = Gen.String[Gen.Char["ab"], 4, 9];

    [Fact]
    public void No_secret_is_in_the_file_whatever_the_pieces() =>
        Gen.Select(Secret.Array[1, 4], Letters.Array[0, 12])
            .Sample(
                (secrets, pieces) =>
                {
                    var written = Written(secrets, pieces);
                    Assert.All(secrets, secret => Assert.DoesNotContain(secret, written, StringComparison.Ordinal));
                },
                iter: 400
            );

    [Fact]
    public void With_one_secret_it_is_just_replaced_and_nothing_is_lost() =>
        Gen.Select(Secret, Letters.Array[0, 12])
            .Sample(
                (secret, pieces) =>
                    Assert.Equal(
                        string.Concat(pieces).Replace(secret, "****", StringComparison.Ordinal),
                        Written([secret], pieces)
                    ),
                iter: 400
            );

    [Fact]
    public void Without_secrets_every_byte_is_written() =>
        Gen.String[0, 3000]
            .Array[0, 6]
            .Sample(
                pieces =>
                    Assert.Equal(
                        Encoding.UTF8.GetString(Encoding.UTF8.GetBytes(string.Concat(pieces.Select(Clean)))),
                        Written([], [.. pieces.Select(Clean)])
                    ),
                iter: 100
            );

    [Fact]
    public void Of_too_many_lines_a_second_so_many_are_kept_and_the_rest_is_counted() =>
        Gen.Select(Gen.String[Gen.Char["ab\n"], 0, 200].Array[0, 12], Gen.Int[1, 5])
            .Sample(
                (pieces, most) =>
                {
                    var all = string.Concat(pieces);
                    var written = Written([], pieces, most);
                    var lines = Lines(written);
                    var (said, kept) = (
                        lines.Where(line => line.StartsWith('[')).ToList(),
                        lines.Where(line => !line.StartsWith('[')).ToList()
                    );
                    var leftOut = said.Sum(line => int.Parse(line.Split(' ')[1]));
                    Assert.Equal(Lines(all).Length, kept.Count + leftOut);
                    // What is kept is whole, and in its order.
                    var rest = new Queue<string>(Lines(all));
                    Assert.All(
                        kept,
                        line =>
                        {
                            while (rest.Dequeue() != line)
                                Assert.NotEmpty(rest);
                        }
                    );
                    if (Lines(all).Length <= most)
                        Assert.Equal(all, written);
                },
                iter: 200
            );

    /// <summary>
    /// Room comes and goes, pieces are small and large: every gap is said where it is and as long as it is, and that there is one.
    /// </summary>
    [Fact]
    public void What_finds_no_room_is_said_in_its_place_with_its_size() =>
        Gen.Select(
                Gen.Select(Gen.Int[1, 3000], Gen.OneOf(Gen.Int[0, 4000], Gen.Const(1 << 20))).Array[1, 30],
                Gen.Bool,
                Gen.Bool
            )
            .Sample(
                (pieces, thin, secret) =>
                {
                    var (all, room) = (new StringBuilder(), 0L);
                    var written = Piped(
                        secret ? ["gab0"] : [],
                        new(() => room),
                        (pump, say, read) =>
                        {
                            pump.Bound(thin ? 1_000_000 : 0, goOn: true);
                            foreach (var (length, left) in pieces)
                            {
                                var text = string.Concat(
                                    Enumerable
                                        .Range(all.Length, length)
                                        .Select(i => i % 50 == 49 ? '\n' : (char)('a' + (i % 7)))
                                );
                                all.Append(text);
                                say(text);
                                room = left;
                                Assert.True(read());
                            }

                            room = 1 << 20;
                        }
                    );
                    var at = 0;
                    foreach (var (kept, lost) in Gaps(written))
                    {
                        Assert.Equal(all.ToString(at, kept.Length), kept);
                        at += kept.Length + lost;
                    }
                    Assert.Equal(all.Length, at);
                },
                iter: 300
            );

    [Fact]
    public void A_gap_that_ended_at_once_is_told_all_the_same()
    {
        var room = 100L;
        Piped(
            [],
            new(() => room),
            (pump, say, read) =>
            {
                pump.Bound(0, goOn: true);
                say(new('x', 200)); // finds no room, though words about it would
                Assert.True(read());
                Assert.True(pump.Loses);
                room = 1 << 20;
                say("y");
                Assert.True(read());
                Assert.True(pump.Loses); // it is over, and nobody was told yet
                pump.LossTold();
                Assert.False(pump.Loses);
            }
        );
    }

    /// <summary>What was kept, and how much is missing behind it.</summary>
    private static IEnumerable<(string Kept, int Lost)> Gaps(string written)
    {
        var parts = System.Text.RegularExpressions.Regex.Split(
            written,
            @"\[calm: (\d+) bytes lost, the disk was full\]\n"
        );
        for (var i = 0; i < parts.Length; i += 2)
            yield return (parts[i], i + 1 < parts.Length ? int.Parse(parts[i + 1]) : 0);
    }

    private static string[] Lines(string text) =>
        text.Length == 0 ? []
        : text.EndsWith('\n') ? text[..^1].Split('\n')
        : text.Split('\n');

    private static string Clean(string text) => new([.. text.Where(c => !char.IsSurrogate(c))]);

    private static string Written(string[] secrets, string[] pieces, int thin = 0) =>
        Piped(
            secrets,
            new(),
            (pump, say, read) =>
            {
                pump.Bound(thin, goOn: false);
                foreach (var piece in pieces.Where(piece => piece.Length > 0))
                {
                    say(piece);
                    Assert.True(read());
                }
            }
        );

    /// <summary>What is in the file after a run that printed this, in these pieces.</summary>
    private static string Piped(string[] secrets, Sink sink, Action<Pump, Action<string>, Func<bool>> run)
    {
        var path = Path.GetTempFileName();
        using var pipe = new AnonymousPipeServerStream(PipeDirection.Out);
        var reading = (int)pipe.ClientSafePipeHandle.DangerousGetHandle();
        var pump = new Pump();
        try
        {
            Assert.True(sink.Open(path, 0, stamped: false, AtStart.Append));
            pump.Begin(sink, OutputSource.Output, [.. secrets.Select(Encoding.UTF8.GetBytes)]);
            run(pump, text => pipe.Write(Encoding.UTF8.GetBytes(text)), () => pump.Carry(reading, 1));
            pipe.Dispose();
            Assert.Equal(0, pump.Drain(reading));
            return File.ReadAllText(path);
        }
        finally
        {
            sink.Close();
            File.Delete(path);
        }
    }
}
