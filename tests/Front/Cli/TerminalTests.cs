using CalmSentry.Cli.Formatting;
using CsCheck;

namespace CalmSentry.Tests.Front.Cli;

/// <summary>
/// What the client prints: whatever is in a text, a terminal has nothing to obey in it but the client's own codes.
/// </summary>
public class TerminalTests
{
    [Fact]
    public void No_text_brings_a_control_code_to_the_terminal() =>
        Gen.Char[(char)0, (char)0xffff]
            .Where(c => !char.IsSurrogate(c))
            .Array[0, 60]
            .Sample(some =>
                Assert.DoesNotContain(Printed(new string(some)), c => char.IsControl(c) && c is not ('\n' or '\t'))
            );

    [Theory]
    [InlineData("plain text,\n\ttab", "plain text,\n\ttab")]
    [InlineData("a\u001b[2Jb", "a\\x1b[2Jb")]
    [InlineData("windows\r\nlines\r\n", "windows\nlines\n")]
    [InlineData("back\rover", "back\\x0dover")]
    [InlineData("\u009b31m", "\\x9b31m")]
    [InlineData("\u202eturned", "\\u202eturned")]
    [InlineData("quay € 🚢", "quay € 🚢")]
    [InlineData("\uFDD01", "\\ufdd01")]
    public void It_is_shown_as_what_it_is(string text, string shown) => Assert.Equal(shown, Printed(text));

    [Fact]
    public void The_clients_own_colour_is_passed_on() =>
        Assert.Equal("\u001b[31mheld\u001b[0m", Printed($"{Terminal.Red}held{Terminal.Plain}"));

    private static string Printed(string text)
    {
        using var to = new MemoryStream();
        using var terminal = new Terminal(bytes =>
        {
            to.Write(bytes);
            return null;
        });
        terminal.Write(text);
        return System.Text.Encoding.UTF8.GetString(to.ToArray());
    }
}
