using CalmSentry.Core.Definitions;
using CalmSentry.Core.Settling;

namespace CalmSentry.Tests.Core.Settling;

/// <summary>What files of some kilobytes come to is bounded, and so is what is said of their mistakes.</summary>
public class FillerBoundTests
{
    private static MapNode Map(params (string Key, Node Value)[] entries) =>
        new([.. entries.Select(entry => KeyValuePair.Create(entry.Key, entry.Value))]);

    private static ScalarNode Text(string text) => new(text);

    private static MapNode Base(string? from, int blanks, Func<int, string> fill) =>
        Map([
            ("format", Text(Filler.BaseFormat)),
            ("blanks", Map([.. Enumerable.Range(0, blanks).Select(i => ($"b{i}", (Node)Map(("is", Text("text")))))])),
            .. from is null
                ? Array.Empty<(string, Node)>()
                :
                [
                    ("from", Text(from)),
                    ("fill", Map([.. Enumerable.Range(0, blanks).Select(i => ($"b{i}", (Node)Text(fill(i))))])),
                ],
            ("notes", Text("{{b0}}")),
        ]);

    private static (Filled? Filled, IReadOnlyList<FileError> Errors) Fill(
        Dictionary<string, MapNode> files,
        params (string Key, Node Value)[] own
    ) => new Filler(path => files.GetValueOrDefault(path), new Dictionary<string, Fill>()).Fill("a.yaml", Map(own));

    /// <summary>Eight bases, each filled with a text of the blanks of the one before, many times over.</summary>
    [Fact]
    public void Blanks_that_are_filled_with_blanks_come_to_an_end()
    {
        const int bases = 7,
            blanks = 40;
        var files = Enumerable
            .Range(0, bases)
            .ToDictionary(
                i => $"base{i}.yaml",
                i =>
                    Base(
                        i + 1 < bases ? $"base{i + 1}.yaml" : null,
                        blanks,
                        _ => string.Concat(Enumerable.Range(0, blanks).Select(b => $"{{{{b{b}}}}}"))
                    )
            );
        var (filled, errors) = Fill(
            files,
            ("from", Text("base0.yaml")),
            ("fill", Map([.. Enumerable.Range(0, blanks).Select(i => ($"b{i}", (Node)Text(new string('x', 1000))))]))
        );
        Assert.Null(filled);
        Assert.Contains(errors, error => error.Error.Allowed.Contains("characters", StringComparison.Ordinal));
        Assert.InRange(errors.Count, 1, 20);
    }

    [Fact]
    public void Of_mistakes_by_the_thousand_some_are_told_and_each_is_short()
    {
        const int many = 4000;
        var files = new Dictionary<string, MapNode> { ["base.yaml"] = Base(null, many, _ => "") };
        var (filled, errors) = Fill(
            files,
            ("from", Text("base.yaml")),
            ("fill", Map([.. Enumerable.Range(0, many).Select(i => ($"c{i}", (Node)Text("x")))]))
        );
        Assert.Null(filled);
        Assert.InRange(errors.Count, 1, 20);
        Assert.All(errors, error => Assert.InRange(error.ToString().Length, 1, 1000));
    }

    [Fact]
    public void A_word_of_any_length_is_like_none() =>
        Assert.Null(Spelling.Nearest(new string('a', 30_000), ["argument", "arguments"]));
}
