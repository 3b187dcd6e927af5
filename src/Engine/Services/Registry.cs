using System.Collections.Concurrent;
using System.Globalization;
using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Settling;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Begin;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Watching;
using CalmSentry.Store;

namespace CalmSentry.Engine.Services;

/// <summary>All services of this sentry, by name.</summary>
internal sealed class Registry : IServices
{
    private const string WoundDown = " wound down";

    /// <summary>How long a server that has just begun looks for what became of its services before it serves.</summary>
    private static readonly TimeSpan TakeUpPatience = TimeSpan.FromSeconds(1.2);

    private readonly House house;
    private readonly Rediscovery rediscovery;
    private readonly WorkedOut<NeedGraph> graph;
    private readonly WorkedOut<IReadOnlyList<Func<ServiceView>>> inOrder;
    private readonly ConcurrentDictionary<ServiceId, RunNumber> given = new();
    private readonly ConcurrentDictionary<string, ServiceActor> services = new(StringComparer.Ordinal);
    private readonly ConcurrentDictionary<string, Unreadable> unreadable = new(StringComparer.Ordinal);
    private const string HeldBackFact = "held-back";

    /// <summary>The fact that says when the server was last seen alive.</summary>
    public const string LastSeenFact = "last-seen";

    /// <summary>
    /// Why nothing was begun at this boot, as a clause, as long as anything that would have begun has not been since.
    /// </summary>
    public string? HeldBack =>
        heldBack is { } why
        && services.Values.Any(actor =>
            actor.Definition.BeginsWithMachine && actor.Situation is { Phase: Phase.Stopped, Asked: null }
        )
            ? why
            : null;

    private volatile string? heldBack;

    private bool newBoot,
        newMachine,
        remembers;

    public Registry(House house)
    {
        this.house = house;
        rediscovery = new(house);
        graph = new(() => new(services.Values.Select(actor => actor.Definition)));
        inOrder = new(() =>
            [
                .. services
                    .Select(one => (one.Key, View: (Func<ServiceView>)(() => one.Value.View)))
                    .Concat(
                        unreadable.Select(one =>
                            (one.Key, View: (Func<ServiceView>)(() => one.Value.View(house.Places)))
                        )
                    )
                    .OrderBy(one => one.Key, NaturalOrder.Names)
                    .Select(one => one.View),
            ]
        );
        Readiness = new(house.Clocks.Promises);
    }

    /// <summary>All of them as people see them, by name.</summary>
    public IReadOnlyList<ServiceView> Views => [.. inOrder.Value.Select(view => view())];

    /// <summary>A service whose stored definition cannot be read; null: there is none of that name.</summary>
    public Unreadable? UnreadableOf(string name) => unreadable.GetValueOrDefault(name);

    /// <summary>The highest number that a run of a service may have been given before this server came.</summary>
    public RunNumber Given(ServiceId service) => given.GetValueOrDefault(service);

    /// <summary>The latest run of a service that is known to have been ordered, from outside of the store.</summary>
    public RunNumber Reached(ServiceId service) => rediscovery.Reached(service);

    /// <summary>The run directory is the one that a server of this boot has been at work in; else somebody has wiped it since.</summary>
    public bool Remembers => remembers;

    public IReadOnlyCollection<ServiceActor> All => [.. services.Values];

    /// <summary>A service's definition as it was given.</summary>
    public MapNode Given(ServiceActor actor) => Given(house.Store.Document(actor.Id) ?? "{}");

    /// <exception cref="JsonException">It is no JSON any more.</exception>
    public static MapNode Given(string document)
    {
        using var json = JsonDocument.Parse(document);
        return (MapNode)JsonNodes.Read(json.RootElement);
    }

    /// <summary>What one service has done to several.</summary>
    public required ITogether Together { get; init; }

    /// <summary>Who has which of them in hand.</summary>
    public InHand InHand { get; } = new();

    /// <summary>While a drill is under way, when it had the machine come up.</summary>
    public DateTimeOffset? DrillBegan { get; set; }

    IWatched? IServices.Named(string name) => Named(name);

    /// <summary>Changes of state, for whoever waits for one.</summary>
    public Readiness Readiness { get; }

    /// <summary>Who needs whom.</summary>
    public NeedGraph Graph => graph.Value;

    /// <summary>Held while definitions are taken in, so that no two of them together close a circle.</summary>
    public SemaphoreSlim Shaping { get; } = new(1);

