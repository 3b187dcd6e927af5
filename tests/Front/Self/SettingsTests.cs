using CalmSentry.Contract.Api;
using CalmSentry.Server.Self;

namespace CalmSentry.Tests.Front.Self;

public class SettingsTests
{
    [Fact]
    public void What_is_not_said_is_as_usual()
    {
        Assert.Equal(new Settings(), Settings.Read("# nothing\n").Settings);
        var (settings, errors, _) = Settings.Read("logbook: { for: 2 d }\nshutdown-within: 90s\n");
        Assert.Empty(errors);
        Assert.Equal(
            new Settings { LogbookFor = TimeSpan.FromDays(2), ShutdownWithin = TimeSpan.FromSeconds(90) },
            settings
        );
    }

    [Theory]
    [InlineData("logbook: { for: 1 h }", "line 1, column 17: logbook.for: ")]
    [InlineData("logbook: { most: 999 }", "a whole number from 1000 to 100000000")]
    [InlineData("logbook: 3", "line 1, column 10: logbook: ")]
    [InlineData("log-book: { for: 2 d }", "log-book: not a key of this place")]
    [InlineData("port: 0\n tell: []", "line 2, column ")]
    [InlineData("- port\n", "settings: a list; allowed: keys with values")]
    // What contradicts something else is said at its own place, however deep it is in.
    [InlineData("tell:\n  - { mail: a@b.example, name: a }\n", "line 2, column 13: tell[0].mail: ")]
    [InlineData("tell:\n  - command: [/bin/true]\n    name: a\n    next: b\n", "line 4, column 11: tell[0].next: 'b'")]
    [InlineData(
        "tell:\n  - { command: [/bin/true], name: a }\n  - { command: [/bin/true], name: a }\n",
        "line 3, column 35: tell[1].name: 'a' a second time"
    )]
    [InlineData(
        "tell: [{ command: [/bin/true], name: a }]\nreport:\n  at: daily at 07:00\n  to:\n    - a\n    - b\n",
        "line 6, column 7: report.to[1]: 'b'"
    )]
    public void What_is_wrong_is_said_with_its_key_and_its_place(string text, string said)
    {
        var (settings, errors, _) = Settings.Read(text);
        Assert.Null(settings);
        Assert.Contains(said, Assert.Single(errors).ToString(), StringComparison.Ordinal);
    }

    [Fact]
    public void The_client_knows_their_file_by_the_keys_they_have() => Assert.Equal(Settings.Names, SettingsKeys.All);

    [Fact]
    public void What_is_otherwise_is_known_by_its_key_whatever_it_looks_like()
    {
        const string before = "port: 7373\nlogbook: { for: 30 d }\n";
        Assert.Empty(Settings.Changed(before, "# a word\nlogbook:\n  for: 30 d\nport: 7373\n"));
        Assert.Equal(
            ["jobs-at-once", "logbook", "port"],
            Settings.Changed(before, "logbook: { for: 31 d }\njobs-at-once: 4\n")
        );
        Assert.Equal(["port"], Settings.Changed("", "port: 0"));
    }
}
