using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CsCheck;

namespace CalmSentry.Tests.Unit.Definitions;

public class DefinitionTests
{
    private static ScalarNode Text(string text) => new(text);

    private static MapNode Map(params (string Key, Node Value)[] entries) => new([.. entries.Select(entry => KeyValuePair.Create(entry.Key, entry.Value))]);

    private static readonly Gen<TimeSpan> Lengths = Gen.Long[0, 3_000_000_000].Select(ms => TimeSpan.FromMilliseconds(ms));

    private static readonly Gen<string> Words = Gen.String[Gen.Char.Where(c => c is not '\0' and not '\n' && !char.IsSurrogate(c)), 1, 20];

    private static readonly Gen<Definition> Any =
        from name in Gen.String[Gen.Char["abcdefghijklmnopqrstuvwxyz0123456789"], 1, 48]
        from title in Words
        from arguments in Words.Array[0, 5]
        from variables in Gen.Select(Gen.String[Gen.Char["ABCXYZ_"], 1, 8], Words).Array[0, 4]
        from pause in Lengths
        from wait in Lengths
        from ends in Gen.Int[0, 1000]
        from after in Gen.Enum<RecoverAfter>()
        from at in Gen.Enum<BeginAt>()
        select new Definition
        {
            Name = name,
            Title = title,
            Account = "skerry-ledger",
            Program = new("/srv/skerry/ledger", [.. arguments], "/srv/skerry", variables.DistinctBy(pair => pair.Item1).ToImmutableSortedDictionary(pair => pair.Item1, pair => pair.Item2, StringComparer.Ordinal)),
            At = at,
            Recover = new() { After = after, First = pause, HoldEnds = ends },
            WindDown = [new("INT", wait), new("TERM", wait)],
        };

    [Fact]
    public void What_is_written_reads_back_the_same() => Any.Sample(definition =>
    {
        var (read, errors) = DefinitionReader.Read(DefinitionWriter.Write(definition));
        Assert.Empty(errors);
        Assert.Equivalent(definition with { Given = read!.Given }, read, strict: true);
    });

    [Fact]
    public void Any_length_of_time_reads_back_the_same() => Lengths.Sample(length =>
    {
        Assert.True(Duration.TryRead(Duration.Write(length), out var read));
        Assert.Equal(length, read);
    });

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
        var (definition, errors) = DefinitionReader.Read(Map(
            ("name", Text("Fare Ledger")),
            ("progam", Map(("path", Text("/srv/x")))),
            ("begin", Map(("at", Text("dawn")))),
            ("recover", Map(("pause", Map(("first", Text("soon")))))),
            ("wind-down", new ListNode([Map(("signal", Text("STOPP")))]))));
        Assert.Null(definition);
        Assert.Equal(["begin.at", "name", "progam", "program", "recover.pause.first", "wind-down[0].signal"], errors.Select(error => error.Key).Order());
        Assert.Contains("progam: not a key of this place; allowed: format, name,", errors.Single(error => error.Key == "progam").ToString(), StringComparison.Ordinal);
        Assert.Equal("program", errors.Single(error => error.Key == "progam").Nearest);
        Assert.Equal("begin.at: 'dawn'; allowed: boot | request", errors.Single(error => error.Key == "begin.at").ToString());
    }

    [Fact]
    public void An_error_names_its_line_and_column_where_the_form_has_them()
    {
        var (_, errors) = DefinitionReader.Read(Map(("name", new ScalarNode("-x", new Place(3, 7))), ("program", Map(("path", Text("/x"))))));
        Assert.StartsWith("line 3, column 7: name: '-x'; allowed: lower-case letters", Assert.Single(errors).ToString(), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("Fare ledger", "fare-ledger")]
    [InlineData("  Ærø – Gate № 3  ", "aero-gate-3")]
    [InlineData("Straße/Köln", "strasse-koln")]
    [InlineData("!!!", "")]
    public void Titles_become_short_names(string title, string name) => Assert.Equal(name, ServiceName.From(title));

    [Fact]
    public void A_made_name_is_valid_or_empty_and_stays_as_it_is() => Gen.String.Sample(title =>
    {
        var name = ServiceName.From(title);
        Assert.True(name.Length == 0 || ServiceName.IsValid(name));
        Assert.Equal(name, ServiceName.From(name));
    });
}
