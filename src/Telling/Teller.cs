using System.Collections.Immutable;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Events;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Output;
using CalmSentry.Engine.Secrets;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Boot;
using CalmSentry.Store;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Telling;

/// <summary>
/// Tells people what needs one: entries of the logbook become alerts, alerts become messages, and each recipient has its own
/// outbox. All that is decided is decided in <see cref="TellingLife"/>; here one task looks, saves and sends.
/// </summary>
internal sealed class Teller : IAsyncDisposable
{
    /// <summary>Entries that wait in memory; above that they are read from the logbook again.</summary>
    private const int MostAtHand = 10_000,
        Batch = 2000,
        Lines = 20,
        MostNeeding = 20,
        Crowd = 50,
        MostReplayed = 100_000,
        MostMade = 10_000;

    /// <summary>What comes together is taken together.</summary>
    private static readonly TimeSpan Breath = TimeSpan.FromMilliseconds(20),
        LongBreath = TimeSpan.FromMilliseconds(500),
        Long = TimeSpan.FromHours(1),
        AfterFailure = TimeSpan.FromMinutes(1),
        LongestReport = TimeSpan.FromDays(31),
        // What was to be put on record is by then, or never.
        LongestBehind = TimeSpan.FromSeconds(10);

    private readonly SentryStore store;
    private readonly RunTools tools;
    private readonly Record logbook;
    private readonly EventHub events;
    private readonly Clocks clocks;
    private readonly Registry registry;
    private readonly Intake intake = new(MostAtHand);
    private readonly Bell came;
    private readonly SemaphoreSlim turn = new(1);
    private readonly LiveGround ground;

    /// <summary>As they are set, and as they hold: with the addresses that definitions name.</summary>
    private TellingSettings given = new(),
        settings = new();
    private SignOfLife? sign;
    private DateTimeOffset? reported;
    private Dictionary<string, Outbox> outboxes = [];
    private TellingState telling = TellingState.None;
    private ClockStamp frame;
    private long upTo;

    /// <summary>The last entry of the servers before.</summary>
    private readonly long inherited;
    private long lastMessage;

    /// <summary>Ids of messages that this server made.</summary>
    private readonly HashSet<string> made = [];
    private TimeSpan? behindSince;
    private string identity = "";
    private BackgroundLoop? loop;

    /// <summary>How long until the next look, if nothing comes.</summary>
    private TimeSpan wait = Long;

    public Teller(SentryStore store, RunTools tools, Record logbook, EventHub events, Clocks clocks, Registry registry)
    {
        (this.store, this.tools, this.logbook, this.events, this.clocks, this.registry) = (
            store,
            tools,
            logbook,
            events,
            clocks,
            registry
        );
        came = new(clocks);
        inherited = store.LastEntry;
        ground = new(registry, () => settings);
        logbook.Heard = Hear;
    }

    /// <summary>The way to a recipient; a simulation brings ways of its own.</summary>
    public Func<SenderHouse, Recipient, ISender> SenderFor { get; init; } = static (senders, to) => senders.For(to);

    /// <summary>Alerts that go on, or may come again.</summary>
    public IReadOnlyCollection<Alert> Known => [.. telling.Alerts.All.Values];

    public IReadOnlyList<Recipient> Recipients => given.Recipients.With(Named);

    /// <summary>That nobody would be told of a service, as a sentence; null: somebody would.</summary>
    public string? NobodyHearsOf(Definition definition) =>
        NobodyHears
        ?? Unheard(definition)
        ?? (
            settings.Tell.Any(one => one.IsAbout(definition.Name, definition.Labels, definition.Tell))
                ? null
                : $"Nobody is told when {definition.Name} needs attention: no recipient hears of it, by its name or a label "
                    + "('calm tell --recipients')."
        );

