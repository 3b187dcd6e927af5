using CalmSentry.Server.Self;

namespace CalmSentry.Tests.Unit.Server;

public class SettingsTests
{
    [Fact]
    public void What_is_not_said_is_as_usual()
    {
        Assert.Equal(new Settings(), Read("# nothing\n").Settings);
        var (settings, wrong) = Read("logbook: { for: 2 d }\nshutdown-within: 90s\n");
        Assert.Null(wrong);
        Assert.Equal(
            new Settings { LogbookFor = TimeSpan.FromDays(2), ShutdownWithin = TimeSpan.FromSeconds(90) },
            settings
        );
    }

    [Theory]
    [InlineData("logbook: { for: 1 h }", "logbook.for: ")]
    [InlineData("logbook: { most: 999 }", "a whole number from 1000 to 100000000")]
    [InlineData("logbook: 3", "logbook: ")]
    [InlineData("log-book: { for: 2 d }", "log-book: not a key of this place")]
    public void What_is_wrong_is_said_with_its_key(string text, string said)
    {
        var (settings, wrong) = Read(text);
        Assert.Null(settings);
        Assert.Contains(said, wrong, StringComparison.Ordinal);
    }

    private static (Settings? Settings, string? Wrong) Read(string text)
    {
        var file = Path.GetTempFileName();
        try
        {
            File.WriteAllText(file, text);
            return Settings.Read(file);
        }
        finally
        {
            File.Delete(file);
        }
    }
}
