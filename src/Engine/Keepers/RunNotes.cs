using System.Globalization;
using System.Text;
using CalmSentry.Contract;
using CalmSentry.Core.Runs;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Engine.Keepers;

/// <summary>An order for a run, as it is written down.</summary>
/// <param name="OutputFrom">Where its output begins in the output file, in bytes.</param>
/// <param name="Moment">Of a job: the moment it is for; null: none.</param>
internal readonly record struct RunNote(DateTimeOffset Began, long OutputFrom, DateTimeOffset? Moment);

/// <summary>A process with a mark of this sentry, which is text in its own hands.</summary>
internal readonly record struct MarkedProcess(long Run, ProcessUsers Users, int Pid);

/// <summary>
/// That a run was ordered, written down before its keeper hears of it: a file <c>order.N</c> in the service's run
/// directory. The store takes a moment longer; whatever is killed in that moment, a returning server knows the number,
/// looks for what is left of the run, and never gives the number again. What the machine takes with it, it takes with
/// the program.
/// </summary>
internal static class RunNotes
{
    private const int Longest = 64;

    private static readonly long LatestMoment = DateTimeOffset.MaxValue.ToUnixTimeMilliseconds();

    /// <exception cref="OwnTroubleException">It could not be written; nothing was ordered.</exception>
    public static void Write(string runDirectory, RunNumber run, RunNote order)
    {
        // That it is there is what counts; what is in it is for the record.
        var text = Encoding.ASCII.GetBytes(
            string.Create(
                CultureInfo.InvariantCulture,
                $"{order.Began.ToUnixTimeMilliseconds()} {order.OutputFrom} {order.Moment?.ToUnixTimeMilliseconds()}"
            )
        );
        var note = Path.Combine(runDirectory, Name(run));
        try
        {
            try
            {
                OwnFile.Write(note, text);
            }
            catch (DirectoryNotFoundException)
            {
                OwnDirectory.Make(runDirectory);
                OwnFile.Write(note, text);
            }
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new OwnTroubleException($"its order cannot be written down: {error.Message.TrimEnd('.')}");
        }
    }

    /// <returns>Null: there is no note of it.</returns>
    public static RunNote? Read(string runDirectory, RunNumber run)
    {
        try
        {
            var text = Encoding.ASCII.GetString(Held.Head(Ground.Own, Path.Combine(runDirectory, Name(run)), Longest));
            // One that was cut off by a fall of the machine under it still says that there was an order.
            return
                text.Split(' ') is [var began, var from, .. var more]
                && Moment(began) is { } at
                && long.TryParse(from, NumberStyles.None, CultureInfo.InvariantCulture, out var place)
                ? new(at, place, more is [var moment] ? Moment(moment) : null)
                : new(DateTimeOffset.UnixEpoch, 0, null);
        }
        catch (IOException)
        {
            return null;
        }
    }

    private static DateTimeOffset? Moment(string text) =>
        long.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var at) && at < LatestMoment
            ? DateTimeOffset.FromUnixTimeMilliseconds(at)
            : null;

    public static void Discard(string runDirectory, RunNumber run)
    {
        try
        {
            File.Delete(Path.Combine(runDirectory, Name(run)));
        }
        catch (DirectoryNotFoundException) { }
    }

    /// <summary>
    /// All runs of a service that anything is left of: notes and outcomes in its directory, control groups, and
    /// processes with its mark. A mark is only text in a process's own hands: it counts on a process of the service's
    /// account, and near the numbers that are known.
    /// </summary>
    public static IEnumerable<RunNumber> Left(
        string name,
        string runDirectory,
        ControlGroups groups,
        IEnumerable<long> marked
    )
    {
        IEnumerable<string> notes = Directory.Exists(runDirectory)
            ? Directory
                .EnumerateFiles(runDirectory, "order.*")
                .Concat(Directory.EnumerateFiles(runDirectory, "outcome.*"))
            : [];
        var grouped = groups.Directory is { } all ? Directory.EnumerateDirectories(all, $"{name}.*") : [];
        return notes
            .Concat(grouped)
            .Select(path => long.TryParse(Path.GetExtension(path).TrimStart('.'), out var run) ? run : 0)
            .Concat(marked)
            .Where(run => run > 0)
            .Distinct()
            .Order()
            .Select(run => new RunNumber(run));
    }

    /// <summary>The names of all services that run directories or control groups are there of.</summary>
    public static IReadOnlyList<string> Labels(Places places, ControlGroups groups) =>
        [
            .. new[] { Path.GetDirectoryName(places.RunOf("any")), groups.Directory }
                .Where(Directory.Exists)
                .SelectMany(directory => Directory.EnumerateDirectories(directory!))
                .Select(path => Path.GetFileName(path).Split('.')[0])
                .Distinct(),
        ];

    /// <summary>What runs under a mark of this sentry, by the name in it.</summary>
    public static ILookup<string, MarkedProcess> Marked(Places places)
    {
        var begin = places.RunDirectory + ":";
        return ProcessFacts
            .ValuesOf("CALM_RUN")
            .Where(mark => mark.Value.StartsWith(begin, StringComparison.Ordinal))
            .Select(mark =>
                (Parts: mark.Value[begin.Length..].Split(':'), Users: ProcessFacts.Users(mark.Pid), mark.Pid)
            )
            .Where(mark =>
                mark is { Parts: [_, var number], Users: not null }
                && long.TryParse(number, NumberStyles.None, CultureInfo.InvariantCulture, out _)
            )
            .ToLookup(
                mark => mark.Parts[0],
                mark => new MarkedProcess(
                    long.Parse(mark.Parts[1], CultureInfo.InvariantCulture),
                    mark.Users!.Value,
                    mark.Pid
                )
            );
    }

    private static string Name(RunNumber run) => $"order.{run}";
}
