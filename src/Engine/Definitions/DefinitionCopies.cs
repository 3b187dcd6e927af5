using System.Globalization;
using System.Text.RegularExpressions;
using CalmSentry.Contract;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Logbook;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Engine.Definitions;

/// <summary>
/// A plain copy of each definition beside the store, one file a service, which people and <c>calm wrap --from</c> can read
/// without the store. A store that is lost is made again from them. What counts is the store: these follow it.
/// </summary>
internal sealed partial class DefinitionCopies(Places places, Record logbook)
{
    private const int Longest = 4 << 20;

    /// <param name="document">The definition as it was given, as JSON.</param>
    public void Keep(ServiceId id, string name, int revision, string document)
    {
        var file = FileOf(name);
        // JSON is YAML: with its first line a comment it is read back like any definition.
        var text = string.Create(
            CultureInfo.InvariantCulture,
            $"# Calm Sentry: service {id.Number}, revision {revision}. A copy of what is in the store.\n{document}\n"
        );
        try
        {
            OwnDirectory.Make(places.Definitions);
            if (File.Exists(file) && File.ReadAllText(file) == text)
                return;
            var beside = file + "~";
            File.Delete(beside);
            using (var stream = NewFile.Begin(beside))
            using (var writer = new StreamWriter(stream))
                writer.Write(text);
            File.Move(beside, file, overwrite: true);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            logbook.Trouble($"The copy {file} of its definition cannot be written: {error.Message.TrimEnd('.')}.");
        }
    }

    public void Remove(string name)
    {
        try
        {
            File.Delete(FileOf(name));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            logbook.Trouble($"The copy {FileOf(name)} cannot be removed: {error.Message.TrimEnd('.')}.");
        }
    }

    /// <summary>All that can be read of them, by the ids they had.</summary>
    public IReadOnlyList<(ServiceId Id, string Name, string Document)> All()
    {
        var all = new List<(ServiceId, string, string)>();
        if (!Directory.Exists(places.Definitions))
            return all;
        foreach (var file in Directory.EnumerateFiles(places.Definitions, "*" + Ending).Order(StringComparer.Ordinal))
        {
            var text = System.Text.Encoding.UTF8.GetString(Held.Head(Ground.Own, file, Longest));
            var head = Head().Match(text);
            var name = Path.GetFileNameWithoutExtension(file);
            if (
                head.Success
                && long.TryParse(head.Groups[1].ValueSpan, CultureInfo.InvariantCulture, out var id)
                && YamlNodes.Read(text).Node is MapNode map
                && DefinitionReader.Read(map).Definition?.Name == name
            )
                all.Add((new ServiceId(id), name, JsonNodes.Write(map)));
            else
                logbook.Trouble($"The copy {file} of a definition cannot be read; it was passed over.");
        }

        return all;
    }

    private const string Ending = ".yaml";

    private string FileOf(string name) => Path.Combine(places.Definitions, name + Ending);

    [GeneratedRegex("^# Calm Sentry: service ([0-9]+), revision [0-9]+\\.")]
    private static partial Regex Head();
}