    /// <summary>That somebody whom a definition names would not be told, as a sentence; null: all would.</summary>
    private string? Unheard(Definition definition) =>
        given.Recipients.Unheard(definition.Tell) is [var who, ..]
            ? $"Nobody is told at '{who}' when {definition.Name} needs attention, as its definition asks ('calm check {definition.Name}' says why)."
            : null;

    /// <summary>The same of any service, or that nobody hears of anything.</summary>
    public string? SomebodyUnheard =>
        NobodyHears ?? registry.All.Select(actor => Unheard(actor.Definition)).FirstOrDefault(said => said is not null);

    /// <summary>Names of the sentry's secrets that the settings ask for.</summary>
    public IReadOnlySet<string> Secrets =>
        settings
            .Tell.Select(one => (one.Way as WebhookWay)?.Key)
            .Append(settings.Mail?.Password)
            .OfType<string>()
            .ToHashSet(StringComparer.Ordinal);

    public Outbox? OutboxOf(string recipient) => outboxes.GetValueOrDefault(recipient);

    /// <summary>That nobody would be told of anything, as a sentence; null: somebody would.</summary>
    public string? NobodyHears =>
        settings.Tell.IsEmpty
            ? "Nobody is told when a service needs attention: no recipient is set ('calm tell --help' shows how)."
            : null;

    /// <summary>What does not get to its recipient, a sentence each.</summary>
    public IEnumerable<string> Troubles =>
        outboxes.Values.Select(one => one.Trouble).Append(sign?.Trouble).OfType<string>();

    /// <summary>Takes up what was before, and begins.</summary>
    public void Begin(TellingSettings at)
    {
        frame = clocks.Stamp;
        identity = Identity();
        try
        {
            (var lastAlert, lastMessage) = store.LastTold;
            var before = store
                .Alerts(AlertLife.MostNamed)
                .Where(one => !AlertLife.IsForgotten(one.Alert, frame.Wall))
                .Select(one => one.Alert.Shifted(SkewSince(one.Saved)))
                .ToImmutableSortedDictionary(alert => alert.Number, alert => alert);
            telling = telling with { Alerts = new(before, lastAlert) };
        }
        catch (SqliteException error)
        {
            logbook.Trouble($"What was told before cannot be read: {error.Message}");
        }

        // A sentry that has told nothing yet begins with what this server put on record.
        upTo = store.ToldUpTo ?? inherited;
        CountFailures(at.Pace);
        Put(at, WaitingBefore());
        loop = new(Go, Failed, clocks);
        came.Ring();
    }

    /// <summary>Failures of the time before count like those that come.</summary>
    private void CountFailures(Pace pace)
    {
        var lately = new LogQuery(Batch)
        {
            Kinds = [EntryKinds.Of<FellEntry>()],
            Since = frame.Wall - pace.OftenWithin,
        };
        try
        {
            foreach (var one in store.Logbook(lately))
                if (one is { Service: { } service } && one.Number <= upTo && FailureCount.IsFailure(one.Entry))
                    telling = telling with { Failures = telling.Failures.With(service, one.At, pace).After };
        }
        catch (SqliteException)
        {
            // They count from now on.
        }
    }

    /// <summary>In another boot the clock that only goes forward begins anew: then people's clock is all there is.</summary>
    private TimeSpan SkewSince(ClockStamp? saved) =>
        registry.IsNewBoot ? TimeSpan.Zero : saved?.SetSince(frame) ?? TimeSpan.Zero;

    private string Identity()
    {
        const string fact = "identity";
        if (store.Fact(fact) is { } known)
            return known;
        var made = Guid.NewGuid().ToString("N");
        store.SetFact(fact, made);
        return made;
    }

    /// <summary>New settings: from here on they hold; what waits for a recipient that is not there any more is left out.</summary>
    public async Task Take(TellingSettings at)
    {
        await turn.WaitAsync();
        try
        {
            await Renew(at);
        }
        finally
        {
            turn.Release();
        }

        came.Ring();
    }