    /// <summary>There are others, or a definition changed: who needs whom, and their order, is to be worked out again.</summary>
    public void Reshape()
    {
        graph.Changed();
        inOrder.Changed();
    }

    /// <summary>The circle of needs a definition would close, or null.</summary>
    public IReadOnlyList<string>? Circle(Definition definition) =>
        NeedGraph.Circle(definition, services.Values.Select(actor => actor.Definition));

    /// <summary>Whoever needs a service hears that it is ready, or is no more.</summary>
    public void InformDependents(string name, bool ready)
    {
        foreach (var dependent in Graph.DependentsOf(name).Select(Named).OfType<ServiceActor>())
            _ = dependent.Ask(ready ? new NeededBack(name) : new NeededLost(name));
    }

    public ServiceActor? Named(string name) => services.GetValueOrDefault(name);

    public ServiceActor? WithId(ServiceId id) => services.Values.FirstOrDefault(actor => actor.Id == id);

    /// <summary>By its short name, its title, or the short name its title would make.</summary>
    public ServiceActor? Find(string called)
    {
        if (services.TryGetValue(called, out var actor))
            return actor;
        var titled = services
            .Values.Where(candidate =>
                string.Equals(candidate.Definition.Title, called, StringComparison.OrdinalIgnoreCase)
            )
            .ToList();
        if (titled.Count == 1)
            return titled[0];
        return services.GetValueOrDefault(ServiceName.From(called));
    }

    public string? Nearest(string called) => Spelling.Nearest(ServiceName.From(called), services.Keys);

    /// <summary>Takes a new service in. False when the name is taken.</summary>
    /// <param name="source">The files it came from; null: it came from none.</param>
    /// <param name="settled">It is what these files say.</param>
    public bool TryAdd(
        Definition definition,
        string document,
        Principal by,
        string? source = null,
        SettledAs? settled = null
    )
    {
        var stamp = house.Clocks.Stamp;
        var now = stamp.Wall;
        var situation = Situation.New(now);
        var id = house.Store.NextServiceId();
        var actor = new ServiceActor(house, id, definition, revision: 1, situation, stamp, this);
        if (unreadable.ContainsKey(definition.Name) || !services.TryAdd(definition.Name, actor))
        {
            actor.Dispose();
            return false;
        }

        Reshape();
        house.Store.Add(actor.Id, definition.Name, document, situation, by, now, source);
        if (settled is not null)
            _ = actor.Settled(settled);
        house.Tools.Copies.Keep(actor.Id, definition.Name, revision: 1, default, document);
        actor.KeepTurn(now, always: true);
        house.Logbook.Note(actor, new WrappedEntry(definition.Program.Path, definition.Account), by);
        house.Events.Changed(actor.View);
        return true;
    }

    /// <summary>Puts what is stored into effect again.</summary>
    public async Task ReadAgain(IReadOnlySet<string> names)
    {
        await house.Store.Flush();
        foreach (var stored in house.Store.Services().Where(stored => names.Contains(stored.Name)))
            if (Read(stored).Definition is { } definition && Named(stored.Name) is { } actor)
                await actor.Take(definition, stored.Revision);
    }

    /// <summary>
    /// Everything is being wound down: whatever server starts next begins what begins with the machine.
    /// </summary>
    public void AllDown() => house.Store.SetFact("boot-id", house.Host.BootId + WoundDown);

    /// <summary>The clock that only goes forward began anew since the server before.</summary>
    public bool IsNewBoot => newBoot;

    /// <summary>Before anything is taken up: what the store does not know is found, renames cut off are finished.</summary>
    public async Task Settle()
    {
        await rediscovery.Settle();
        await Renaming.Settle(house);
    }

