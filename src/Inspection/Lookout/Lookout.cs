using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using CalmSentry.Contract;
using CalmSentry.Core.Copies;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;
using CalmSentry.Core.Watching;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Checks;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Troubles;
using CalmSentry.Store;

namespace CalmSentry.Inspection.Lookout;

/// <summary>
/// Looks now and then for what nobody asked about: a second copy of a program that runs, memory that will run out, and what the checks
/// find that they did not find before. One service after the other, so that it is never a load.
/// </summary>
internal sealed class Lookout : IAsyncDisposable
{
    private const string LookedFact = "lookout-checked",
        FoundFact = "lookout-found";

    /// <summary>Copies of one service that are remembered and said.</summary>
    private const int MostCopies = 20,
        MostBefore = 1000;

    private readonly SentryStore store;
    private readonly Places places;
    private readonly Record logbook;
    private readonly Clocks clocks;
    private readonly Registry registry;
    private readonly Checker checker;
    private volatile LookoutSettings settings;
    private volatile IReadOnlyList<(string Key, string File)> own;
    private TaskCompletionSource otherwise = NewWord();
    private readonly FillTrend memory = new(TimeSpan.FromDays(1));
    private readonly HashSet<(ServiceActor Service, int Pid, DateTimeOffset Since)> known = [],
        named = [];

    /// <summary>Copies that were seen and that nobody could look for since; null: what an earlier server saw was not read yet.</summary>
    private HashSet<(ServiceActor Service, int Pid)>? before;
    private readonly (Func<CancellationToken, Task> Look, string? Trouble)[] looks;
    private BackgroundLoop? loop;

    /// <param name="own">Certificates that the sentry itself uses, and by which of its settings.</param>
    public Lookout(
        SentryStore store,
        Places places,
        Record logbook,
        Clocks clocks,
        Registry registry,
        Checker checker,
        LookoutSettings settings,
        IEnumerable<(string Key, string File)> own
    )
    {
        (this.store, this.places, this.logbook, this.clocks, this.registry, this.checker, this.settings) = (
            store,
            places,
            logbook,
            clocks,
            registry,
            checker,
            settings
        );
        this.own = [.. own];
        looks = [(LookAtMemory, null), (LookForCopies, null), (CheckAll, null)];
    }

    public Lookout Begin()
    {
        loop = new(Go, Failed, clocks);
        return this;
    }

    /// <summary>How often it looks from now on, and after which files of the sentry's own.</summary>
    public void Take(LookoutSettings now, IEnumerable<(string Key, string File)> files)
    {
        own = [.. files];
        if (now == settings)
            return;
        settings = now;
        Interlocked.Exchange(ref otherwise, NewWord()).TrySetResult();
    }

    private static TaskCompletionSource NewWord() => new(TaskCreationOptions.RunContinuationsAsynchronously);

    private async Task Go(CancellationToken over)
    {
        var changed = Volatile.Read(ref otherwise).Task.WaitAsync(settings.Every, clocks.Time, over);
        await changed.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        if (changed.IsCompletedSuccessfully || over.IsCancellationRequested)
            return; // it waits anew, by what holds now
        for (var i = 0; i < looks.Length; i++)
        {
            var trouble = await Try(looks[i].Look, over).ConfigureAwait(false);
            // Said once, until it is another or is over: what it looks for is no reason to fill the logbook.
            if (trouble is not null && trouble != looks[i].Trouble)
                logbook.Trouble($"The sentry cannot look after its services unasked: {trouble}");
            looks[i].Trouble = trouble;
        }
    }

    private TimeSpan Failed(Exception unexpected)
    {
        logbook.Failed("looking after its services unasked", unexpected);
        return settings.Every;
    }

    /// <returns>What went wrong; null: nothing.</returns>
    private static async Task<string?> Try(Func<CancellationToken, Task> look, CancellationToken over)
    {
        try
        {
            await look(over).ConfigureAwait(false);
            return null;
        }
        catch (Exception unexpected) when (!over.IsCancellationRequested)
        {
            return Unexpected.InWords(unexpected);
        }
    }

    private Task LookAtMemory(CancellationToken _)
    {
        if (MachineMemory.Now() is not var (total, available))
            return Task.CompletedTask;
        if (memory.Look(clocks.Forward, total - available, total) is { } until)
            logbook.Note(new MemoryWillFillEntry(until, Size.About(available)), tells: true);
        return Task.CompletedTask;
    }