    private async Task Renew(TellingSettings at)
    {
        foreach (var one in outboxes.Values)
            await one.DisposeAsync();
        if (sign is not null)
            await sign.DisposeAsync();
        // What waits in memory is what waits, also while the store cannot be written.
        Put(at, [.. outboxes.Values.SelectMany(one => one.Rest).OrderBy(one => one.Number)]);
    }

    private IReadOnlyList<StoredMessage> WaitingBefore()
    {
        try
        {
            return store.WaitingMessages();
        }
        catch (SqliteException error)
        {
            logbook.Trouble($"Messages that waited cannot be read: {error.Message}");
            return [];
        }
    }

    private void Put(TellingSettings at, IReadOnlyList<StoredMessage> waiting)
    {
        (given, settings) = (at, at with { Tell = at.Recipients.With(Named) });
        sign = at.Signal is { } signal ? new SignOfLife(signal, logbook, clocks).Begin() : null;
        var senders = new SenderHouse(
            Machine.HostName,
            identity,
            at.Mail,
            name => tools.Secrets.Open(SecretBox.OfSentry, name),
            PictureOf,
            tools.AsAccount
        );
        outboxes = settings.Tell.ToDictionary(
            recipient => recipient.Name,
            recipient => new Outbox(
                recipient,
                SenderFor(senders, recipient),
                waiting.Where(one => one.Recipient == recipient.Name),
                at.Pace.MostAnHour,
                store,
                logbook,
                clocks
            )
        );
        // All mail goes one way: where one gets through, the others need not wait.
        var mail = outboxes.Values.Where(one => one.Recipient.Way is MailWay).ToList();
        foreach (var one in mail)
            one.GotThrough = () => mail.ForEach(other => other.TryAgain());
        foreach (var one in waiting.Where(one => !outboxes.ContainsKey(one.Recipient)))
            store.SetMessage(
                one with
                {
                    State = MessageState.Dropped,
                    Answer = "its recipient is not in the settings any more",
                }
            );
    }

    /// <summary>Whom definitions name.</summary>
    private IEnumerable<string> Named => registry.All.SelectMany(actor => actor.Definition.Tell);

    /// <summary>An entry came into the logbook. Never waits.</summary>
    private void Hear(StoredEntry entry)
    {
        if (
            entry.Entry is not (RenamedEntry or { Ends: not null })
            && entry.Entry.TopicIf(entry.Tells, isJob: false) is null
        )
            return;
        intake.Hear(entry);
        came.Ring();
    }

    private async Task Go(CancellationToken over)
    {
        await came.Heard(wait, over);
        await turn.WaitAsync(over);
        try
        {
            // A definition may name others since.
            if (!given.Recipients.With(Named).SequenceEqual(settings.Tell))
                await Renew(given);
            wait = Step();
        }
        finally
        {
            turn.Release();
        }

        await clocks.Delay(IsCrowded ? LongBreath : Breath, over);
    }

    private TimeSpan Failed(Exception unexpected)
    {
        logbook.Failed("what people are to be told", unexpected);
        wait = AfterFailure;
        return TimeSpan.Zero; // what comes is taken in meanwhile
    }

    /// <summary>An alert of many services costs much to put on record: then more is taken together.</summary>
    private bool IsCrowded => telling.Alerts.All.Values.Any(alert => alert.Affected.Length > Crowd);

