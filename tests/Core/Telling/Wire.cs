using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Telling;

namespace CalmSentry.Tests.Core.Telling;

/// <summary>Alerts, recipients and a clock, driven as the server drives them; all that was told is kept.</summary>
internal sealed class Wire(params Recipient[] recipients) : ITellingGround
{
    public sealed record Sent(DateTimeOffset At, string Recipient, long Alert, MessageKind Kind, Message Message);

    private readonly HashSet<string> wrong = [];
    private readonly Dictionary<string, Definition> services = [];
    private readonly Dictionary<string, AlertCause> missed = [];
    private TellingState state = TellingState.None;
    private long entry;

    public static readonly DateTimeOffset Start = new(2026, 3, 2, 8, 0, 0, TimeSpan.Zero); // a Monday

    public Alerts Alerts => state.Alerts;

    public IReadOnlyList<Recipient> Recipients => recipients;

    public string Machine => "quay-host";

    public DateTimeOffset Now { get; private set; } = Start;

    public Pace Pace { get; init; } = new();

    public NeedGraph Graph { get; init; } = new([]);

    public TimeZoneInfo Zone { get; init; } = TimeZoneInfo.Utc;

    public List<Sent> All { get; } = [];

    /// <summary>Alerts that took others in.</summary>
    public HashSet<long> TookOver { get; } = [];

    public static Recipient Office { get; } = new(new MailWay("office@skerry.example")) { Name = "office" };

    /// <summary>Services in which one needs others: "a" alone, or "b:a" for one that needs a.</summary>
    public static NeedGraph Needs(params string[] services) =>
        new(
            services.Select(one =>
            {
                var parts = one.Split(':');
                return Definition.Empty with
                {
                    Name = parts[0],
                    Title = parts[0],
                    Begin = new()
                    {
                        Needs = [.. parts.Skip(1).Select(need => (Need)new ServiceNeed(need, IfLost.Leave))],
                    },
                };
            })
        );

    /// <summary>An entry about a topic, of whichever kind.</summary>
    private sealed record SomeEntry(Topic Topic, string Said) : Entry
    {
        public override EntryKind Kind => EntryKinds.Other;

        protected override string Sentence => Said;

        public override Topic? TopicIf(bool tells, bool isJob) => Topic;
    }

    /// <param name="missing">What it misses, of what others may miss as well.</param>
    public void Raise(string? service, Topic topic, AlertCause? missing = null, params string[] labels) =>
        Raise(service, topic, null, missing, labels);

    /// <param name="at">When it happened; null: just now.</param>
    public void Raise(
        string? service,
        Topic topic,
        DateTimeOffset? at,
        AlertCause? missing = null,
        params string[] labels
    )
    {
        if (service is not null)
        {
            if (Topics.Of(topic).Lasting is Lasting.Trouble or Lasting.WhileSo)
                wrong.Add(service);
            services[service] = Definition.Empty with { Name = service, Title = service, Labels = [.. labels] };
            if (missing is { } cause)
                missed[service] = cause;
            else
                missed.Remove(service);
        }

        Step(new EntryCame(++entry, at ?? Now, service, new SomeEntry(topic, $"{service} did something."), true));
    }

    public void Mend(params string[] services)
    {
        wrong.ExceptWith(services);
        Step();
    }

    /// <summary>A service gets another name; whatever is wrong with it stays so.</summary>
    public void Rename(string was, string now)
    {
        if (wrong.Remove(was))
            wrong.Add(now);
        if (services.Remove(was, out var definition))
            services[now] = definition with { Name = now };
        Step(new EntryCame(++entry, Now, now, new RenamedEntry(was, 2), true));
    }

    /// <param name="until">It is put aside until then; null: until it is over.</param>
    public void Acknowledge(long number, DateTimeOffset? until = null) =>
        Step(new AlertTaken(number, new("anna", Now, null, until)));

    public void Close(long number) => Step(new AlertClosed(number));

    /// <summary>An entry about a service, as it came.</summary>
    public void Hear(string service, Entry heard, bool tells = false) =>
        Step(new EntryCame(++entry, Now, service, heard, tells));

    /// <summary>Time goes on, in steps in which the server would look.</summary>
    public void Go(TimeSpan length, TimeSpan? step = null)
    {
        for (var end = Now + length; Now < end; )
        {
            Now += step ?? TimeSpan.FromSeconds(1);
            Step();
        }
    }

    private void Step(params TellingInput[] inputs)
    {
        var turn = TellingLife.Step(state, inputs, this, Now);
        state = turn.After;
        TookOver.UnionWith(turn.Changed.Select(alert => alert.PartOf).OfType<long>());
        foreach (var (alert, kind, recipient) in turn.Due)
            All.Add(
                new(Now, recipient.Name, alert.Number, kind, MessageWords.Of(alert, kind, null, Machine, Now, Zone))
            );
    }

    Definition? ITellingGround.Named(string service) => services.GetValueOrDefault(service);

    bool ITellingGround.IsQuiet(string service) => false;

    bool ITellingGround.IsInTrouble(string service) => false;

    bool ITellingGround.IsWrong(Affected one) => one.Service is { } name && wrong.Contains(name);

    AlertCause? ITellingGround.MissedBy(Definition definition) =>
        missed.TryGetValue(definition.Name, out var cause) ? cause : null;
}
