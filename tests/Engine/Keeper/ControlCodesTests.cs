using System.Text;
using CalmSentry.Contract.Terminals;
using CalmSentry.Keeper;
using CsCheck;

namespace CalmSentry.Tests.Engine.Keeper;

/// <summary>What a program writes to its terminal, told apart into text and sequences, however it comes.</summary>
public class ControlCodesTests
{
    private static readonly string[] Parts =
    [
        "text",
        "£ø",
        "\n",
        "\r\n",
        "\u0007",
        "\u0005",
        "\u009b5n",
        "\u001b[31m",
        "\u001b[?1049h",
        "\u001b[?25l",
        "\u001b[2;20r",
        "\u001b[c",
        "\u001b[6n",
        "\u001b[?1$p",
        "\u001b]0;title\u0007",
        "\u001b]11;?\u001b\\",
        "\u001b]52;c;eA==\u0007",
        "\u001bP$qm\u001b\\",
        "\u001b_secret\u001b\\",
        "\u001bc",
        "\u001b(0",
        "\u001b=",
        "\u001b[5i",
        "\u001b[8;5;5t",
        "\u001b[\n3A",
        "\u001b[3\u0018",
        "\u001b\u001b[1m",
        "\u001b",
        "\u001b]",
    ];

    private static readonly Gen<byte[]> Output = Gen.OneOf(
        Gen.Int[0, Parts.Length - 1]
            .Select(at => Parts[at])
            .Array[0, 40]
            .Select(all => Encoding.UTF8.GetBytes(string.Concat(all))),
        Gen.Byte.Array[0, 200]
    );

    /// <summary>A first byte of a character that none follows hides nothing.</summary>
    [Fact]
    public void Bytes_that_are_no_character_hide_no_sequence() =>
        Assert.Equal(
            [(byte)'x', 0x9b],
            Through(
                CodeFilter.StaysInside,
                [
                    [0xc2, 0x1b, .. "]52;c;eA==\u0007x"u8, 0xc2, 0x05, 0xc2, 0xc2, 0x9b, 0xc2, .. "\u001b[5i"u8, 0x9b],
                ]
            )
        );

    private static byte[] Through(CodePasses passes, params IEnumerable<byte[]> pieces)
    {
        var filter = new CodeFilter(passes);
        return [.. pieces.SelectMany(piece => filter.Through(piece).ToArray())];
    }

    [Fact]
    public void However_it_is_cut_the_same_goes_through() =>
        Gen.Select(Output, Gen.Int[1, 7])
            .Sample(
                (bytes, piece) =>
                {
                    foreach (var passes in (CodePasses[])[CodeFilter.AsksNothing, CodeFilter.StaysInside])
                        Assert.Equal(Through(passes, bytes), Through(passes, bytes.Chunk(piece)));
                }
            );

    [Fact]
    public void What_went_through_once_goes_through_again() =>
        Output.Sample(bytes =>
        {
            var once = Through(CodeFilter.StaysInside, bytes);
            Assert.Equal(once, Through(CodeFilter.StaysInside, once));
        });

    /// <summary>Whatever comes, nothing of what is not to come through does.</summary>
    [Fact]
    public void Nothing_that_reaches_out_comes_through() =>
        Output.Sample(bytes =>
        {
            var text = Encoding.Latin1.GetString(Through(CodeFilter.StaysInside, bytes));
            foreach (var sign in (string[])["\u001b]", "\u001bP", "\u001b_", "\u001b^", "\u001bX", "\u001bc", "\u0005"])
                Assert.DoesNotContain(sign, text, StringComparison.Ordinal);
            Assert.DoesNotMatch("\u00c2[\u0080-\u009f]", text); // a control of the C1 set, as UTF-8
        });

    [Theory]
    [InlineData("\u001b[5n", false)]
    [InlineData("\u001b[?6n", false)]
    [InlineData("\u001b[>c", false)]
    [InlineData("\u001b[18t", false)]
    [InlineData("\u001b[?2026$p", false)]
    [InlineData("\u001b]10;?\u0007", false)]
    [InlineData("\u001bP+q544e\u001b\\", false)]
    [InlineData("\u001b[31m", true)]
    [InlineData("\u001b[2J", true)]
    [InlineData("\u001b]0;quay\u0007", true)]
    public void What_a_terminal_answers_to_is_known(string sequence, bool silent) =>
        Assert.Equal(silent, CodeFilter.AsksNothing(Encoding.ASCII.GetBytes(sequence)));

    [Fact]
    public void Text_of_people_stays_as_it_is()
    {
        const string text = "Ærøskøbing £5 – \u65e5\u672c \U0001f6a2\r\n\tgate 2";
        Assert.Equal(text, Encoding.UTF8.GetString(Through(CodeFilter.StaysInside, Encoding.UTF8.GetBytes(text))));
    }

    [Fact]
    public void The_state_that_lasts_is_written_anew_and_the_rest_of_a_sequence_follows()
    {
        var modes = new ScreenModes();
        modes.Read("\u001b[?1049h\u001b[?25l\u001b[31m\u001b[2;20r\u001b=\u001b[?25h some text \u001b[1;3"u8);
        Assert.Equal(
            "\u001b[?1049h\u001b[?25h\u001b=\u001b[2;20r\u001b[31m\u001b[1;3",
            Encoding.ASCII.GetString(modes.Write())
        );
        modes.Read("H\u001bc"u8);
        Assert.Empty(modes.Write());
    }

    /// <summary>A terminal that does not read UTF-8 obeys single bytes; one that does needs them in its characters.</summary>
    [Fact]
    public void Single_bytes_that_are_controls_go_through_in_characters_alone()
    {
        const string people = "Ærøskøbing Л – \u65e5\u672c \U0001f6a2";
        byte[] Through(EightBits eightBits, byte[] bytes, int piece)
        {
            var filter = new CodeFilter(CodeFilter.StaysInside, eightBits);
            return [.. bytes.Chunk(piece).SelectMany(one => filter.Through(one).ToArray())];
        }
        byte[] odd = [.. Encoding.UTF8.GetBytes(people), 0x9d, (byte)'x', 0x9c, 0xe9, (byte)'t', 0xe9, 0x9b, 0xd0];
        for (var piece = 1; piece < 9; piece++)
        {
            Assert.Equal(
                [.. Encoding.UTF8.GetBytes(people), (byte)'x', 0xe9, (byte)'t', 0xe9, 0x9b, 0xd0],
                Through(EightBits.InCharacters, odd, piece)
            );
            Assert.DoesNotContain(Through(EightBits.Never, odd, piece), one => one is >= 0x80 and <= 0x9f);
        }
    }

    [Theory]
    [InlineData("\u001b[99999999b", false)]
    [InlineData("\u001b[1001I", false)]
    [InlineData("\u001b[80b", true)]
    [InlineData("\u001b[b", true)]
    [InlineData("\u001b[3g", true)]
    public void What_is_repeated_is_so_for_a_while(string sequence, bool passes) =>
        Assert.Equal(passes, CodeFilter.StaysInside(Encoding.ASCII.GetBytes(sequence)));

    [Fact]
    public void Tab_stops_are_given_back() =>
        Assert.Contains(
            "\r\u001b[3g\u001b[8C\u001bH\u001b[8C\u001bH",
            Encoding.ASCII.GetString(CodeFilter.Afterwards),
            StringComparison.Ordinal
        );
}