    /// <summary>Takes in what came, looks at what goes on, and sends what is due.</summary>
    /// <returns>How long until the next look, if nothing comes.</returns>
    private TimeSpan Step(params IEnumerable<TellingInput> asked)
    {
        var now = At();
        var (reached, messages) = (upTo, new List<StoredMessage>());
        TellingTurn turn;
        DateTimeOffset? next;
        try
        {
            turn = TellingLife.Step(telling, Came(last => reached = last).Concat(asked), ground, now);
            messages.AddRange(turn.Due.Select(due => Make(due, now)));
            next = Earlier(turn.Next, Report(now, messages));
        }
        catch
        {
            // Nothing of it is on record: it is done anew, from the logbook, and nobody counts as told.
            intake.ReadAnew();
            throw;
        }

        if (turn.Changed.Length > 0 || messages.Count > 0 || reached > upTo)
            store.SetTold(turn.Changed, messages, reached, frame);
        (telling, upTo) = (turn.After, reached);
        foreach (var one in messages)
            outboxes[one.Recipient].Add(one);
        foreach (var alert in turn.Changed)
            events.Alerted(alert.Number);
        return next is { } at ? Between(at - now) : Long;
    }

    private static DateTimeOffset? Earlier(DateTimeOffset? one, DateTimeOffset? other) =>
        one is null || other < one ? other ?? one : one;

    private const string ReportedFact = "reported";

    /// <summary>Makes the report that is due. One that was missed is made up for by one, of all the time since the one before.</summary>
    /// <returns>When the next one is due; null: none is.</returns>
    private DateTimeOffset? Report(DateTimeOffset now, List<StoredMessage> messages)
    {
        if (settings.Report is not { At: { } rhythm } report)
            return null;
        reported ??= ReportedBefore();
        if (reported is not { } last || last > now)
        {
            // A sentry that was never asked for one begins with the time that comes.
            store.SetFact(ReportedFact, now.ToString("O", CultureInfo.InvariantCulture));
            reported = last = now;
        }

        if (rhythm.After(last, TimeZoneInfo.Local) is not { } due)
            return null;
        if (due > now)
            return due;
        var from = now - last < LongestReport ? last : now - LongestReport;
        var message = ReportWords.Of(Reporting.Of(store, registry, from, now), TimeZoneInfo.Local);
        foreach (
            var recipient in settings.Tell.Where(one =>
                report.To.IsEmpty ? one is { UrgentOnly: false, ByDefinition: false } : report.To.Contains(one.Name)
            )
        )
            messages.Add(Stored(message, recipient, now, $"report {due.UtcTicks / TimeSpan.TicksPerMinute}"));
        store.SetFact(ReportedFact, now.ToString("O", CultureInfo.InvariantCulture));
        reported = now;
        return rhythm.After(now, TimeZoneInfo.Local);
    }

    private DateTimeOffset? ReportedBefore() =>
        DateTimeOffset.TryParse(store.Fact(ReportedFact), CultureInfo.InvariantCulture, out var at) ? at : null;

    private static TimeSpan Between(TimeSpan wait) =>
        wait < Breath ? Breath
        : wait > Long ? Long
        : wait;

    /// <summary>Now; when the host's clock was set since the last time, what is waited for keeps its length.</summary>
    private DateTimeOffset At()
    {
        var now = clocks.Stamp;
        telling = telling.Shifted(ClockStamp.Advance(ref frame, now));
        return now.Wall;
    }

    /// <summary>What came since, in its order: from memory, and from the logbook what is not there.</summary>
    /// <param name="reached">Hears the number of each as it is handed on.</param>
    private IEnumerable<EntryCame> Came(Action<long> reached)
    {
        var last = upTo;
        // What an earlier server put on record and had not told. What this one did is at hand, whether or not a disk takes it.
        if (last < inherited)
        {
            foreach (var entry in Read(last).TakeWhile(one => one.Number <= inherited))
                yield return Past(entry);
            reached(last = inherited);
        }

        var taken = 0;
        while (taken++ < Batch && intake.Take() is { } entry)
            if (entry.Number > last)
            {
                reached(last = entry.Number);
                yield return Past(entry);
            }

        if (intake.Behind is { } behind)
        {
            foreach (var entry in Read(last))
            {
                reached(last = entry.Number);
                yield return Past(entry);
            }

            reached(Caught(behind, last));
        }

        if (!intake.IsEmpty)
            came.Ring();
    }

