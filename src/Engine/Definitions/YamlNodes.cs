using CalmSentry.Core.Definitions;
using YamlDotNet.Core;
using YamlDotNet.Core.Events;
using YamlDotNet.RepresentationModel;

namespace CalmSentry.Engine.Definitions;

/// <summary>YAML 1.2 to the node tree a definition is read from, each node with its place, and back.</summary>
internal static class YamlNodes
{
    /// <returns>The tree, or what is wrong and where.</returns>
    public static (Node? Node, DefinitionError? Error) Read(string text) => Read(text, out _);

    /// <param name="characters">Of its texts, those that aliases stand for counted each time.</param>
    public static (Node? Node, DefinitionError? Error) Read(string text, out long characters)
    {
        var parser = new Parser(new StringReader(text));
        var reader = new Reader(parser);
        characters = 0;
        try
        {
            var root = reader.Document();
            characters = reader.Characters;
            return (root, null);
        }
        catch (NodeBounds.PassedException passed)
        {
            return (null, passed.Error);
        }
        catch (YamlException error)
        {
            var tab = LineWithTab(text, error);
            return (
                null,
                new(
                    "definition",
                    tab > 0
                        ? "a line that begins with a tab"
                        : $"no YAML ({(error.InnerException ?? error).Message.TrimEnd('.')})",
                    "YAML 1.2: keys and values, indented by spaces",
                    tab > 0 ? new(tab, 1) : PlaceOf(error.End)
                )
            );
        }
        catch (Exception error)
            when (error
                    is InvalidOperationException
                        or ArgumentException
                        or FormatException
                        or IndexOutOfRangeException
                        or NullReferenceException
            )
        {
            // The parser gives up in its own ways on what is far from YAML.
            return (
                null,
                new(
                    "definition",
                    "no YAML",
                    "YAML 1.2: keys and values, indented by spaces",
                    PlaceOf(parser.Current?.End ?? default)
                )
            );
        }
    }

    /// <summary>Where a tab was meant to indent, which the parser says of another place; 0: that is not it.</summary>
    private static int LineWithTab(string text, YamlException error) =>
        error.Message.Contains("tab", StringComparison.Ordinal)
        || error.Message.Contains("cannot start any token", StringComparison.Ordinal)
            ? Array.FindIndex(text.Split('\n'), line => line.TrimStart(' ').StartsWith('\t')) + 1
            : 0;

    /// <summary>Where two braces stand outside of quotes; null: nowhere, as far as it can be read.</summary>
    public static Place? UnquotedBraces(string text)
    {
        try
        {
            var parser = new Parser(new StringReader(text));
            for (var opens = false; parser.MoveNext(); )
                if (
                    parser.Current is MappingStart { Style: MappingStyle.Flow } && opens
                    || parser.Current
                        is Scalar { Style: not (ScalarStyle.DoubleQuoted or ScalarStyle.SingleQuoted) } scalar
                        && scalar.Value.Contains("{{", StringComparison.Ordinal)
                )
                    return PlaceOf(parser.Current.Start);
                else
                    opens = parser.Current is MappingStart { Style: MappingStyle.Flow };
        }
        catch (Exception error) when (error is not OutOfMemoryException)
        {
            // What is no YAML is told by whoever reads it.
        }

        return null;
    }

    public static string Write(Node node)
    {
        using var text = new StringWriter { NewLine = "\n" };
        new YamlStream(new YamlDocument(Plain(node))).Save(text, assignAnchors: false);
        return text.ToString().Replace("...\n", "", StringComparison.Ordinal);
    }

    /// <summary>
    /// Takes the parser's events one by one and stops at the first bound that is passed: what follows is never parsed.
    /// </summary>
    private sealed class Reader(IParser events)
    {
        private readonly Dictionary<AnchorName, (Node Node, int Size, long Characters)?> anchors = [];
        private readonly NodeBounds bounds = new();

        public long Characters => bounds.Characters;

        public Node Document()
        {
            events.Consume<StreamStart>();
            if (events.TryConsume<StreamEnd>(out _))
                throw new NodeBounds.PassedException(
                    new("definition", "an empty file", "a definition: name, program and more")
                );
            events.Consume<DocumentStart>();
            var root = Next("");
            events.Consume<DocumentEnd>();
            if (!events.TryConsume<DocumentStart>(out _))
                return root;
            throw new NodeBounds.PassedException(
                new("definition", "more than one document", "one definition a file", PlaceOf(events.Current!.Start))
            );
        }

