using System.Globalization;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Store;

namespace CalmSentry.Engine.Services;

/// <summary>
/// What was, and what the store does not know: where it was lost, or somebody put an older one back, or it took nothing when
/// the sentry ended. Found by copies of definitions, run directories and control groups, before anything is taken up.
/// </summary>
internal sealed class Rediscovery(House house)
{
    /// <summary>A mark is text in a program's hands: it moves the ids to come by no more than this.</summary>
    private const long MostByMark = 1000;

    /// <summary>Services that the store does not know are named up to this many.</summary>
    private const int MostNamed = 20;

    private readonly List<StoredService> madeAgain = [];
    private Dictionary<ServiceId, RunNumber> reached = [];

    /// <summary>What was made again from copies, whether or not the store's disk takes it yet.</summary>
    public IReadOnlyList<StoredService> MadeAgain => madeAgain;

    /// <summary>The latest run of a service that is known to have been ordered, from outside of the store.</summary>
    public RunNumber Reached(ServiceId service) => reached.GetValueOrDefault(service);

    /// <summary>No id is given again, and what only the copies know is made again from them.</summary>
    public async Task Settle()
    {
        // Two of one service are there while it gets another name.
        var copies = house
            .Tools.Copies.All()
            .GroupBy(copy => copy.Id)
            .Select(same => same.MaxBy(copy => copy.Revision)!)
            .ToList();
        reached = copies.ToDictionary(copy => copy.Id, copy => copy.Latest);
        var latest = house.Store.LatestServiceId;
        PassIds(latest, copies);
        var stored = house.Store.Services().ToDictionary(one => one.Id);
        var isLost = house.Store.Fact("boot-id") is null;
        var taken = stored.Values.Select(one => one.Name).ToHashSet(StringComparer.Ordinal);
        var again = copies.Where(copy => copy.Id.Number > latest.Number && taken.Add(copy.Name)).ToList();
        foreach (var copy in again)
        {
            var situation = Situation.New(house.Clocks.Now) with { LastRun = copy.Latest };
            madeAgain.Add(new(copy.Id, copy.Name, 1, copy.Document, situation, house.Clocks.Stamp));
            house.Store.Add(copy.Id, copy.Name, copy.Document, situation, new(RunWords.Sentry), house.Clocks.Now);
            if (copy.Latest > default(RunNumber))
                house.Logbook.Note(new Subject(copy.Id, copy.Name), new NumbersPassedOverEntry(copy.Latest));
        }

        if (again.Count > 0)
            house.Logbook.Trouble(isLost ? Lost(again) : Older(again));
        var renamed = house.Store.Renamings().Select(one => one.Service).ToHashSet();
        foreach (var copy in copies)
            if (
                stored.GetValueOrDefault(copy.Id) is { } one
                && copy.Revision > one.Revision
                && !renamed.Contains(copy.Id)
            )
                LayAside(copy, one);
        await house.Store.Flush();
    }

    /// <summary>Says what runs though there is no such service: nobody else would.</summary>
    public void TellOfUnknown(IReadOnlySet<string> known)
    {
        foreach (
            var unknown in Believed()
                .Where(marked => IdOf(marked.Key) is not null && !known.Contains(marked.Key))
                .Take(MostNamed)
        )
            house.Logbook.Trouble(
                $"Processes of a service {unknown.Key[1..]}, which is not in the store, run: "
                    + Remains.Named(unknown.Select(one => one.Pid))
                    + ". Nobody starts them again, and they count as copies that somebody started by hand."
            );
    }

    private void PassIds(ServiceId latest, IReadOnlyList<DefinitionCopy> copies)
    {
        var ids = copies
            .Select(copy => copy.Id)
            .Concat(house.Host.Labels().Select(IdOf).OfType<ServiceId>())
            .Concat(
                Believed()
                    .Select(marked => IdOf(marked.Key))
                    .OfType<ServiceId>()
                    .Where(id => id.Number <= latest.Number + MostByMark)
            );
        house.Store.PassIds(new ServiceId(ids.Append(latest).Max(id => id.Number)));
    }

    /// <summary>The account of a service that nobody knows is not known either: it is one of those that may run services.</summary>
    private ILookup<string, MarkedProcess> Believed()
    {
        uint[] believed = [0, .. house.Tools.Permits.Users()];
        return house
            .Host.Marked()
            .SelectMany(marked => marked.Select(process => (marked.Key, Process: process)))
            .Where(one => one.Process.Users.AreAll(believed))
            .ToLookup(one => one.Key, one => one.Process);
    }

    private static ServiceId? IdOf(string label) =>
        label is ['S', .. { Length: <= 15 } digits]
        && long.TryParse(digits, NumberStyles.None, CultureInfo.InvariantCulture, out var id)
            ? new(id)
            : null;

    private void LayAside(DefinitionCopy copy, StoredService stored)
    {
        var aside = house.Tools.Copies.LayAside(copy);
        if (copy.Name != stored.Name)
        {
            // Its name of then is no name of it now; what the copy knows of its runs is kept first.
            house.Tools.Copies.Keep(stored.Id, stored.Name, stored.Revision, copy.Latest, stored.Document);
            house.Tools.Copies.Remove(copy.Name);
        }

        house.Logbook.Note(
            stored.Name,
            new TroubleEntry(
                $"The copy of its definition is of revision {copy.Revision}, and the store has revision {stored.Revision}, which is "
                    + "in effect."
                    + (
                        aside is null
                            ? ""
                            : $" 'calm adjust {stored.Name} --from {aside}' puts the later one into effect."
                    )
            )
        );
    }

    private string Lost(List<DefinitionCopy> again) =>
        $"The store was lost. {again.Count} definitions were made again from the copies in "
        + $"{house.Places.Definitions}; programs that run are taken up. What was not in them is gone: secrets' "
        + "values, the logbook and the history of runs, who was permitted what."
        + (house.Store.SetApart is { } apart ? $" What is left of it lies at {apart}." : "");

    private string Older(List<DefinitionCopy> again) =>
        "The store does not know these services, as where an older one was put back: "
        + string.Join(", ", again.Select(copy => copy.Name).Order(StringComparer.Ordinal).Take(MostNamed))
        + $". They were made again from the copies in {house.Places.Definitions}; programs that run are taken up. What was not in "
        + "them is gone: secrets' values, the history of runs, who was permitted what.";
}