    /// <summary>Reads the store and finds out what became of each service while no server watched.</summary>
    /// <param name="goOn">
    /// Goes on with what was under way with several, once it is known of each; hears whether the machine has come up since.
    /// </param>
    /// <returns>What made services begin: boot, or start after all was wound down; null: nothing did.</returns>
    public async Task<ReportKind?> TakeUp(Action<bool> goOn)
    {
        var before = house.Store.Fact("boot-id");
        house.LastSeen = DateTimeOffset.TryParse(
            house.Store.Fact(LastSeenFact),
            CultureInfo.InvariantCulture,
            out var seen
        )
            ? seen
            : null;
        var askPermits = house.Store.Fact("permits") is not null;
        newBoot = before != house.Host.BootId;
        // After winding down what begins with the machine begins anew, and yet the machine may be the same.
        newMachine = before is not null && !before.StartsWith(house.Host.BootId, StringComparison.Ordinal);
        remembers = house.Host.Remembers;
        var taken = new List<Task>();
        var all = new List<ServiceActor>();
        var asFiles = house.Store.AsFiles();
        foreach (var stored in house.Store.Services().UnionBy(rediscovery.MadeAgain, one => one.Id))
        {
            var (definition, why) = Read(stored);
            if (definition is null)
            {
                SetAside(stored, why!);
                continue;
            }

            // An account in use before permits were asked for keeps what it had.
            if (!askPermits)
                house.Tools.Permits.Set(definition.Account, permitted: true);
            var actor = Actor(stored, definition, stored.Revision);
            if (asFiles.TryGetValue(stored.Id, out var settled))
                actor.TakeFiles(settled);
            services[stored.Name] = actor;
            EarlierPlaces.Bring(house.Places, stored.Name, stored.Id);
            house.Tools.Copies.Keep(
                stored.Id,
                stored.Name,
                stored.Revision,
                Later(actor.Situation.LastRun, rediscovery.Reached(stored.Id)),
                stored.Document
            );
            all.Add(actor);
            if (!house.Store.HasMoments(stored.Id))
                actor.KeepTurn(house.Clocks.Now, always: true);
        }

        Reshape();
        var marks = house.Host.Marked();
        foreach (var actor in all)
            taken.Add(actor.TakeUp(newMachine, marks));
        // The first flush of the disk in this boot: the numbers of the runs to come are reserved.
        taken.Add(house.Store.Kept());
        // One that takes long (a keeper that hangs, a process that does not end) keeps nobody else from being served: it
        // says so, and is asked the same when it is known what became of it.
        await Task.WhenAny(Task.WhenAll(taken), house.Clocks.Delay(TakeUpPatience));
        // Only when it is known of each what became of it is anyone begun: one may start another that it needs.
        var beginsNothing = house.Host.BeginsNothing;
        if (newBoot)
        {
            heldBack = beginsNothing;
            house.Store.SetFact(HeldBackFact, beginsNothing ?? "");
            if (beginsNothing is not null)
                house.Logbook.Note(new BootHeldBackEntry(beginsNothing));
        }
        else if (house.Store.Fact(HeldBackFact) is { Length: > 0 } stillHeldBack)
        {
            heldBack = stillHeldBack;
        }

        rediscovery.TellOfUnknown(
            all.Select(actor => actor.Id)
                .Concat(unreadable.Values.Select(one => one.Stored.Id))
                .Select(id => id.ToString())
                .ToHashSet(StringComparer.Ordinal)
        );
        var asked = all.ConvertAll(actor =>
            actor.Ask(newBoot ? new MachineBegan(HeldBack: beginsNothing is not null) : new Resumed())
        );
        await Task.WhenAll(asked.Where((_, i) => taken[i].IsCompleted));
        house.Calendar.Begin();
        goOn(newMachine || newBoot);
        // Only when it is on record which numbers were left out.
        house.OnceKept(house.Host.Remember);
        house.Store.SetFact("permits", "asked");
        house.Store.SetFact("boot-id", house.Host.BootId);
        await house.Store.Flush();
        return !newBoot || beginsNothing is not null ? null
            : before == house.Host.BootId + WoundDown ? ReportKind.Start
            : ReportKind.Boot;
    }

    /// <exception cref="JsonException">It is no JSON any more.</exception>
    public static (Definition? Definition, IReadOnlyList<DefinitionError> Errors) Read(string document)
    {
        using var json = JsonDocument.Parse(document);
        return DefinitionReader.Read(JsonNodes.Read(json.RootElement));
    }

    internal static (Definition? Definition, string? Why) Read(StoredService stored)
    {
        try
        {
            var (definition, errors) = Read(stored.Document);
            if (definition?.Name == stored.Name)
                return (definition, null);
            return (
                null,
                definition is null
                    ? string.Join("; ", errors).TrimEnd('.')
                    : $"it is named '{definition.Name}', and the service '{stored.Name}'"
            );
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException)
        {
            return (null, $"it is no JSON any more: {error.Message.TrimEnd('.')}");
        }
    }

    private void SetAside(StoredService stored, string why)
    {
        var one = new Unreadable(stored, why, house.Clocks.Now);
        one.File(house.Places);
        unreadable[stored.Name] = one;
        house.Logbook.Note(
            stored.Name,
            new TroubleEntry($"Its stored definition cannot be read: {why}. Its program is left as it is.")
        );
    }