        private Node Next(string path)
        {
            var (began, written) = (bounds.Nodes, bounds.Characters);
            if (events.TryConsume<AnchorAlias>(out var alias))
                return Known(alias, path, PlaceOf(alias.Start));
            var first = events.Consume<NodeEvent>();
            var place = PlaceOf(first.Start);
            bounds.Count(path, place, 1, (first as Scalar)?.Value.Length ?? 0);
            if (!first.Anchor.IsEmpty)
                anchors[first.Anchor] = null; // while it is read, it cannot stand within itself
            bounds.Enter(path, place);
            Node node = first switch
            {
                MappingStart => Map(path, place),
                SequenceStart => List(path, place),
                Scalar { Style: ScalarStyle.Plain, Value: "~" or "null" or "" } => new NullNode(place),
                Scalar scalar => new ScalarNode(NodeBounds.Text(scalar.Value, path, place), place),
                _ => new NullNode(place),
            };
            bounds.Leave();
            if (!first.Anchor.IsEmpty)
                anchors[first.Anchor] = (node, bounds.Nodes - began, bounds.Characters - written);
            return node;
        }

        private MapNode Map(string path, Place place)
        {
            var entries = new List<KeyValuePair<string, Node>>();
            var keys = new HashSet<string>(StringComparer.Ordinal);
            while (!events.TryConsume<MappingEnd>(out _))
            {
                var keyPlace = PlaceOf(events.Current!.Start);
                var key = Next(path) is ScalarNode scalar ? scalar.Text : "?";
                var at = path.Length == 0 ? key : $"{path}.{key}";
                if (!keys.Add(key))
                    throw NodeBounds.Twice(at, keyPlace);
                entries.Add(KeyValuePair.Create(key, Next(at)));
            }

            return new MapNode(entries, place);
        }

        private ListNode List(string path, Place place)
        {
            var items = new List<Node>();
            while (!events.TryConsume<SequenceEnd>(out _))
                items.Add(Next($"{path}[{items.Count}]"));
            return new ListNode(items, place);
        }

        /// <summary>What stands in for something written before counts as if it were written again.</summary>
        private Node Known(AnchorAlias alias, string path, Place place)
        {
            if (!anchors.TryGetValue(alias.Value, out var known))
                throw new NodeBounds.PassedException(
                    new(
                        NodeBounds.At(path),
                        $"*{alias.Value}, which names nothing before it",
                        "the name of an anchor (&name) above it",
                        place
                    )
                );
            if (known is not var (node, size, characters))
                throw new NodeBounds.PassedException(
                    new(
                        NodeBounds.At(path),
                        $"*{alias.Value} within itself",
                        "the name of an anchor (&name) that is closed above it",
                        place
                    )
                );
            bounds.Count(path, place, size, characters);
            return node;
        }
    }

    private static YamlNode Plain(Node node) =>
        node switch
        {
            MapNode map => new YamlMappingNode(
                map.Entries.Select(entry => KeyValuePair.Create((YamlNode)Scalar(entry.Key), Plain(entry.Value)))
            ),
            ListNode list => new YamlSequenceNode(list.Items.Select(Plain))
            {
                Style = list.Items.All(item => item is ScalarNode)
                    ? YamlDotNet.Core.Events.SequenceStyle.Flow
                    : YamlDotNet.Core.Events.SequenceStyle.Block,
            },
            ScalarNode scalar => Scalar(scalar.Text),
            _ => new YamlScalarNode("~") { Style = ScalarStyle.Plain },
        };

    /// <summary>
    /// Plain where that cannot be misread, else in double quotes, in which every text can be written.
    /// </summary>
    private static YamlScalarNode Scalar(string text)
    {
        var plain =
            text.Length > 0
            && text != "~"
            && text != "null"
            && !char.IsWhiteSpace(text[0])
            && !char.IsWhiteSpace(text[^1])
            && text[0] != '-'
            && text.All(c => char.IsAsciiLetterOrDigit(c) || " ._/-+%".Contains(c, StringComparison.Ordinal));
        return new YamlScalarNode(text) { Style = plain ? ScalarStyle.Plain : ScalarStyle.DoubleQuoted };
    }

    private static Place PlaceOf(Mark mark) => new((int)mark.Line, (int)mark.Column);
}