    private async Task LookForCopies(CancellationToken over)
    {
        var running = registry
            .All.Where(actor => actor.Situation is { Run.Pid: not null, Quiet: null } && !Accepts(actor))
            .ToList();
        if (running.Count == 0 && known.Count == 0 && before is { Count: 0 })
            return;
        before ??= SeenBefore();
        var processes = await checker.Processes.Read().ConfigureAwait(false);
        var sockets = new Lazy<IReadOnlyList<Linux.Sockets.Listening>>(Linux.Sockets.Listening.All);
        var look = new CopyLook(processes, () => sockets.Value, registry.All, store, places);
        var seen = new HashSet<(ServiceActor, int, DateTimeOffset)>();
        var namedNow = new HashSet<(ServiceActor, int, DateTimeOffset)>();
        foreach (var actor in running)
        {
            over.ThrowIfCancellationRequested();
            foreach (
                var copy in CopyChecks
                    .Find(actor.Definition, look, [])
                    .Where(copy => copy.Verdict is CopyVerdict.InTheWay or CopyVerdict.Named)
                    .OrderByDescending(copy => copy.Verdict)
                    .Take(MostCopies)
            )
            {
                var one = (actor, copy.Pid, copy.Since);
                if (copy.Blocks)
                    seen.Add(one);
                else
                    namedNow.Add(one);
                if (known.Contains(one) || named.Contains(one) || IsOnRecord(actor, copy))
                    continue;
                if (copy.Blocks)
                    logbook.Note(actor, new CopySeenEntry(copy.Pid, copy.ToString()), tells: true);
                else // it is in nobody's way, and nobody is woken for it
                    logbook.Note(actor, new CopyNamedEntry(copy.Pid, copy.ToString()));
            }
        }

        foreach (var (actor, pid) in known.Select(one => (one.Service, one.Pid)).Union(before).ToList())
        {
            if (seen.Any(one => one.Item1 == actor && one.Item2 == pid))
                before.Remove((actor, pid));
            else if (WhyOver(actor) is { } why)
            {
                before.Remove((actor, pid));
                logbook.Note(actor, new CopyOverEntry(pid, seen.Count(one => one.Item1 == actor), why));
            }
            else
                before.Add((actor, pid));
        }

        known.Clear();
        known.UnionWith(seen);
        named.Clear();
        named.UnionWith(namedNow);
    }

    /// <summary>Why a copy that was seen beside a program, and is not seen now, is not beside it any more, as a clause.</summary>
    /// <returns>Null: nobody looked just now.</returns>
    private static string? WhyOver(ServiceActor actor) =>
        Accepts(actor) ? "it was accepted"
        : actor.Situation is { Quiet: not null } ? null
        : actor.Situation is { Run.Pid: not null } ? "it has ended"
        : actor.Situation.Phase is Phase.Stopped or Phase.Held or Phase.Resting ? "the service itself does not run"
        : null;

    private static bool Accepts(ServiceActor actor) =>
        actor.Definition.Accept.Contains(FindingCodes.WordOf(FindingCode.CopyRunning));

    /// <summary>Copies that an earlier server saw, and of which it did not say that they are gone.</summary>
    private HashSet<(ServiceActor Service, int Pid)> SeenBefore()
    {
        var open = new HashSet<(ServiceActor, int)>();
        var query = new LogQuery(MostBefore)
        {
            Kinds = [EntryKinds.Of<CopySeenEntry>(), EntryKinds.Of<CopyOverEntry>()],
        };
        foreach (var one in store.Logbook(query))
        {
            if (one.Service is not { } name || registry.Named(name) is not { } actor)
                continue;
            if (one.Entry is CopySeenEntry { Pid: { } pid })
                open.Add((actor, pid));
            else if (one.Entry is CopyOverEntry { Pid: { } gone })
                open.Remove((actor, gone));
        }

        return open;
    }

