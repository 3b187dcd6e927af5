using System.Collections.Immutable;
using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Settling;
using CalmSentry.Engine.Definitions;
using CalmSentry.Linux.Boot;

namespace CalmSentry.Engine.Settling;

/// <summary>A right on a folder that files ask for.</summary>
internal sealed record FolderOf(string File, string Account, string Path, bool Write);

/// <summary>What a directory of files says: definitions put together from their bases, and what services need around them.</summary>
internal sealed class FileSet
{
    public const string HostFormat = "calm-sentry-host/1",
        AroundFormat = "calm-sentry-around/1";

    private const string HostFolder = "hosts/";

    private readonly List<FileError> errors = [];
    private readonly Dictionary<string, string?> interpreters = new(StringComparer.Ordinal);
    private readonly Dictionary<string, MapNode> maps = new(StringComparer.Ordinal);

    private const int MostMistakes = 200;

    /// <summary>Of all files, what aliases stand for written out each time.</summary>
    private const long MostCharacters = FilesDocument.LongestInAll;

    private long characters;

    private FileSet(FilesDocument document) => Document = document;

    public FilesDocument Document { get; }

    public IReadOnlyList<FileError> Errors => errors;

    public List<FileService> Services { get; } = [];

    /// <summary>How each was put together.</summary>
    public Dictionary<string, Filled> Filled { get; } = new(StringComparer.Ordinal);

    /// <summary>What each was given, filled and made whole.</summary>
    public Dictionary<string, MapNode> Given { get; } = new(StringComparer.Ordinal);

    /// <summary>Accounts that services need, with the file that says so.</summary>
    public List<(string File, string Name)> Accounts { get; } = [];

    public List<FolderOf> Folders { get; } = [];

    /// <param name="host">This machine's name, by which it has fills of its own.</param>
    /// <param name="account">Who gives them: a definition without an account is theirs.</param>
    public static FileSet Read(FilesDocument document, string host, string account)
    {
        var all = new FileSet(document);
        foreach (var (path, text) in document.Files.OrderBy(file => file.Key, StringComparer.Ordinal))
            all.Parse(path, text);
        var fills = all.OfHost(host);
        var filler = new Filler(path => all.maps.GetValueOrDefault(path), fills);
        foreach (var (path, map) in all.maps)
        {
            if (all.errors.Count >= MostMistakes)
                break; // so many are shown to nobody
            switch (FormatOf(map))
            {
                case Filler.BaseFormat or HostFormat:
                    break;
                case AroundFormat:
                    all.Around(path, map);
                    break;
                case DefinitionKeys.Format:
                    if (document.Take is null || document.Take == path)
                        all.Define(path, map, filler, host, account);
                    break;
                default:
                    all.errors.Add(
                        new(
                            path,
                            new(
                                "format",
                                map.Entries.FirstOrDefault(entry => entry.Key == "format").Value?.InWords ?? "nothing",
                                $"{DefinitionKeys.Format}, {Filler.BaseFormat}, {HostFormat} or {AroundFormat}; what is none of these "
                                    + "does not belong among them",
                                map.Place
                            )
                        )
                    );
                    break;
            }
        }

        if (document.Take is null)
        {
            all.OneEach();
            if (all.errors.Count == 0 && all.Services.Count > 0)
                foreach (var (name, fill) in fills.Where(fill => !filler.Used.Contains(fill.Key)))
                    all.errors.Add(
                        new(fill.From, new($"fill.{name}", "no blank of any base", "names of blanks", fill.Place))
                    );
        }

        return all;
    }

    private void Parse(string path, string text)
    {
        if (errors.Count >= MostMistakes)
            return;
        if (Unquoted(text) is { } place)
            errors.Add(
                new(path, new("definition", "{{…}} without quotes", "a blank inside quotes: \"{{port}}\"", place))
            );
        else if (YamlNodes.Read(text, out var written) is var (node, error) && error is not null)
            errors.Add(new(path, error));
        else if ((characters += written) > MostCharacters)
            errors.Add(
                new(
                    path,
                    new(
                        "definition",
                        $"with it more than {MostCharacters} characters in all files",
                        $"texts of at most {MostCharacters} characters together, those that aliases stand for counted each time"
                    )
                )
            );
        else if (node is MapNode map)
            maps[path] = map;
        else
            errors.Add(new(path, new("definition", node!.InWords, "keys with values", node.Place)));
    }

