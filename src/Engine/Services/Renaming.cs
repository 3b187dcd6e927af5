using CalmSentry.Contract;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Definitions;
using CalmSentry.Linux.Foreign;
using CalmSentry.Store;

namespace CalmSentry.Engine.Services;

/// <summary>
/// Another short name for a service that is at rest. Its record goes by its id and stays where it is; what goes by its
/// name (output, what it keeps, secrets, the needs of others) comes along. The intent is on record before a directory is
/// moved, so that whatever is lost in the middle, the next server brings all of it under the one name that is on record.
/// </summary>
internal sealed class Renaming(House house, Registry registry)
{
    private static readonly Principal Sentry = new(RunWords.Sentry);

    /// <summary>What lies under a name that nobody has, as a path; null: nothing.</summary>
    public string? LeftOver(string name) =>
        Somewhat(house.Places.OutputDirectoryOf(name))
        ?? Somewhat(house.Places.StateOf(name))
        ?? house.Tools.States.Waiting(name);

    /// <summary>Under <see cref="Registry.Shaping"/>: nobody else changes a definition meanwhile.</summary>
    /// <param name="definition">The definition in effect, under its new name.</param>
    /// <param name="document">It as it is given, as JSON.</param>
    /// <returns>Why it keeps its name, as a clause; and whose needs name it anew.</returns>
    /// <exception cref="BusyException">Somebody has it in hand, and knows it by its name; nothing was changed.</exception>
    public async Task<(string? Why, IReadOnlyList<string> Dependents)> Do(
        ServiceActor actor,
        Definition definition,
        string document,
        Principal by
    )
    {
        var hand = new Engagement("a rename", by, house.Clocks.Now, () => "it is nearly over");
        registry.InHand.Take([actor.Definition.Name, definition.Name], hand);
        try
        {
            return await Rename(actor, definition, document, by);
        }
        finally
        {
            registry.InHand.Leave(hand);
        }
    }

    private async Task<(string? Why, IReadOnlyList<string> Dependents)> Rename(
        ServiceActor actor,
        Definition definition,
        string document,
        Principal by
    )
    {
        var (was, now) = (actor.Definition.Name, definition.Name);
        house.Store.SetRenaming(actor.Id, was, now);
        await house.Store.Kept();
        if (house.Store.Failure is { } failure)
        {
            house.Store.RemoveRenaming(actor.Id);
            return ($"the store cannot be written: {failure}", []);
        }

        var why = await actor.Rename(definition, document, by, () => Move(house.Places, was, now));
        var dependents = new List<string>();
        if (why is null)
        {
            foreach (var other in registry.All.Where(other => other.Definition.Begin.NeededServices.Contains(was)))
            {
                var given = DefinitionTrees.NeedRenamed(registry.Given(other), was, now);
                if (DefinitionReader.Read(given).Definition is not { } needing)
                    continue;
                await other.Adjust(needing, JsonNodes.Write(given), by);
                dependents.Add(other.Definition.Name);
            }
        }

        await house.Store.Kept();
        house.Store.RemoveRenaming(actor.Id);
        return (why, dependents);
    }

    /// <summary>Before services are taken up: a renaming that a server did not live to finish is finished, or undone.</summary>
    public static async Task Settle(House house)
    {
        var under = house.Store.Renamings();
        if (under.Count == 0)
            return;
        var services = house.Store.Services();
        foreach (var (id, was, now) in under)
        {
            house.Store.RemoveRenaming(id);
            if (services.FirstOrDefault(one => one.Id == id) is not { } service)
                continue;
            var other = service.Name == was ? now : was;
            if (services.Any(one => one.Name == other))
                continue;
            if (Move(house.Places, other, service.Name) is { } why)
                house.Logbook.Trouble($"{service.Name} was being renamed when the sentry ended, and {why}.");
            house.Tools.Copies.Remove(other);
            if (service.Name == now)
                foreach (var dependent in services)
                    NeedAnew(house, dependent, was, now);
        }

        await house.Store.Flush();
    }

    private static void NeedAnew(House house, StoredService dependent, string was, string now)
    {
        if (Registry.Read(dependent).Definition is not { } definition || !definition.Begin.NeededServices.Contains(was))
            return;
        var given = DefinitionTrees.NeedRenamed(Registry.Given(dependent.Document), was, now);
        house.Store.Revise(dependent.Id, dependent.Revision + 1, JsonNodes.Write(given), Sentry, house.Clocks.Now);
    }

    /// <summary>Moves what lies under one name under another: all of it, or nothing.</summary>
    /// <returns>What could not be moved, as a clause.</returns>
    private static string? Move(Places places, string was, string now)
    {
        var moved = new Stack<(string Directory, string From, string To)>();
        foreach (var (directory, from, to) in Named(places, was, now))
        {
            if (MoveOne(directory, from, to))
            {
                moved.Push((directory, from, to));
                continue;
            }

            foreach (var (back, before, after) in moved)
                MoveOne(back, after, before);
            return $"{Path.Combine(directory, from)} cannot be moved to {Path.Combine(directory, to)}";
        }

        return null;
    }

    /// <summary>What there is under a name, and what it becomes.</summary>
    private static IEnumerable<(string Directory, string From, string To)> Named(Places places, string was, string now)
    {
        foreach (var directory in (string[])[places.Logs, places.States])
            if (Directory.Exists(Path.Combine(directory, was)))
                yield return (directory, was, now);
        if (Directory.Exists(places.StatesApart))
            foreach (var apart in Accounts.StateRooms.Of(places.StatesApart, was))
                yield return (places.StatesApart, apart, now + apart[was.Length..]);
    }

    /// <summary>An empty directory of the new name gives way (rename(2)); one with something in it does not.</summary>
    private static bool MoveOne(string directory, string from, string to)
    {
        try
        {
            using var held = Held.Walk(Ground.Own, directory);
            return held.Held.Move(from, held.Held, to);
        }
        catch (IOException)
        {
            return false;
        }
    }

    private static string? Somewhat(string directory) =>
        Directory.Exists(directory) && Directory.EnumerateFileSystemEntries(directory).Any() ? directory : null;
}
