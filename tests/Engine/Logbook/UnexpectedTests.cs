using CalmSentry.Engine.Logbook;

namespace CalmSentry.Tests.Engine.Logbook;

/// <summary>What nobody had expected is told so that it can be found: what it says, its type, and where.</summary>
public class UnexpectedTests
{
    private static void Breaks() => throw new InvalidOperationException("no such\n\u202eplace.");

    [Fact]
    public void Type_and_way_are_in_one_line()
    {
        var said = InWords(Breaks);
        Assert.StartsWith("no such", said, StringComparison.Ordinal);
        Assert.DoesNotContain('\n', said);
        Assert.DoesNotContain('\u202e', said);
        Assert.Contains("(InvalidOperationException, in UnexpectedTests.Breaks < ", said, StringComparison.Ordinal);
    }

    [Fact]
    public void The_first_cause_is_told()
    {
        var said = InWords(() =>
        {
            try
            {
                Breaks();
            }
            catch (InvalidOperationException cause)
            {
                throw new IOException("outside", cause);
            }
        });
        Assert.Contains("(IOException for InvalidOperationException, in ", said, StringComparison.Ordinal);
    }

    private static string InWords(Action breaks)
    {
        try
        {
            breaks();
        }
        catch (Exception error) when (error is InvalidOperationException or IOException)
        {
            return Unexpected.InWords(error);
        }

        return "";
    }
}