    private ServiceActor Actor(StoredService stored, Definition definition, int revision)
    {
        var now = house.Clocks.Stamp;
        if (stored.Situation is { } situation)
        {
            // Within one boot a wait keeps its length, whatever people's clock was set to meanwhile.
            var skew = newMachine ? TimeSpan.Zero : stored.Saved?.SetSince(now) ?? TimeSpan.Zero;
            return new(
                house,
                stored.Id,
                definition,
                revision,
                Numbered(stored, situation.FittedTo(definition).Shifted(skew), now),
                now,
                this
            );
        }

        house.Logbook.Note(
            stored.Name,
            new TroubleEntry(
                "Where it stood cannot be read; it counts as stopped, unless its program is found running."
            )
        );
        // No number of a run is used twice.
        return new(
            house,
            stored.Id,
            definition,
            revision,
            Numbered(stored, Situation.New(now.Wall) with { LastRun = house.Store.LatestRun(stored.Id) }, now),
            now,
            this
        );
    }

    /// <summary>
    /// A machine that went down without notice may have taken with it what was on record of the latest runs, and so may
    /// somebody who wipes the run directory while nothing can be put on record. An older store does not know of them either;
    /// then the copy of its definition does.
    /// </summary>
    private Situation Numbered(StoredService stored, Situation situation, ClockStamp now)
    {
        var reached = rediscovery.Reached(stored.Id);
        if (newMachine || !remembers)
            reached = Later(reached, house.Store.Reserved(stored.Id));
        given[stored.Id] = reached;
        // What is left of runs tells more of them than that there were some: it is taken in first, and what remains then is
        // left out.
        if (reached > situation.LastRun && LatestLeft(stored.Id) <= situation.LastRun)
        {
            situation = situation with { LastRun = reached };
            house.Store.Save(stored.Id, situation, now); // also of one that nothing happens to in this boot
            house.Logbook.Note(new Subject(stored.Id, stored.Name), new NumbersPassedOverEntry(reached));
        }

        house.Store.Reserve(stored.Id, situation.LastRun);
        return situation;
    }

    private RunNumber LatestLeft(ServiceId service) =>
        house.Host.Left(service.ToString(), house.Places.RunOf(service.ToString()), []) is [.., var latest]
            ? latest
            : default;

    private static RunNumber Later(RunNumber one, RunNumber other) => one > other ? one : other;

    /// <summary>Gives a service whose stored definition cannot be read one anew, and takes it up as it is found.</summary>
    /// <returns>The service; null: somebody else was first.</returns>
    public async Task<ServiceActor?> Mend(Unreadable one, Definition definition, string document, Principal by)
    {
        if (!unreadable.TryRemove(KeyValuePair.Create(one.Stored.Name, one)))
            return null;
        var revision = house.Store.LatestRevision(one.Stored.Id) + 1;
        var actor = Actor(one.Stored, definition, revision);
        services[one.Stored.Name] = actor;
        Reshape();
        house.Store.Revise(one.Stored.Id, revision, document, by, house.Clocks.Now);
        house.Tools.Copies.Keep(one.Stored.Id, one.Stored.Name, revision, actor.Situation.LastRun, document);
        house.Logbook.Note(actor, new AdjustedEntry(revision, [], "its definition was given anew"), by);
        await actor.TakeUp(newMachine, house.Host.Marked());
        await actor.Ask(newBoot ? new MachineBegan() : new Resumed());
        house.Events.Changed(actor.View);
        return actor;
    }

    /// <summary>A service has another name now. False when that one is taken.</summary>
    public bool TryRename(ServiceActor actor, string was, string now)
    {
        if (unreadable.ContainsKey(now) || !services.TryAdd(now, actor))
            return false;
        services.TryRemove(KeyValuePair.Create(was, actor));
        Reshape();
        Readiness.Changed(was);
        return true;
    }

    /// <summary>What a service is called that had this name; null: none had.</summary>
    public string? RenamedTo(string name) =>
        house.Store.RenamedFrom(name) is { } id
            ? services.Values.FirstOrDefault(actor => actor.Id == id)?.Definition.Name
            : null;

    public void Forget(ServiceActor actor)
    {
        services.TryRemove(KeyValuePair.Create(actor.Definition.Name, actor));
        Reshape();
        Readiness.Changed(actor.Definition.Name);
    }
}
