using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Text;
using CsCheck;

namespace CalmSentry.Tests.Core.Definitions;

public class DefinitionTests
{
    private static ScalarNode Text(string text) => new(text);

    private static MapNode Map(params (string Key, Node Value)[] entries) =>
        new([.. entries.Select(entry => KeyValuePair.Create(entry.Key, entry.Value))]);

    [Theory]
    [InlineData("http:http://127.0.0.1:1/,bet=5s", "'bet' is none (did you mean beat?)")]
    [InlineData("tcp:127.0.0.1:1,beat=5s,bet=5s", "'bet' is none (did you mean beat?)")]
    [InlineData("http:http://127.0.0.1:1/a,b=c/d", null)]
    [InlineData("http:http://127.0.0.1:1/,text=open, b=c", null)]
    [InlineData("command:/bin/x a,b=c", null)]
    public void An_attribute_that_is_none_is_not_swallowed_by_what_stands_before_it(string word, string? said)
    {
        if (said is null)
            _ = WatchKeys.Watches.FromWord(word);
        else
            Assert.Contains(
                said,
                Assert.Throws<WordException>(() => WatchKeys.Watches.FromWord(word)).Message,
                StringComparison.Ordinal
            );
    }

    /// <summary>Whatever the steps are, TERM comes before the kill, unless it is the kill that was written, or nothing.</summary>
    [Fact]
    public void It_is_always_asked_to_end_before_it_is_killed() =>
        AnyDefinition
            .Steps.Array[0, 4]
            .Sample(steps =>
            {
                var given = ImmutableArray.Create(steps);
                var asked = WindDownKeys.AtLastAsked(given);
                Assert.Equal(given, asked[..given.Length]);
                Assert.Equal(asked, WindDownKeys.AtLastAsked(asked));
                Assert.True(
                    asked is [] or [.., SignalStep { Signal: "TERM" or "KILL" }]
                        && asked.Length - given.Length is 0 or 1
                );
                Assert.Equal(given.IsEmpty, asked.IsEmpty);
            });

    [Fact]
    public void What_is_written_reads_back_the_same() =>
        AnyDefinition.Any.Sample(definition =>
        {
            var (read, errors) = DefinitionReader.Read(DefinitionWriter.Write(definition));
            Assert.Empty(errors);
            Assert.Equivalent(definition with { Given = read!.Given }, read, strict: true);
        });

    [Fact]
    public void What_is_trimmed_to_what_was_given_reads_back_the_same() =>
        AnyDefinition.Any.Sample(definition =>
        {
            var whole = DefinitionReader.Read(DefinitionWriter.Write(definition)).Definition!;
            var (read, errors) = DefinitionReader.Read(DefinitionTrees.Trimmed(DefinitionWriter.Write(whole), whole));
            Assert.Empty(errors);
            Assert.Empty(DefinitionChanges.Between(whole, read!));
        });

    [Fact]
    public void Any_length_of_time_reads_back_the_same() =>
        AnyDefinition.Lengths.Sample(length =>
        {
            Assert.True(Duration.TryRead(Duration.Write(length), out var read));
            Assert.Equal(length, read);
        });

    [Fact]
    public void Any_set_of_processors_reads_back_the_same() =>
        Gen.Int[0, 1023]
            .Array[1, 40]
            .Sample(some =>
            {
                var set = some.Distinct().Order().ToArray();
                Assert.Equal(set, Processors.Read(Processors.Write(set)));
            });

    [Theory]
    [InlineData("day.book", true)]
    [InlineData("spool/*.t?t", true)]
    [InlineData("../day.book", false)]
    [InlineData("/srv/day.book", false)]
    [InlineData("*/day.book", false)]
    [InlineData("", false)]
    public void Data_is_named_from_the_directory(string path, bool isAllowed)
    {
        var (_, errors) = DefinitionReader.Read(
            Map(
                ("name", Text("x")),
                ("program", Map(("path", Text("/x")))),
                ("files", Map(("data", new ListNode([Text(path)]))))
            )
        );
        Assert.Equal(isAllowed ? [] : ["files.data[0]"], errors.Select(error => error.Key));
    }

    [Fact]
    public void A_restart_before_a_limit_is_reached_needs_a_limit()
    {
        Node Restart(params (string, Node)[] more) =>
            Map([
                ("name", Text("x")),
                ("program", Map(("path", Text("/x")))),
                ("rhythm", new ListNode([Map(("restart", Text("daily at 01:00")), ("ceiling-within", Text("26 h")))])),
                .. more,
            ]);
        Assert.Equal(["rhythm[0].ceiling-within"], DefinitionReader.Read(Restart()).Errors.Select(error => error.Key));
        Assert.Empty(DefinitionReader.Read(Restart(("resources", Map(("memory", Text("512 MiB")))))).Errors);
    }