    /// <summary>An earlier server has said it, or somebody has accepted it.</summary>
    private bool IsOnRecord(ServiceActor actor, Copy copy) =>
        store
            .Logbook(
                new LogQuery(MostCopies)
                {
                    Service = actor.Id,
                    Kinds =
                    [
                        EntryKinds.Of<CopySeenEntry>(),
                        EntryKinds.Of<CopyNamedEntry>(),
                        EntryKinds.Of<AcceptedEntry>(),
                    ],
                    Since = copy.Since,
                }
            )
            .Any(one =>
                one.Entry is CopySeenEntry seen ? seen.Pid == copy.Pid && seen.Copy == copy.ToString()
                : one.Entry is CopyNamedEntry named ? named.Pid == copy.Pid && named.Copy == copy.ToString()
                : one.Entry is AcceptedEntry accepted
                    && accepted.Finding == FindingCodes.WordOf(FindingCode.CopyRunning)
            );

    private async Task CheckAll(CancellationToken over)
    {
        var now = clocks.Now;
        if (!DateTimeOffset.TryParse(store.Fact(LookedFact), CultureInfo.InvariantCulture, out var last) || last > now)
        {
            // A sentry that has never checked begins with the moment that comes.
            store.SetFact(LookedFact, now.ToString("O", CultureInfo.InvariantCulture));
            return;
        }

        if (!(settings.Checks.After(last, TimeZoneInfo.Local) <= now))
            return;
        var before = Before();
        var found = new List<string>();
        Compare(
            "-",
            [.. own.Select(one => CertificateChecks.Expiring($"of {one.Key},", one.File, now)).OfType<Finding>()],
            null
        );
        foreach (var actor in registry.All)
        {
            over.ThrowIfCancellationRequested();
            IReadOnlyList<Finding> findings;
            try
            {
                findings = await checker.All(actor.Definition, Askers.Nobody).ConfigureAwait(false);
            }
            catch (OwnTroubleException)
            {
                // A file system that does not answer: what was known of it stays known, and the others are looked at.
                if (before.TryGetValue(actor.Id.ToString(), out var known))
                    found.Add($"{actor.Id} {string.Join(' ', known)}");
                continue;
            }

            Compare(
                actor.Id.ToString(),
                [.. findings.Where(one => !one.OnlyNow && !actor.Definition.Accept.Contains(one.Word))],
                actor
            );
        }

        store.SetFact(FoundFact, string.Join('\n', found));
        store.SetFact(LookedFact, now.ToString("O", CultureInfo.InvariantCulture));

        void Compare(string whose, IReadOnlyList<Finding> findings, ServiceActor? actor)
        {
            var first = !before.TryGetValue(whose, out var known);
            foreach (var finding in findings)
            {
                // What is there when a service is first looked at was seen by whoever wrapped it, but for a date that comes.
                if (!first && (known!.Contains(KeyOf(finding)) || known.Contains(FormerKeyOf(finding))))
                    continue;
                var tells = finding.Subject is not null; // what has a date
                if (first && !tells)
                    continue;
                var entry = new FoundEntry(finding.Word, $"{finding.Seen} {finding.Mend}".TrimEnd());
                if (actor is null)
                    logbook.Note(entry, tells: tells);
                else
                    logbook.Note(actor, entry, tells: tells && actor.Situation.Quiet is null);
            }

            found.Add($"{whose} {string.Join(' ', findings.Select(KeyOf).Distinct())}");
        }
    }

    /// <summary>By what a finding is known again: of what has a date, each is one of its own.</summary>
    private static string KeyOf(Finding finding) =>
        finding.Subject is { } subject ? Key(finding, subject) : finding.Word;

    /// <summary>Earlier versions knew it again by its sentence.</summary>
    private static string FormerKeyOf(Finding finding) => Key(finding, finding.Seen);

    private static string Key(Finding finding, string of) =>
        $"{finding.Word}:{Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(of)))[..16]}";

    /// <summary>What the checks found the last time, by service.</summary>
    private Dictionary<string, HashSet<string>> Before() =>
        (store.Fact(FoundFact) ?? "")
            .Split('\n', StringSplitOptions.RemoveEmptyEntries)
            .Select(line => line.Split(' ', StringSplitOptions.RemoveEmptyEntries))
            .Where(line => line.Length > 0)
            .ToDictionary(line => line[0], line => line.Skip(1).ToHashSet(StringComparer.Ordinal));

    public async ValueTask DisposeAsync()
    {
        if (loop is not null)
            await loop.DisposeAsync().ConfigureAwait(false);
    }
}
