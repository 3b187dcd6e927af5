using System.Globalization;

namespace CalmSentry.Core.Definitions;

/// <summary>
/// What a definition is read from, whatever it was written in: maps, lists and scalars, each with the place it stands
/// at
/// where the form has one. Scalars are text: "7411" and 7411 mean the same to a definition.
/// </summary>
public abstract record Node(Place? Place)
{
    private const int LongestShown = 200;

    /// <summary>What was found, as an error says it.</summary>
    public string InWords =>
        this switch
        {
            NullNode => "nothing",
            ScalarNode { Text.Length: 0 } => "an empty text",
            ScalarNode { Text.Length: > LongestShown } scalar => $"'{scalar.Text[..LongestShown]}…'",
            ScalarNode scalar => $"'{scalar.Text}'",
            ListNode => "a list",
            _ => "a map",
        };

    /// <summary>Where a key stands, its names dotted and items of a list by number: <c>tell[0].next</c>. What is not there stands where it
    /// would be in.</summary>
    public Place? PlaceOf(string path)
    {
        var at = this;
        foreach (var step in path.Split('.', '['))
        {
            var next = at switch
            {
                MapNode map => map.Entries.FirstOrDefault(entry => entry.Key == step).Value,
                ListNode list when int.TryParse(step.TrimEnd(']'), CultureInfo.InvariantCulture, out var index) =>
                    list.Items.ElementAtOrDefault(index),
                _ => null,
            };
            if (next is null)
                break;
            at = next;
        }

        return at.Place;
    }
}

/// <summary>A place in a file, both counted from 1.</summary>
public readonly record struct Place(int Line, int Column);

public sealed record MapNode(IReadOnlyList<KeyValuePair<string, Node>> Entries, Place? Place = null) : Node(Place);

public sealed record ListNode(IReadOnlyList<Node> Items, Place? Place = null) : Node(Place);

public sealed record ScalarNode(string Text, Place? Place = null) : Node(Place);

/// <summary>A key without a value: laid over a definition it takes the key away. An empty text is a value.</summary>
public sealed record NullNode(Place? Place = null) : Node(Place);