    [Theory]
    [InlineData("program.pid-file", "stays", "pid-file", "/run/x.pid")]
    [InlineData("program.off", "detaches", "off", "[/bin/off]")]
    [InlineData("program.off", "toggles", "with", "/bin/sh")]
    [InlineData("program.secrets", "stays", "secrets", "[TIDE]")]
    public void What_contradicts_itself_is_named_with_its_place(string named, string kind, string key, string value)
    {
        Node given = value.StartsWith('[')
            ? new ListNode([new ScalarNode(value.Trim('[', ']'))], new Place(7, 9))
            : new ScalarNode(value, new Place(7, 9));
        var (_, errors) = DefinitionReader.Read(
            Map(
                ("name", Text("x")),
                (
                    "program",
                    new MapNode(
                        [
                            new("kind", Text(kind)),
                            new("path", Text("/x")),
                            new("environment", Map(("TIDE", Text("high")))),
                            new(key, given),
                        ],
                        new Place(2, 1)
                    )
                )
            )
        );
        var error = Assert.Single(errors);
        Assert.Equal(named, error.Key);
        Assert.NotNull(error.Place);
    }

    [Theory]
    [InlineData("10 s", 10)]
    [InlineData("1min", 60)]
    [InlineData("250 ms", 0.25)]
    [InlineData("1.5 h", 5400)]
    [InlineData("0", 0)]
    public void Lengths_are_read_with_and_without_a_space(string text, double seconds)
    {
        Assert.True(Duration.TryRead(text, out var length));
        Assert.Equal(seconds, length.TotalSeconds, 6);
    }

    [Theory]
    [InlineData("10")]
    [InlineData("ten s")]
    [InlineData("5 fortnights")]
    [InlineData("")]
    [InlineData("99999999 d")]
    public void What_is_no_length_is_refused(string text) => Assert.False(Duration.TryRead(text, out _));

    [Fact]
    public void Every_error_is_named_at_once_with_what_is_allowed_and_the_nearest_key()
    {
        var (definition, errors) = DefinitionReader.Read(
            Map(
                ("name", Text("Fare Ledger")),
                ("progam", Map(("path", Text("/srv/x")))),
                ("begin", Map(("at", Text("dawn")))),
                ("recover", Map(("pause", Map(("first", Text("soon")))))),
                ("wind-down", new ListNode([Map(("signal", Text("STOPP")))]))
            )
        );
        Assert.Null(definition);
        Assert.Equal(
            ["begin.at", "name", "progam", "program", "recover.pause.first", "wind-down[0].signal"],
            errors.Select(error => error.Key).Order()
        );
        Assert.Contains(
            "progam: not a key of this place; allowed: format, name,",
            errors.Single(error => error.Key == "progam").ToString(),
            StringComparison.Ordinal
        );
        Assert.Equal("program", errors.Single(error => error.Key == "progam").Nearest);
        Assert.Equal(
            "begin.at: 'dawn'; allowed: boot | boot-late | request | never",
            errors.Single(error => error.Key == "begin.at").ToString()
        );
    }

    [Fact]
    public void An_error_names_its_line_and_column_where_the_form_has_them()
    {
        var (_, errors) = DefinitionReader.Read(
            Map(("name", new ScalarNode("-x", new Place(3, 7))), ("program", Map(("path", Text("/x")))))
        );
        Assert.StartsWith(
            "line 3, column 7: name: '-x'; allowed: lower-case letters",
            Assert.Single(errors).ToString(),
            StringComparison.Ordinal
        );
    }

    [Theory]
    [InlineData("Fare ledger", "fare-ledger")]
    [InlineData("  Ærø – Gate № 3  ", "aero-gate-3")]
    [InlineData("Straße/Köln", "strasse-koln")]
    [InlineData("!!!", "")]
    public void Titles_become_short_names(string title, string name) => Assert.Equal(name, ServiceName.From(title));

    [Fact]
    public void A_made_name_is_valid_or_empty_and_stays_as_it_is() =>
        Gen.String.Sample(title =>
        {
            var name = ServiceName.From(title);
            Assert.True(name.Length == 0 || ServiceName.IsValid(name));
            Assert.Equal(name, ServiceName.From(name));
        });
}