    private IEnumerable<StoredEntry> Read(long after)
    {
        for (var all = false; !all; )
        {
            var (entries, _) = store.EntriesAfter(after, Batch);
            foreach (var one in entries)
                yield return new(after = one.Number, one.At, one.Service, one.Entry, one.By, one.Tells);
            all = entries.Count < Batch;
        }
    }

    /// <summary>What is not in the logbook yet comes soon, or was never put on record.</summary>
    /// <returns>Up to which number nothing is to be looked at any more.</returns>
    private long Caught(long behind, long last)
    {
        behindSince ??= clocks.Forward;
        if (!intake.HasRead(last))
        {
            if (clocks.Forward - behindSince < LongestBehind)
                return last;
            logbook.Trouble(
                $"Of what happened, {behind - last} entries at most are not on record, and nobody can be told of them."
            );
            intake.HasRead(last = Math.Max(behind, last));
        }

        behindSince = null;
        return last;
    }

    private static EntryCame Past(StoredEntry one) => new(one.Number, one.At, one.Service, one.Entry, one.Tells);

    private StoredMessage Make(Due due, DateTimeOffset now)
    {
        var (alert, kind, recipient) = due;
        var first = MessageWords.First(alert).Service is { } name ? registry.Named(name) : null;
        var message = MessageWords.Of(
            alert,
            kind,
            first is null ? null : StandingOf(first),
            Machine.HostName,
            now,
            TimeZoneInfo.Local,
            Link(alert)
        );
        if (!recipient.Hears(alert))
            message = message with
            {
                InsteadOf = settings
                    .Tell.FirstOrDefault(one =>
                        one.Next == recipient.Name && alert.Heard.Any(heard => heard.Recipient == one.Name)
                    )
                    ?.Name,
            };
        if (kind == MessageKind.Grows && AlertLife.IsLastToGrow(alert, recipient, now))
            message = message with
            {
                Parts = message.Parts.Add(
                    new(
                        "Held back",
                        [
                            $"This is the {AlertLife.MostGrowing}th message about this alert within a day: which services join it is told "
                                + $"tomorrow. 'calm tell --alert {alert.Number}' names them.",
                        ]
                    )
                ),
            };
        var times = alert.Heard.FirstOrDefault(heard => heard.Recipient == recipient.Name)?.Times.Length;
        // Not by its time: what is found out again after a server was lost has the time of that.
        var about = MessageWords.First(alert);
        return Stored(message, recipient, now, $"{kind} {times} {alert.Worst} {about.Service} {about.What}");
    }

    /// <param name="what">
    /// What it tells of, the same where it is made again: one that was sent while no disk took it has its id then, too.
    /// </param>
    private StoredMessage Stored(Message message, Recipient recipient, DateTimeOffset now, string what) =>
        new(
            ++lastMessage,
            IdOf($"{identity} {recipient.Name} {what}"),
            message.Alert,
            recipient.Name,
            now,
            MessageState.Waiting,
            0,
            null,
            null,
            message
        );

    /// <summary>A UUID of what it tells of (version 8, RFC 9562, section 5.8); another one where that is taken.</summary>
    private string IdOf(string what)
    {
        var hash = SHA256.HashData(Encoding.UTF8.GetBytes(what)).AsSpan(..16);
        hash[6] = (byte)((hash[6] & 0x0F) | 0x80);
        hash[8] = (byte)((hash[8] & 0x3F) | 0x80);
        var id = new Guid(hash, bigEndian: true).ToString();
        if (made.Count > MostMade)
            made.Clear(); // by then they are on record
        return made.Add(id) && !store.HasMessage(id) ? id : Guid.CreateVersion7().ToString();
    }

    /// <summary>The console can be reached from this machine alone, as long as it is not told otherwise.</summary>
    private string? Link(Alert alert) =>
        settings.ConsoleAt is { } address ? $"{address.TrimEnd('/')}/alerts/{alert.Number}" : null;

