using System.CommandLine;
using System.Text.Json;
using System.Text.RegularExpressions;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Settling;

namespace CalmSentry.Tests.Front.House;

/// <summary>What is shown as an example can be used as it stands there.</summary>
public partial class DocumentsTests
{
    private static readonly string[] Documents =
    [
        Path.Combine(Sources.Root, "README.md"),
        .. Directory.GetFiles(Path.Combine(Sources.Root, "docs"), "*.md"),
    ];

    private static string Filled(string text) =>
        text.Replace("SRV", "/srv/skerry", StringComparison.Ordinal)
            .Replace(" PORT ", " 7414 ", StringComparison.Ordinal);

    [GeneratedRegex(@"(?m)^(format: calm-sentry-(base|host|around)/1|from: )")]
    private static partial Regex OfSeveral();

    [GeneratedRegex(@"^# (\S+\.yaml)\n")]
    private static partial Regex Named();

    [Fact]
    public void Every_definition_in_the_documents_and_the_demo_can_be_read()
    {
        var shown = Documents
            .SelectMany(file =>
                Block().Matches(File.ReadAllText(file)).Select(block => (file, Text: block.Groups["text"].Value))
            )
            .Concat(
                Directory
                    .GetFiles(Path.Combine(Sources.Root, "demo"), "*.yaml", SearchOption.AllDirectories)
                    .Select(file => (file, Text: File.ReadAllText(file)))
            )
            .ToList();
        Assert.NotEmpty(shown);
        // What is put together from several is read together.
        var together = shown.Where(one => OfSeveral().IsMatch(one.Text)).ToList();
        Assert.All(
            together.GroupBy(one =>
                one.file.EndsWith(".md", StringComparison.Ordinal) ? one.file : Path.GetDirectoryName(one.file)
            ),
            directory =>
                Assert.All(
                    FileSet
                        .Read(
                            new(
                                directory.ToDictionary(
                                    one =>
                                        Named().Match(one.Text) is { Success: true } name
                                            ? name.Groups[1].Value
                                            : Path.GetFileName(one.file),
                                    one => Filled(one.Text),
                                    StringComparer.Ordinal
                                )
                            ),
                            "skerry",
                            "root"
                        )
                        .Errors,
                    error => Assert.Contains("NODE", error.Error.Found, StringComparison.Ordinal)
                )
        );
        Assert.All(
            shown.Except(together),
            one =>
            {
                if (OfSentry.Any(key => one.Text.StartsWith(key, StringComparison.Ordinal)))
                {
                    Settings(one.Text);
                    return;
                }

                var (node, wrong) = YamlNodes.Read(Filled(one.Text));
                Assert.Null(wrong);
                var (_, errors) = DefinitionReader.Read(Whole(Assert.IsType<MapNode>(node)));
                // The demo fills in what is written in capitals.
                Assert.All(errors, error => Assert.Contains("NODE", error.Found, StringComparison.Ordinal));
            }
        );
    }

    /// <summary>What people may be told of, with whether it can wait.</summary>
    [Fact]
    public void Every_topic_is_explained_as_it_is()
    {
        var told = File.ReadAllText(Path.Combine(Sources.Root, "docs/being-told.md"));
        using var api = JsonDocument.Parse(File.ReadAllText(Path.Combine(Sources.Root, "docs/openapi.json")));
        var listed = Schema(api, "Topic").GetProperty("enum").EnumerateArray().Select(word => word.GetString());
        Assert.Equal(Words.All<Topic>().Order(), listed.Order());
        Assert.All(
            Enum.GetValues<Topic>(),
            topic =>
                Assert.Matches(
                    $@"(?m)^\| `{Words.Of(topic)}` \| .+ \| {(Topics.Of(topic).Urgency == Urgency.Urgent ? "urgent" : "can wait")} \|$",
                    told
                )
        );
    }

    private static JsonElement Schema(JsonDocument api, string name) =>
        api.RootElement.GetProperty("components").GetProperty("schemas").GetProperty(name);

    /// <summary>What a service is shown to be at has a name for each phase of its life.</summary>
    [Fact]
    public void Every_phase_has_its_state() =>
        Assert.Equal([nameof(ServiceState.Unreadable)], Enum.GetNames<ServiceState>().Except(Enum.GetNames<Phase>()));

    private static readonly string[] OfSentry =
    [
        "forward:",
        "logbook:",
        "mail:",
        "alerts:",
        "signal:",
        "lookout:",
        "report:",
    ];

    /// <summary>What the sentry's own settings take.</summary>
    private static void Settings(string text)
    {
        var (settings, errors, _) = CalmSentry.Server.Self.Settings.Read(text);
        Assert.Empty(errors);
        Assert.NotEqual(new(), settings);
    }

    [Fact]
    public void Every_command_that_a_message_or_a_document_shows_is_one_there_is()
    {
        var root = CalmSentry.Cli.Program.Commands(new(null, null));
        var texts = Documents
            .Append(Path.Combine(Sources.Root, "demo.sh"))
            .Concat(Sources.Files(""))
            .Concat(
                Directory.GetFiles(
                    Path.Combine(Sources.Root, "src", "console", "src"),
                    "*.tsx",
                    SearchOption.AllDirectories
                )
            )
            .SelectMany(file => Shown().Matches(File.ReadAllText(file)).Select(shown => (file, shown)))
            .ToList();
        Assert.NotEmpty(texts);
        Assert.All(texts, one => Assert.Null(Unknown(root, one.shown.Value)));
    }

    /// <summary>The first command or flag of a line that the client does not know.</summary>
    private static string? Unknown(RootCommand root, string line)
    {
        Command command = root;
        foreach (var word in line.Split(' ').Skip(1).TakeWhile(word => word != "--"))
        {
            if (word.StartsWith("--", StringComparison.Ordinal))
            {
                var flag = Flag().Match(word).Value;
                if (flag != "--help" && command.Options.Concat(root.Options).All(option => option.Name != flag))
                    return $"{line}: {flag}";
            }
            else if (command.Subcommands.FirstOrDefault(one => one.Name == word) is { } below)
            {
                command = below;
            }
            else if (command.Subcommands.Count > 0)
            {
                return $"{line}: {word}";
            }
        }

        return null;
    }

    /// <summary>A part of a definition, with what every one must have.</summary>
    private static MapNode Whole(MapNode part)
    {
        var entries = part.Entries.ToDictionary(entry => entry.Key, entry => entry.Value);
        entries.TryAdd("name", new ScalarNode("tide-store"));
        entries.TryAdd("program", new MapNode([new("path", new ScalarNode("/srv/skerry/tide"))]));
        entries.TryAdd("identity", new MapNode([new("account", new ScalarNode("nobody"))]));
        return new([.. entries]);
    }

    [GeneratedRegex("```yaml\n(?<text>.*?)```", RegexOptions.Singleline)]
    private static partial Regex Block();

    /// <summary>In quotes of some kind, at a line's begin, or behind an arrow; up to where something else begins.</summary>
    [GeneratedRegex(
        "(?<=['`\"]|^|→ |: )calm [a-z][a-z-]+( --?[a-z][a-z-]*| [a-z][a-z-]*(?![\\w{/:=.]))*",
        RegexOptions.Multiline
    )]
    private static partial Regex Shown();

    [GeneratedRegex("^--[a-z-]+")]
    private static partial Regex Flag();
}
