using CalmSentry.Core.Definitions;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace CalmSentry.Server.Definitions;

/// <summary>YAML 1.2 to the node tree a definition is read from, each node with its place, and back.</summary>
internal static class YamlNodes
{
    /// <returns>The tree, or what is wrong and where.</returns>
    public static (Node? Node, DefinitionError? Error) Read(string text)
    {
        try
        {
            var stream = new YamlStream();
            stream.Load(new StringReader(text));
            return stream.Documents.Count switch
            {
                0 => (null, new("definition", "an empty file", "a definition: name, program and more")),
                1 => (Read(stream.Documents[0].RootNode), null),
                _ => (null, new("definition", $"{stream.Documents.Count} documents", "one definition a file", PlaceOf(stream.Documents[1].RootNode.Start))),
            };
        }
        catch (YamlException error)
        {
            return (null, new("definition", $"no YAML ({(error.InnerException ?? error).Message.TrimEnd('.')})", "YAML 1.2: keys and values, indented by spaces", PlaceOf(error.End)));
        }
    }

    public static string Write(Node node)
    {
        using var text = new StringWriter { NewLine = "\n" };
        new YamlStream(new YamlDocument(Plain(node))).Save(text, assignAnchors: false);
        return text.ToString().Replace("...\n", "", StringComparison.Ordinal);
    }

    private static Node Read(YamlNode node) => node switch
    {
        YamlMappingNode map => new MapNode([.. map.Children.Select(pair => KeyValuePair.Create(((pair.Key as YamlScalarNode)?.Value) ?? "?", Read(pair.Value)))], PlaceOf(node.Start)),
        YamlSequenceNode list => new ListNode([.. list.Children.Select(Read)], PlaceOf(node.Start)),
        YamlScalarNode { Style: ScalarStyle.Plain, Value: "~" or "null" or "" or null } => new NullNode(PlaceOf(node.Start)),
        YamlScalarNode scalar => new ScalarNode(scalar.Value ?? "", PlaceOf(node.Start)),
        _ => new NullNode(PlaceOf(node.Start)),
    };

    private static YamlNode Plain(Node node) => node switch
    {
        MapNode map => new YamlMappingNode(map.Entries.Select(entry => KeyValuePair.Create((YamlNode)Scalar(entry.Key), Plain(entry.Value)))),
        ListNode list => new YamlSequenceNode(list.Items.Select(Plain)) { Style = list.Items.All(item => item is ScalarNode) ? YamlDotNet.Core.Events.SequenceStyle.Flow : YamlDotNet.Core.Events.SequenceStyle.Block },
        ScalarNode scalar => Scalar(scalar.Text),
        _ => new YamlScalarNode("~") { Style = ScalarStyle.Plain },
    };

    /// <summary>Plain where that cannot be misread, else in double quotes, in which every text can be written.</summary>
    private static YamlScalarNode Scalar(string text)
    {
        var plain = text.Length > 0 && text != "~" && text != "null" && !char.IsWhiteSpace(text[0]) && !char.IsWhiteSpace(text[^1]) && text[0] != '-'
            && text.All(c => char.IsAsciiLetterOrDigit(c) || " ._/-+%".Contains(c, StringComparison.Ordinal));
        return new YamlScalarNode(text) { Style = plain ? ScalarStyle.Plain : ScalarStyle.DoubleQuoted };
    }

    private static Place PlaceOf(Mark mark) => new((int)mark.Line, (int)mark.Column);
}
