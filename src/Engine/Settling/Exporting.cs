using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Engine.Definitions;
using CalmSentry.Linux.Boot;

namespace CalmSentry.Engine.Settling;

/// <summary>
/// Definitions as files that read back to the same. What came from a file is that file, its comments and the order of its keys kept, and
/// what has been changed since is changed in it.
/// </summary>
internal static class Exporting
{
    /// <param name="given">The definition as it holds now.</param>
    /// <param name="source">The files it came from; null: it came from none.</param>
    /// <param name="host">The machine they are read back on.</param>
    /// <returns>Its own file, and those it is from.</returns>
    public static FilesDocument Of(Definition definition, MapNode given, FilesDocument? source, string host)
    {
        var own = source?.Take ?? $"{definition.Name}.yaml";
        if (source is not null && Carried(definition, given, source, own, host) is { } carried)
            return carried;
        var files = source?.Files.TryGetValue(own, out var text) == true ? YamlText.Saying(text, given) : null;
        return new(new Dictionary<string, string> { [own] = files ?? YamlNodes.Write(given) }) { Take = own };
    }

    /// <summary>One file that stands for itself: what was made from a base is filled in it.</summary>
    public static string Alone(Definition definition, MapNode given, string? source)
    {
        var from = FileSet.Source(source);
        return from is { Take: { } own, Files.Count: 1 }
            ? Of(definition, given, from, Machine.HostName).Files[own]
            : YamlNodes.Write(given);
    }

    private static FilesDocument? Carried(
        Definition definition,
        MapNode given,
        FilesDocument source,
        string own,
        string host
    )
    {
        var read = FileSet.Read(source with { Take = own }, host, Root);
        if (
            read.Errors.Count > 0
            || !read.Filled.TryGetValue(own, out var filled)
            || YamlNodes.Read(source.Files[own]).Node is not MapNode map
        )
            return null;
        if (
            DefinitionChanges
                .Between(DefinitionWriter.Write(read.Services[0].Definition), DefinitionWriter.Write(definition))
                .Count == 0
        )
            return source with { Take = own };
        var wanted = Laid(map, read.Given[own], given, filled.Under, "");
        var files = source.Files.ToDictionary(file => file.Key, file => file.Value, StringComparer.Ordinal);
        files[own] = YamlText.Saying(source.Files[own], wanted);
        var again = new FilesDocument(files) { Take = own };
        var back = FileSet.Read(again, host, Root);
        return
            back is { Errors.Count: 0, Services: [var one] }
            && DefinitionChanges
                .Between(DefinitionWriter.Write(one.Definition), DefinitionWriter.Write(definition))
                .Count == 0
            ? again
            : null;
    }

    /// <summary>Files say whose a service is; who reads them back has no part in it.</summary>
    private const string Root = "root";

    /// <summary>What a file has to say so that what it comes to is another: its own keys, where they differ.</summary>
    /// <param name="own">What it says.</param>
    /// <param name="was">What it comes to.</param>
    /// <param name="now">What it is to come to.</param>
    /// <param name="under">What its base says; null: it has none there.</param>
    private static MapNode Laid(MapNode own, MapNode was, MapNode now, MapNode? under, string path)
    {
        var entries = own.Entries.ToList();
        foreach (var key in was.Entries.Concat(now.Entries).Select(entry => entry.Key).Distinct())
        {
            var (before, after) = (Of(was, key), Of(now, key));
            if (YamlText.Same(before, after))
                continue;
            var at = entries.FindIndex(entry => entry.Key == key);
            var place = path.Length == 0 ? key : $"{path}.{key}";
            Node? put =
                after is null ? (Of(under, key) is null ? null : new NullNode())
                : before is MapNode b && after is MapNode a && DefinitionKeys.Find(place) is not { Kinds.Count: > 0 }
                    ? Laid(
                        at >= 0 && entries[at].Value is MapNode mine ? mine : new MapNode([]),
                        b,
                        a,
                        Of(under, key) as MapNode,
                        place
                    )
                : after;
            if (put is MapNode { Entries.Count: 0 } && after is MapNode { Entries.Count: > 0 })
                continue;
            if (put is null && at >= 0)
                entries.RemoveAt(at);
            else if (put is not null && at >= 0)
                entries[at] = KeyValuePair.Create(key, put);
            else if (put is not null)
                entries.Add(KeyValuePair.Create(key, put));
        }

        return new MapNode(entries, own.Place);
    }

    private static Node? Of(MapNode? map, string key) => map?.Entries.FirstOrDefault(entry => entry.Key == key).Value;

    /// <summary>Several as one directory. A base that two have in two forms is written under two names.</summary>
    public static FilesDocument Together(IEnumerable<FilesDocument> all)
    {
        var files = new SortedDictionary<string, string>(StringComparer.Ordinal);
        foreach (var one in all)
        {
            var own = one.Take!;
            // What it is from was another once: it goes on its own.
            var clash = one.Files.Any(file =>
                file.Key != own && files.TryGetValue(file.Key, out var other) && other != file.Value
            );
            var folder =
                clash || files.ContainsKey(own) ? $"{Path.GetFileNameWithoutExtension(own)}-{files.Count}/" : "";
            foreach (var (path, text) in one.Files)
                files[folder + path] = text;
        }

        return new(files);
    }
}
