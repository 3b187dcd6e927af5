using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using CalmSentry.Contract;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Logbook;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Engine.Definitions;

/// <summary>What a copy says.</summary>
/// <param name="Latest">The latest run that was ordered; 0: none, or an earlier version wrote it.</param>
/// <param name="Document">The definition as it was given, as JSON.</param>
internal sealed record DefinitionCopy(ServiceId Id, string Name, int Revision, RunNumber Latest, string Document);

/// <summary>
/// A plain copy of each definition beside the store, one file a service, which people and <c>calm wrap --from</c> can read
/// without the store. A store that is lost is made again from them, and what an older one does not know. What counts is
/// the store: these follow it. Each says the number of the latest run, which no later run gets, whatever becomes of the store.
/// </summary>
internal sealed partial class DefinitionCopies(Places places, Record logbook)
{
    private const int Longest = 4 << 20;

    /// <param name="latest">The latest run of it; a copy that knows of a later one goes on saying so.</param>
    /// <param name="document">The definition as it was given, as JSON.</param>
    public void Keep(ServiceId id, string name, int revision, RunNumber latest, string document)
    {
        var file = FileOf(name);
        try
        {
            OwnDirectory.Make(places.Definitions);
            var there = File.Exists(file) ? File.ReadAllText(file) : "";
            if (IdAndRun(there) is var (of, known) && of == id && known > latest)
                latest = known;
            // JSON is YAML: with its first line a comment it is read back like any definition.
            var text = string.Create(
                CultureInfo.InvariantCulture,
                $"# Calm Sentry: service {id.Number}, revision {revision}, run {Fixed(latest)}. A copy of what is in the store.\n{document}\n"
            );
            if (there == text)
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

    /// <summary>
    /// A run is ordered. It is written over the number before, so it needs no room on the disk; where there is no such copy,
    /// the store alone knows.
    /// </summary>
    /// <exception cref="OwnTroubleException">It could not be opened just now; nothing was ordered.</exception>
    public void Reached(string name, RunNumber run)
    {
        try
        {
            using var file = File.OpenHandle(FileOf(name), FileMode.Open, FileAccess.ReadWrite);
            Span<byte> head = stackalloc byte[LongestHead];
            head = head[..RandomAccess.Read(file, head, 0)];
            if (head.IndexOf(RunWord) is >= 0 and var at && head[(at + RunWord.Length)..].Length > Digits)
                RandomAccess.Write(file, Encoding.ASCII.GetBytes(Fixed(run)), at + RunWord.Length);
        }
        catch (IOException error) when (OwnTroubleException.IsBehind(error))
        {
            throw new OwnTroubleException($"its number cannot be written down: {error.Message.TrimEnd('.')}");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // Nobody is kept from running for good by that.
        }
    }

    private const int LongestHead = 128,
        Digits = 12;

    private static ReadOnlySpan<byte> RunWord => ", run "u8;

    private static string Fixed(RunNumber run) => run.Value.ToString(CultureInfo.InvariantCulture).PadLeft(Digits, '0');

    private static (ServiceId Id, RunNumber Latest)? IdAndRun(string text) =>
        Head().Match(text) is { Success: true } head && Number(head.Groups[1]) is { } id
            ? (new(id), new(Number(head.Groups[3]) ?? 0))
            : null;

    private static long? Number(Group digits) =>
        long.TryParse(digits.ValueSpan, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            ? number
            : null;

    /// <summary>
    /// Lays the copy of a later revision than the store has where nothing is written over it.
    /// </summary>
    /// <returns>Where it lies; null: it could not be laid there.</returns>
    public string? LayAside(DefinitionCopy copy)
    {
        var aside = Path.Combine(places.Definitions, $"{copy.Name}.later");
        try
        {
            File.Copy(FileOf(copy.Name), aside, overwrite: true);
            return aside;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null;
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

    /// <summary>All that can be read of them.</summary>
    public IReadOnlyList<DefinitionCopy> All()
    {
        var all = new List<DefinitionCopy>();
        if (!Directory.Exists(places.Definitions))
            return all;
        foreach (var file in Directory.EnumerateFiles(places.Definitions, "*" + Ending).Order(StringComparer.Ordinal))
        {
            var text = Encoding.UTF8.GetString(Held.Head(Ground.Own, file, Longest));
            var name = Path.GetFileNameWithoutExtension(file);
            if (
                IdAndRun(text) is var (id, latest)
                && Number(Head().Match(text).Groups[2]) is { } revision and <= int.MaxValue
                && YamlNodes.Read(text).Node is MapNode map
                && DefinitionReader.Read(map).Definition?.Name == name
            )
                all.Add(new(id, name, (int)revision, latest, JsonNodes.Write(map)));
            else
                logbook.Trouble($"The copy {file} of a definition cannot be read; it was passed over.");
        }

        return all;
    }

    private const string Ending = ".yaml";

    private string FileOf(string name) => Path.Combine(places.Definitions, name + Ending);

    [GeneratedRegex("^# Calm Sentry: service ([0-9]{1,15}), revision ([0-9]+)(?:, run ([0-9]{1,15}))?\\.")]
    private static partial Regex Head();
}