    /// <summary>Where a base uses a blank outside of quotes, which YAML reads as something else.</summary>
    private static Place? Unquoted(string text) =>
        text.Contains(Filler.BaseFormat, StringComparison.Ordinal) ? YamlNodes.UnquotedBraces(text) : null;

    private static string? FormatOf(MapNode map) =>
        map.Entries.FirstOrDefault(entry => entry.Key == "format").Value switch
        {
            ScalarNode { Text: var format } => format,
            null when map.Entries.Any(entry => entry.Key is "name" or "program" or "from") => DefinitionKeys.Format,
            _ => null,
        };

    private Dictionary<string, Fill> OfHost(string host)
    {
        var fills = new Dictionary<string, Fill>(StringComparer.Ordinal);
        foreach (var (path, map) in maps)
        {
            if (FormatOf(map) != HostFormat)
                continue;
            var (stem, folder) = (Path.GetFileNameWithoutExtension(path), Path.GetDirectoryName(path));
            if (folder is null || !$"{folder}/".EndsWith(HostFolder, StringComparison.Ordinal))
                Wrong(path, "format", map, $"such a file in a folder {HostFolder}, by the name of its host");
            foreach (var (key, value) in map.Entries)
                if (key == "fill" && value is MapNode given)
                    foreach (var (name, text) in given.Entries)
                        if (text is not ScalarNode scalar)
                            Wrong(path, $"fill.{name}", text, "one value");
                        else if (stem == host)
                            fills[name] = new(scalar.Text, path, text.Place);
                        else
                            continue;
                else if (key != "format")
                    Wrong(path, key, value, "format, and fill with names of blanks and their values");
        }

        return fills;
    }

    private void Define(string path, MapNode map, Filler filler, string host, string account)
    {
        var (filled, wrong) = filler.Fill(path, map);
        errors.AddRange(wrong);
        if (filled is null)
            return;
        var given = Completion.Of(filled.Map, account, interpreters);
        var (definition, mistakes) = DefinitionReader.Read(given);
        foreach (var mistake in mistakes)
            errors.Add(new(filled.FileOf(mistake.Key), mistake));
        if (definition is null)
            return;
        var used = filled.Files.ToHashSet(StringComparer.Ordinal);
        if (filled.From.Values.Any(from => from.Contains($"{HostFolder}{host}.", StringComparison.Ordinal)))
            used.UnionWith(maps.Keys.Where(file => FormatOf(maps[file]) == HostFormat));
        Services.Add(
            new(
                path,
                definition,
                filled.Was,
                JsonNodes.Write(given),
                Write(Document.Only(used) with { Take = path, Directory = null, Head = null })
            )
        );
        Filled[path] = filled;
        Given[path] = given;
    }

    private void Around(string path, MapNode map)
    {
        foreach (var (key, value) in map.Entries)
            switch (key, value)
            {
                case ("format", _):
                    break;
                case ("accounts", ListNode accounts):
                    foreach (var (item, i) in accounts.Items.Select((item, i) => (item, i)))
                        if (item is ScalarNode { Text: { Length: > 0 } name } && !name.Any(char.IsWhiteSpace))
                            Accounts.Add((path, name));
                        else
                            Wrong(path, $"accounts[{i}]", item, "an account's name");
                    break;
                case ("folders", MapNode folders):
                    foreach (var (folder, who) in folders.Entries)
                        Folder(path, folder, who);
                    break;
                default:
                    Wrong(
                        path,
                        key,
                        value,
                        "accounts: [NAME, …]; folders: { /PATH: { read: [NAME, …], write: [NAME, …] } }"
                    );
                    break;
            }
    }

