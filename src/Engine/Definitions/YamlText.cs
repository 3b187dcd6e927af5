using CalmSentry.Core.Definitions;
using YamlDotNet.Core;
using YamlDotNet.Core.Events;

namespace CalmSentry.Engine.Definitions;

/// <summary>
/// A YAML text made to say something else: what says the same stays as somebody wrote it, comments and order with it. Whatever comes out
/// reads as what is wanted.
/// </summary>
internal static class YamlText
{
    /// <param name="text">One document, a map.</param>
    /// <param name="wanted">What it is to say.</param>
    public static string Saying(string text, MapNode wanted)
    {
        if (Says(text, wanted))
            return text;
        foreach (var whole in (bool[])[false, true])
            try
            {
                var edited = new Edit(text, whole).Made(wanted);
                if (Says(edited, wanted))
                    return edited;
            }
            catch (Exception error) when (error is YamlException or InvalidOperationException or ArgumentException)
            {
                // It is written in a way that is not edited: by sections then, or anew.
            }

        return string.Concat(CommentsIn(text, 0, text.Length).Select(comment => $"{comment}\n"))
            + YamlNodes.Write(wanted);
    }

    private static bool Says(string text, MapNode wanted) =>
        YamlNodes.Read(text).Node is MapNode map && Same(map, wanted);

    /// <summary>Whether two say the same, whatever the order of their keys.</summary>
    public static bool Same(Node? one, Node? other) =>
        (one, other) switch
        {
            (ScalarNode a, ScalarNode b) => a.Text == b.Text,
            (NullNode, NullNode) => true,
            (ListNode a, ListNode b) => a.Items.Count == b.Items.Count
                && a.Items.Zip(b.Items).All(pair => Same(pair.First, pair.Second)),
            (MapNode a, MapNode b) => a.Entries.Count == b.Entries.Count
                && a.Entries.All(entry => Same(entry.Value, Of(b, entry.Key))),
            _ => false,
        };

    private static Node? Of(MapNode map, string key) => map.Entries.FirstOrDefault(entry => entry.Key == key).Value;

    /// <summary>Comments of a part of a text, each as it stands.</summary>
    private static List<string> CommentsIn(string text, int from, int to)
    {
        var scanner = new Scanner(new StringReader(text), skipComments: false);
        var found = new List<string>();
        try
        {
            while (scanner.MoveNext())
                if (scanner.Current is YamlDotNet.Core.Tokens.Comment comment && comment.Start.Index >= from)
                {
                    if (comment.Start.Index >= to)
                        break;
                    found.Add($"# {comment.Value.Trim()}".TrimEnd());
                }
        }
        catch (YamlException)
        {
            // As many as there are up to there.
        }

        return found;
    }

    /// <summary>A value, where it stands.</summary>
    /// <param name="From">Its first character.</param>
    /// <param name="To">Behind its last.</param>
    private abstract record Piece(int From, int To);

    private sealed record Plain(int From, int To, bool OneLine) : Piece(From, To);

    private sealed record Entries(int From, int To, bool Flow, int Column, List<(string Key, int At, Piece Value)> All)
        : Piece(From, To);

    /// <param name="text">The whole text.</param>
    /// <param name="bySections">What differs is written anew as a whole, as far out as the first level.</param>
    private sealed class Edit(string text, bool bySections)
    {
        private readonly List<(int From, int To, string Text)> changes = [];

        public string Made(MapNode wanted)
        {
            var parser = new Parser(new StringReader(text));
            parser.Consume<StreamStart>();
            parser.Consume<DocumentStart>();
            if (Next(parser) is not Entries root || YamlNodes.Read(text).Node is not MapNode now)
                throw new InvalidOperationException("no map");
            Map(root, now, wanted);
            var edited = text;
            foreach (var (from, to, put) in changes.OrderByDescending(change => change.From))
                edited = string.Concat(edited.AsSpan(0, from), put, edited.AsSpan(to));
            return edited;
        }

