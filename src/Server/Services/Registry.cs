using System.Collections.Concurrent;
using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Linux.Boot;
using CalmSentry.Server.Definitions;

namespace CalmSentry.Server.Services;

/// <summary>All services of this sentry, by name.</summary>
internal sealed class Registry(House house)
{
    private readonly ConcurrentDictionary<string, ServiceActor> services = new(StringComparer.Ordinal);

    public IReadOnlyList<ServiceView> Views => [.. services.Values.Select(actor => actor.View).OrderBy(view => view.Name, StringComparer.Ordinal)];

    public IReadOnlyCollection<ServiceActor> All => [.. services.Values];

    /// <summary>A service's definition as it was given.</summary>
    public MapNode Given(ServiceActor actor)
    {
        using var document = JsonDocument.Parse(house.Store.Document(actor.Definition.Name) ?? "{}");
        return (MapNode)JsonNodes.Read(document.RootElement);
    }

    public ServiceActor? Named(string name) => services.GetValueOrDefault(name);

    /// <summary>By its short name, its title, or the short name its title would make.</summary>
    public ServiceActor? Find(string called)
    {
        if (services.TryGetValue(called, out var actor)) return actor;
        var titled = services.Values.Where(candidate => string.Equals(candidate.Definition.Title, called, StringComparison.OrdinalIgnoreCase)).ToList();
        if (titled.Count == 1) return titled[0];
        return services.GetValueOrDefault(ServiceName.From(called));
    }

    public string? Nearest(string called) => Spelling.Nearest(ServiceName.From(called), services.Keys);

    /// <summary>Takes a new service in. False when the name is taken.</summary>
    public bool TryAdd(Definition definition, string document, string by)
    {
        var now = house.Now;
        var situation = Situation.New(now);
        var actor = new ServiceActor(house, definition, revision: 1, situation, Forget);
        if (!services.TryAdd(definition.Name, actor))
        {
            actor.Dispose();
            return false;
        }

        house.Store.Add(definition.Name, document, situation, by, now);
        house.Log(definition.Name, "wrapped", $"Wrapped: {definition.Program.Path}, as {definition.Account}.", by);
        house.Events.Changed(actor.View);
        return true;
    }

    /// <summary>Reads the store and finds out what became of each service while no server watched.</summary>
    public async Task TakeUp()
    {
        var before = house.Store.Fact("boot-id");
        var askPermits = house.Store.Fact("permits") is not null;
        var newBoot = before != Machine.BootId;
        var taken = new List<Task>();
        foreach (var stored in house.Store.Services())
        {
            using var document = JsonDocument.Parse(stored.Document);
            var (definition, errors) = DefinitionReader.Read(JsonNodes.Read(document.RootElement));
            if (definition is null)
            {
                house.Log(stored.Name, "trouble", $"Its definition on file cannot be read: {string.Join("; ", errors)}");
                continue;
            }

            // An account in use before permits were asked for keeps what it had.
            if (!askPermits) house.Permits.Set(definition.Account, permitted: true);
            var actor = new ServiceActor(house, definition, stored.Revision, stored.Situation, Forget);
            services[stored.Name] = actor;
            taken.Add(actor.TakeUp(newBoot));
        }

        await Task.WhenAll(taken).ConfigureAwait(false);
        house.Store.SetFact("permits", "asked");
        house.Store.SetFact("boot-id", Machine.BootId);
        await house.Store.Flush().ConfigureAwait(false);
    }

    private void Forget(ServiceActor actor) => services.TryRemove(KeyValuePair.Create(actor.Definition.Name, actor));
}
