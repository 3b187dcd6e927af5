using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Events;
using CalmSentry.Store;

namespace CalmSentry.Engine.Logbook;

/// <summary>What an entry is about: a service, as it is called now.</summary>
internal interface ISubject
{
    ServiceId Id { get; }

    string Name { get; }
}

/// <summary>A service that is known, and not taken up yet.</summary>
internal sealed record Subject(ServiceId Id, string Name) : ISubject;

/// <summary>Takes entries into the logbook, and tells whoever listens.</summary>
internal sealed class Record(SentryStore store, EventHub events, TimeProvider clock)
{
    /// <summary>Characters of what comes from outside: what programs and callers put into an entry is bounded.</summary>
    private const int Longest = 4000;

    private readonly Lock order = new();

    /// <summary>Hears of every entry as it comes in, in the order of their numbers; never waits.</summary>
    public Action<StoredEntry> Heard { get; set; } = _ => { };

    /// <summary>About the sentry itself.</summary>
    /// <param name="tells">A person is to hear of it.</param>
    public void Note(Entry entry, Principal? by = null, bool tells = false) => Write(null, null, entry, by, tells);

    /// <param name="tells">A person is to hear of it.</param>
    public void Note(ISubject service, Entry entry, Principal? by = null, bool tells = false) =>
        Write(service.Id, service.Name, entry, by, tells);

    /// <summary>About a service that may not be registered: by its name alone.</summary>
    public void Note(string service, Entry entry, Principal? by = null) =>
        Write(store.IdOf(service), service, entry, by, tells: false);

    /// <summary>The sentry itself is at fault.</summary>
    /// <param name="seen">What went wrong, as sentences.</param>
    public void Trouble(string seen, ISubject? service = null) =>
        Write(service?.Id, service?.Name, new TroubleEntry(seen), null, tells: false);

    /// <summary>Something went wrong that nobody had expected, which is a mistake of the sentry's own: with its type, and where.</summary>
    /// <param name="at">What it was at, such as 'a plan'.</param>
    public void Failed(string at, Exception error, ISubject? service = null) =>
        Trouble($"The sentry failed at {at}: {Unexpected.InWords(error)}", service);

    private void Write(ServiceId? id, string? name, Entry entry, Principal? by, bool tells)
    {
        if (entry.Fields is { Seen: { Length: > Longest } seen } fields)
            entry = entry.Kind.Read(fields with { Seen = seen[..Longest] + "…" });
        if (by?.From is { } from)
            entry = entry with { From = from };
        var at = clock.GetUtcNow();
        StoredEntry stored;
        // Whoever hears of entries goes by their numbers, and hears them in that order.
        lock (order)
        {
            var number = store.Log(at, id, name, entry, by, tells);
            stored = new StoredEntry(number, at, name, entry, by?.ToString(), tells);
            Heard(stored);
        }

        events.Logged(EntryViews.Of(stored));
    }
}
