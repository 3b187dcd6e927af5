using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Engine.Accounts;

/// <summary>
/// Directories in which services keep what they keep. What belonged to an account that was removed is set apart for
/// root: the
/// next account may get the same number, and must not find what it never wrote. A person hands it over by an explicit
/// word.
/// </summary>
internal sealed class StateRooms(Places places)
{
    /// <summary>Sets apart every state directory that belongs to this user id.</summary>
    /// <returns>The services they are of.</returns>
    public IReadOnlyList<string> SetApart(uint uid)
    {
        if (uid == 0 || !Directory.Exists(places.States))
            return [];
        using var library = Held.Walk(Ground.State, places.Library);
        using var states = library.Held.Entry(Path.GetFileName(places.States))!;
        var apart = new List<string>();
        foreach (var service in states.Names())
        {
            using var state = states.Entry(service);
            if (state?.Identity() is not { Type: FileType.Directory } found || found.Uid != uid)
                continue;
            using var room = library.Held.MakeDirectory(Path.GetFileName(places.StatesApart), OwnDirectory.Mode);
            _ = state.Give(Account.OwnId, uint.MaxValue);
            state.SetMode((int)OwnDirectory.Mode);
            if (states.Move(service, room, Name(service, uid, room)))
                apart.Add(service);
        }

        return apart;
    }

    /// <summary>What of a service waits to be handed over, as a path; null: nothing.</summary>
    public string? Waiting(string service)
    {
        var name = Directory.Exists(places.StatesApart) ? Of(places.StatesApart, service).LastOrDefault() : null;
        return name is null ? null : Path.Combine(places.StatesApart, name);
    }

    /// <summary>
    /// Gives what waits to an account, as the service's state directory: what belonged to the removed account, and
    /// nothing else, is the new one's.
    /// </summary>
    /// <param name="dry">Nothing is done: it is only said.</param>
    /// <returns>What was done, or what prevented it.</returns>
    public (bool Done, string Said) HandOver(string service, Account account, bool dry)
    {
        if (Waiting(service) is not { } path)
            return (false, $"Nothing of {service} is set apart, so there is nothing to hand over.");
        using var library = Held.Walk(Ground.State, places.Library);
        using var apart = Held.Walk(Ground.State, places.StatesApart);
        using var states = library.Held.MakeDirectory(
            Path.GetFileName(places.States),
            OwnDirectory.Mode
                | UnixFileMode.GroupRead
                | UnixFileMode.GroupExecute
                | UnixFileMode.OtherRead
                | UnixFileMode.OtherExecute
        );
        using (var there = states.Entry(service))
            if (there is not null && there.Names().Any())
                return (
                    false,
                    $"{service} keeps something in {places.StateOf(service)} already; nothing was changed. Move "
                        + $"that away first."
                );
        var name = Path.GetFileName(path);
        using var state = apart.Held.Entry(name)!;
        var before = uint.Parse(name.Split('.')[^2], CultureInfo.InvariantCulture);
        if (dry)
            return (
                true,
                $"What {service} kept under user id {before} ({path}) would be {account.Name}'s, as {places.StateOf(service)}."
            );
        var count = 0;
        TreeWalk.Each(
            state,
            (one, identity) =>
            {
                if (identity.Uid != before || (identity.Links > 1 && identity.Type == FileType.Regular))
                    return;
                if (one.Give(account.Uid, account.Gid) == 0)
                    count++;
            }
        );
        states.Remove(service);
        if (!apart.Held.Move(name, states, service))
            return (false, $"{path} cannot be moved to {places.StateOf(service)}.");
        state.SetMode(0b111_101_000);
        _ = state.Give(account.Uid, account.Gid);
        return (
            true,
            $"What {service} kept is {account.Name}'s now: {places.StateOf(service)}, {count} "
                + $"{(count == 1 ? "file or folder" : "files and folders")}."
        );
    }

    private static string Name(string service, uint uid, Held room)
    {
        for (var number = 1; ; number++)
        {
            var name = string.Create(CultureInfo.InvariantCulture, $"{service}.{uid}.{number}");
            using var there = room.Entry(name);
            if (there is null)
                return name;
        }
    }

    /// <summary>Names of the directories that are set apart of a service, in order.</summary>
    public static IEnumerable<string> Of(string apart, string service) =>
        Directory
            .GetDirectories(apart, service + ".*")
            .Select(path => Path.GetFileName(path))
            .Where(name => string.Join('.', name.Split('.').SkipLast(2)) == service)
            .Order(StringComparer.Ordinal);
}
