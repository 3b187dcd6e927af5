using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Core.Settling;

/// <summary>A service as files say it.</summary>
/// <param name="Was">The name it had before.</param>
/// <param name="Document">Its definition as it was given, as JSON.</param>
/// <param name="Source">The files it was made from.</param>
public sealed record FileService(string File, Definition Definition, string? Was, string Document, string Source);

/// <summary>A service as the machine has it.</summary>
/// <param name="Revision">Of its definition.</param>
/// <param name="Runs">It has a live run.</param>
/// <param name="Awaited">The latest settling was to start it, and did not come to that.</param>
public sealed record MachineService(Definition Definition, int Revision, bool Runs, bool Awaited);

/// <summary>An account or a folder as files say it, and how the machine has it.</summary>
/// <param name="Steps">What is missing; none: it is so.</param>
public sealed record AroundService(string File, string Name, ImmutableArray<SettleStep> Steps);

/// <summary>One that differs.</summary>
/// <param name="Said">What is done, as clauses; of a change that waits for somebody, that.</param>
public sealed record Difference(
    string Name,
    string? File,
    ImmutableArray<string> Changes,
    ImmutableArray<SettleStep> Steps,
    ImmutableArray<string> Said
)
{
    /// <summary>
    /// The name that the service of an old file has on this machine, where it was renamed: settling is refused, for wrapping it under the
    /// old name would start its program a second time. Null: it is none of these.
    /// </summary>
    public string? CalledHere { get; init; }
}

/// <summary>Where files and machine differ, and what brings the machine to the files.</summary>
/// <param name="Left">Services that no file names.</param>
public sealed record Comparison(ImmutableArray<Difference> Differences, ImmutableArray<string> Left)
{
    /// <summary>All that would be done, in its order.</summary>
    public ImmutableArray<SettleStep> Steps { get; init; } = [];

    /// <summary>Files of a name that their service does not have any more; while there are any, nothing is settled.</summary>
    public IEnumerable<Difference> Renamed => Differences.Where(one => one.CalledHere is not null);

    /// <summary>Of these steps; the same as long as they are.</summary>
    public string Tag =>
        Convert.ToHexStringLower(
            SHA256.HashData(
                Encoding.UTF8.GetBytes(
                    string.Join(
                        '\0',
                        Steps.Select(step => $"{step.Deed} {step.Name} {step.To} {step.Seen} {step.Document}")
                    )
                )
            )
        )[..16];

    /// <param name="around">Accounts and folders, in the order they are needed.</param>
    /// <param name="takeAway">What no file names is unwrapped.</param>
    /// <param name="order">Names in the order in which they begin, each after what it needs.</param>
    /// <param name="calledHere">What a service is called now that had this name; null: none had.</param>
    public static Comparison Of(
        IReadOnlyList<AroundService> around,
        IReadOnlyList<FileService> files,
        IReadOnlyList<MachineService> machine,
        IReadOnlyList<string> order,
        bool takeAway,
        Func<string, string?> calledHere
    )
    {
        var there = machine.ToDictionary(one => one.Definition.Name, StringComparer.Ordinal);
        var named = files.Select(one => one.Definition.Name).ToHashSet(StringComparer.Ordinal);
        // What is renamed is not left; a name that is there already is nobody's to take.
        var renamed = files
            .Where(one =>
                one.Was is { } was
                && there.ContainsKey(was)
                && !named.Contains(was)
                && !there.ContainsKey(one.Definition.Name)
            )
            .ToDictionary(one => one.Was!, StringComparer.Ordinal);
        // An old file, whose service has another name here that no file says.
        var old = files
            .Where(one => !there.ContainsKey(one.Definition.Name) && renamed.GetValueOrDefault(one.Was ?? "") != one)
            .Select(one => (one.Definition.Name, Now: calledHere(one.Definition.Name)))
            .Where(one => one.Now is not null && !named.Contains(one.Now) && !renamed.ContainsKey(one.Now))
            .ToDictionary(one => one.Name, one => one.Now!, StringComparer.Ordinal);
        var left = machine
            .Select(one => one.Definition.Name)
            .Where(name => !named.Contains(name) && !renamed.ContainsKey(name) && !old.ContainsValue(name))
            .ToHashSet(StringComparer.Ordinal);
        var place = order.Select((name, i) => (name, i)).ToDictionary(one => one.name, one => one.i);
        var found = new List<Difference>();
        found.AddRange(
            around
                .Where(one => !one.Steps.IsEmpty)
                .Select(one => new Difference(one.Name, one.File, [], one.Steps, [.. one.Steps.Select(s => s.What)]))
        );
        if (takeAway)
            foreach (var name in left.OrderByDescending(name => place.GetValueOrDefault(name)))
                found.Add(Gone(there[name]));
        foreach (var file in files.OrderBy(one => place.GetValueOrDefault(one.Definition.Name)))
        {
            var before =
                there.GetValueOrDefault(file.Definition.Name)
                ?? (file.Was is { } was && renamed.GetValueOrDefault(was) == file ? there[was] : null);
            if (old.GetValueOrDefault(file.Definition.Name) is { } now)
                found.Add(RenamedHere(file, now));
            else if (Between(file, before) is { } difference)
                found.Add(difference);
        }

        return new([.. found], takeAway ? [] : [.. left.Order(StringComparer.Ordinal)])
        {
            Steps = [.. found.SelectMany(one => one.Steps)],
        };
    }