    private void Folder(string path, string folder, Node who)
    {
        var at = $"folders.{folder}";
        if (!folder.StartsWith('/'))
            Wrong(path, at, who, "an absolute path");
        else if (who is not MapNode { Entries.Count: > 0 } rights)
            Wrong(path, at, who, "{ read: [NAME, …], write: [NAME, …] }");
        else
            foreach (var (right, names) in rights.Entries)
                if (right is not ("read" or "write") || names is not ListNode list)
                    Wrong(path, $"{at}.{right}", names, "read: [NAME, …], write: [NAME, …]");
                else
                    foreach (var item in list.Items)
                        if (item is ScalarNode { Text: { Length: > 0 } name })
                            Folders.Add(new(path, name, folder.TrimEnd('/'), right == "write"));
                        else
                            Wrong(path, $"{at}.{right}", item, "an account's name");
    }

    /// <summary>Each name once, and no circle of needs.</summary>
    private void OneEach()
    {
        foreach (var same in Services.GroupBy(one => one.Definition.Name).Where(same => same.Count() > 1))
        foreach (var other in same.Skip(1))
            Wrong(
                other.File,
                "name",
                new ScalarNode(same.Key, maps[other.File].PlaceOf("name")),
                $"a name of its own: {same.First().File} has it, too"
            );
        foreach (
            var same in Services.Where(one => one.Was is not null).GroupBy(one => one.Was).Where(s => s.Count() > 1)
        )
        foreach (var other in same.Skip(1))
            Wrong(
                other.File,
                "was",
                new ScalarNode(same.Key!, maps[other.File].PlaceOf("was")),
                $"a name that one service had: {same.First().File} says so, too"
            );
        foreach (var one in Services.Where(one => one.Definition.Begin.NeededServices.Any()))
            if (
                NeedGraph.Circle(one.Definition, Services.Select(other => other.Definition)) is { } circle
                && circle.Order(StringComparer.Ordinal).First() == one.Definition.Name
            )
                Wrong(
                    one.File,
                    "begin.needs",
                    new ScalarNode(string.Join(" needs ", circle), maps[one.File].PlaceOf("begin.needs")),
                    "needs that close no circle, in which none could start"
                );
    }

    private void Wrong(string path, string key, Node found, string allowed) =>
        errors.Add(new(path, new(key, found.InWords, allowed, found.Place)));

    public static string Write(FilesDocument document) =>
        JsonSerializer.Serialize(document, ApiJson.Plain.FilesDocument);

    /// <summary>Where each value of a definition came from that was made from a base.</summary>
    /// <param name="definition">As it holds now: what was changed since came from no file.</param>
    /// <returns>Null: it was made from none.</returns>
    public static IReadOnlyDictionary<string, string>? Origins(string? source, Definition definition)
    {
        if (Source(source) is not { Take: { } own, Files.Count: > 1 } document)
            return null;
        var read = Read(document, Machine.HostName, "root");
        if (read.Services is not [var made] || !read.Filled.TryGetValue(own, out var filled))
            return null;
        var changed = DefinitionChanges
            .Between(made.Definition, definition)
            .Select(change => change.Key)
            .ToHashSet(StringComparer.Ordinal);
        return filled
            .From.Where(from => !changed.Contains(from.Key))
            .Concat(changed.Select(key => KeyValuePair.Create(key, "changed since")))
            .OrderBy(from => from.Key, StringComparer.Ordinal)
            .ToDictionary(from => from.Key, from => from.Value, StringComparer.Ordinal);
    }

    /// <returns>Null: it cannot be read any more, or names what does not lie below a directory.</returns>
    public static FilesDocument? Source(string? text)
    {
        try
        {
            return
                text is not null
                && JsonSerializer.Deserialize(text, ApiJson.Plain.FilesDocument) is { } document
                && document.Files.All(file => file.Value is not null && Filler.Beside("", file.Key) == file.Key)
                ? document
                : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }
}

internal static class FilesDocuments
{
    /// <summary>The same with some of its files.</summary>
    public static FilesDocument Only(this FilesDocument document, IReadOnlySet<string> files) =>
        document with
        {
            Files = files.ToDictionary(file => file, file => document.Files[file], StringComparer.Ordinal),
        };
}