        private static Piece Next(Parser parser)
        {
            switch (parser.Consume<ParsingEvent>())
            {
                case Scalar scalar:
                    return new Plain(
                        (int)scalar.Start.Index,
                        (int)scalar.End.Index,
                        scalar.Style is ScalarStyle.Plain or ScalarStyle.SingleQuoted or ScalarStyle.DoubleQuoted
                            && scalar.Start.Line == scalar.End.Line
                            && scalar.Anchor.IsEmpty
                    );
                case MappingStart map:
                {
                    var all = new List<(string, int, Piece)>();
                    var (column, to) = (0, (int)map.End.Index);
                    while (!parser.Accept<MappingEnd>(out _))
                    {
                        var key = parser.Consume<Scalar>();
                        column = (int)key.Start.Column - 1;
                        var value = Next(parser);
                        all.Add((key.Value, (int)key.Start.Index, value));
                        to = Math.Max(value.To, (int)key.End.Index + 1);
                    }

                    var closes = parser.Consume<MappingEnd>(); // of the bracket only where it begins is told
                    var flow = map.Style == MappingStyle.Flow;
                    return new Entries(
                        (int)map.Start.Index,
                        flow ? (int)closes.Start.Index + 1 : to,
                        flow,
                        column,
                        all
                    );
                }
                case SequenceStart list:
                {
                    var to = (int)list.End.Index;
                    while (!parser.Accept<SequenceEnd>(out _))
                        to = Next(parser).To;
                    var closes = parser.Consume<SequenceEnd>();
                    return new Plain(
                        (int)list.Start.Index,
                        list.Style == SequenceStyle.Flow ? (int)closes.Start.Index + 1 : to,
                        false
                    );
                }
                case AnchorAlias alias:
                    return new Plain((int)alias.Start.Index, (int)alias.End.Index, false);
                default:
                    throw new InvalidOperationException("nothing that is edited");
            }
        }

        private void Map(Entries piece, MapNode now, MapNode wanted)
        {
            if (
                piece.Flow
                && !now
                    .Entries.Select(entry => entry.Key)
                    .Order()
                    .SequenceEqual(wanted.Entries.Select(entry => entry.Key).Order())
            )
            {
                changes.Add((piece.From, piece.To, Flow(wanted)));
                return;
            }

            foreach (var (key, at, value) in piece.All)
            {
                var (before, after) = (Of(now, key), Of(wanted, key));
                if (Same(before, after))
                    continue;
                if (after is null)
                    changes.Add((LineOf(at), LineAfter(value.To), ""));
                else if (!bySections && (before, after, value) is (MapNode was, MapNode will, Entries inner))
                    Map(inner, was, will);
                else if (!bySections && after is ScalarNode scalar && value is Plain { OneLine: true })
                    changes.Add((value.From, value.To, (value.From == value.To ? " " : "") + One(scalar)));
                else if (piece.Flow)
                    changes.Add((value.From, value.To, Flow(after)));
                else
                    changes.Add(
                        (
                            LineOf(at),
                            LineAfter(value.To),
                            Anew(piece.Column, key, after, LineOf(at), LineAfter(value.To))
                        )
                    );
            }

            var added = wanted.Entries.Where(entry => Of(now, entry.Key) is null).ToList();
            if (added.Count == 0)
                return;
            var end = LineAfter(piece.To);
            var lines = string.Concat(added.Select(entry => Anew(piece.Column, entry.Key, entry.Value, 0, 0)));
            changes.Add((end, end, (end > 0 && text[end - 1] != '\n' ? "\n" : "") + lines));
        }

        /// <summary>An entry of a block, its comments above it.</summary>
        private string Anew(int column, string key, Node value, int from, int to)
        {
            var written =
                string.Concat((to > from ? CommentsIn(text, from, to) : []).Select(comment => $"{comment}\n"))
                + YamlNodes.Write(new MapNode([KeyValuePair.Create(key, value)]));
            return string.Concat(
                written
                    .TrimEnd('\n')
                    .Split('\n')
                    .Select(line => $"{new string(' ', line.Length > 0 ? column : 0)}{line}\n")
            );
        }

        private static string One(ScalarNode scalar) =>
            YamlNodes.Write(new ListNode([scalar])).Trim().TrimStart('[').TrimEnd(']').Trim();

        private static string Flow(Node node) =>
            node switch
            {
                MapNode map => "{ "
                    + string.Join(", ", map.Entries.Select(entry => $"{One(new(entry.Key))}: {Flow(entry.Value)}"))
                    + " }",
                ListNode list => $"[{string.Join(", ", list.Items.Select(Flow))}]",
                ScalarNode scalar => One(scalar),
                _ => "~",
            };

        private int LineOf(int at) => at == 0 ? 0 : text.LastIndexOf('\n', at - 1) + 1;

        /// <summary>Behind the line that has the character before a place.</summary>
        private int LineAfter(int at)
        {
            if (at > 0 && at <= text.Length && text[at - 1] == '\n')
                return at;
            var end = text.IndexOf('\n', Math.Min(at, text.Length));
            return end < 0 ? text.Length : end + 1;
        }
    }
}