    private Standing StandingOf(ServiceActor actor)
    {
        var (definition, now) = (actor.Definition, actor.Situation);
        return new(actor.View.Why)
        {
            Next = [.. Outlook.Next(definition, now)],
            Could = [.. Outlook.Could(definition, now)],
            LastLines = LastLines(actor),
            NeededBy =
            [
                .. registry
                    .Graph.DependentsOf(definition.Name)
                    .Take(MostNeeding)
                    .Select(registry.Named)
                    .OfType<ServiceActor>()
                    .Select(one => $"{one.Definition.Title}: {one.View.Why}"),
            ],
        };
    }

    private (byte[] Png, DateTimeOffset At)? PictureOf(string service)
    {
        try
        {
            return registry.Named(service)?.Id.ToString() is { } folder && tools.Pictures.Latest(folder) is { } run
                ? tools.Pictures.Of(folder, run)
                : null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null; // the message matters more
        }
    }

    private ImmutableArray<string> LastLines(ServiceActor actor)
    {
        try
        {
            var folder = tools.Places.OutputDirectoryOf(actor.Definition.Name);
            return
            [
                .. OutputFile.LastLines(
                    folder,
                    actor.Definition.Output.Encoding,
                    actor.OutputBegan,
                    Segments.End(folder),
                    Lines
                ),
            ];
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or InvalidDataException)
        {
            return [];
        }
    }

    /// <summary>Who would have been told what of a past time, by the recipients there are now.</summary>
    public IReadOnlyList<WouldBe> Replay(DateTimeOffset from, DateTimeOffset until, int most) =>
        Core.Telling.Replay.Of(
            store.Logbook(new LogQuery(MostReplayed) { Since = from, Until = until }).Select(Past),
            registry.All.ToDictionary(actor => actor.Definition.Name, actor => actor.Definition),
            settings.Tell,
            settings.Pace,
            TimeZoneInfo.Local,
            until,
            most
        );

    /// <summary>Somebody looks at an alert.</summary>
    /// <param name="until">It is put aside until then; null: until it is over.</param>
    /// <returns>It; null: there is none of that number that goes on.</returns>
    public Task<Alert?> Acknowledge(long number, string by, string? note, DateTimeOffset? until) =>
        Said(number, new AlertTaken(number, new(by, clocks.Now, note, until)));

    /// <summary>Somebody says that an alert is done with; where only its service can end it, it goes on.</summary>
    /// <returns>It; null: there is none of that number that goes on.</returns>
    public Task<Alert?> Close(long number) => Said(number, new AlertClosed(number));

    private async Task<Alert?> Said(long number, TellingInput said)
    {
        await turn.WaitAsync();
        try
        {
            if (telling.Alerts.All.GetValueOrDefault(number) is not { OverAt: null, PartOf: null })
                return null;
            wait = Step(said);
            return telling.Alerts.All.GetValueOrDefault(number);
        }
        finally
        {
            turn.Release();
            came.Ring();
        }
    }

    /// <summary>A message that says nothing but that it arrives.</summary>
    public static Message TrialFor(Recipient recipient, DateTimeOffset now) =>
        new()
        {
            Kind = MessageKind.Trial,
            Alert = 0,
            Host = Machine.HostName,
            At = now,
            Urgency = Urgency.CanWait,
            Subject = "A trial: messages reach you",
            Lead =
                "This is a trial: somebody wants to see whether messages of Calm Sentry reach you. Nothing is wrong.",
            Parts = [new("What reaches you", [RecipientKeys.InWords(recipient)])],
        };

    public async ValueTask DisposeAsync()
    {
        if (loop is not null)
            await loop.DisposeAsync();
        foreach (var one in outboxes.Values)
            await one.DisposeAsync();
        if (sign is not null)
            await sign.DisposeAsync();
    }
}
