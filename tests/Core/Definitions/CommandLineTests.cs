using CalmSentry.Core.Definitions;
using CsCheck;

namespace CalmSentry.Tests.Core.Definitions;

public class CommandLineTests
{
    [Fact]
    public void A_command_line_that_is_shown_can_be_typed_again() =>
        Gen.String[Gen.Char.Where(c => c is not ('\0' or '\n') && !char.IsSurrogate(c)), 0, 20]
            .Array[0, 8]
            .Sample(words => Assert.Equal(words, CommandLine.Words(CommandLine.Of(words))));

    [Theory]
    [InlineData("node board.js --port 7410", new[] { "node", "board.js", "--port", "7410" })]
    [InlineData("  'day book'  \"gate \\\"2\\\"\" a\\ b ''", new[] { "day book", "gate \"2\"", "a b", "" })]
    [InlineData("\"$HOME `x`\" *", new[] { "$HOME `x`", "*" })]
    [InlineData("'open", new[] { "open" })]
    [InlineData("", new string[0])]
    public void Words_are_taken_apart_as_a_shell_would_and_nothing_is_expanded(string line, string[] words) =>
        Assert.Equal(words, CommandLine.Words(line));

    [Theory]
    [InlineData("/srv/calm's board", '\'')]
    [InlineData("a \"b 'c'", '"')]
    [InlineData("'a' \"b\" it\\'s", null)]
    public void A_quote_that_is_not_closed_is_told(string line, char? quote)
    {
        CommandLine.Words(line, out var open);
        Assert.Equal(quote, open);
    }
}