    private static Difference RenamedHere(FileService file, string now) =>
        new(
            file.Definition.Name,
            file.File,
            [],
            [],
            [
                $"no step: the service is called {now} on this machine. Write {now} in the file, or 'was: {now}' to rename it back",
            ]
        )
        {
            CalledHere = now,
        };

    private static Difference Gone(MachineService one)
    {
        var name = one.Definition.Name;
        return new(
            name,
            null,
            [],
            [new(SettleDeed.Unwrap, name) { Seen = one.Revision }],
            [one.Runs ? "stop and unwrap it: no file names it" : "unwrap it: no file names it"]
        );
    }

    private static Difference? Between(FileService file, MachineService? before)
    {
        var (now, name) = (file.Definition, file.Definition.Name);
        var put = new SettleStep(SettleDeed.Adjust, name)
        {
            Document = file.Document,
            Source = file.Source,
            Seen = before?.Revision ?? 0,
        };
        var begins = now.BeginsWithMachine && !now.IsJob;
        var start = new SettleStep(SettleDeed.Start, name);
        if (before is null)
            return new(
                name,
                file.File,
                [],
                begins ? [put with { Deed = SettleDeed.Wrap }, start] : [put with { Deed = SettleDeed.Wrap }],
                [
                    begins ? "wrap and start it"
                    : now.IsJob ? "wrap it; its rhythm begins"
                    : "wrap it; nobody starts it",
                ]
            );
        var was = before.Definition;
        var changes = DefinitionChanges.Between(was, now).ToList();
        var awaited = begins && before is { Runs: false, Awaited: true };
        if (changes.Count == 0 && !awaited)
            return null;
        var steps = ImmutableArray.CreateBuilder<SettleStep>();
        var said = ImmutableArray.CreateBuilder<string>();
        var runs = before.Runs;
        var stops = runs && was.Program.Kind != now.Program.Kind; // its kind decides how that run is stopped
        if (was.Name != name)
        {
            if (runs)
                steps.Add(new(SettleDeed.Stop, was.Name));
            steps.Add(new(SettleDeed.Rename, was.Name, name));
            said.Add(runs ? $"stop {was.Name}, and rename it" : $"rename {was.Name}");
        }

        var rest = changes.Where(change => change.Key is not "name" && !IsItsTitle(change, was, now)).ToList();
        if (rest.Count > 0)
        {
            steps.Add(put);
            said.Add("note the changes");
        }

        if (stops && was.Name == name)
            steps.Insert(0, new(SettleDeed.Stop, name));
        if (stops || (was.Name != name && runs) || awaited)
        {
            steps.Add(start);
            said.Add(stops && was.Name == name ? "stop it first, and start it again" : "start it");
        }
        else if (runs && !now.IsJob && rest.Exists(change => !change.HoldsAtOnce))
        {
            steps.Add(new(SettleDeed.Restart, name));
            said.Add("restart it");
        }
        else if (rest.Exists(change => !change.HoldsAtOnce))
            said.Add("what it is launched with holds from its next start on");
        return new(
            name,
            file.File,
            [.. changes.Select(change => change.ToString())],
            steps.ToImmutable(),
            said.ToImmutable()
        );
    }

    /// <summary>A title that nobody gave is the name.</summary>
    private static bool IsItsTitle(DefinitionChange change, Definition was, Definition now) =>
        change.Key == "title" && was.Title == was.Name && now.Title == now.Name;
}
