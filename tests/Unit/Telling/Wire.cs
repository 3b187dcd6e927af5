using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Telling;

namespace CalmSentry.Tests.Unit.Telling;

/// <summary>Alerts, recipients and a clock, as the server drives them; all that was told is kept.</summary>
internal sealed class Wire(params Recipient[] recipients)
{
    public sealed record Sent(DateTimeOffset At, string Recipient, long Alert, MessageKind Kind, Message Message);

    private readonly HashSet<string> wrong = [];
    private long entry;

    public static readonly DateTimeOffset Start = new(2026, 3, 2, 8, 0, 0, TimeSpan.Zero); // a Monday

    public Alerts Alerts { get; private set; } = Alerts.None;

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

    public void Raise(string? service, Topic topic, AlertCause? cause = null, params string[] labels)
    {
        if (service is not null && Topics.Lasts(topic))
            wrong.Add(service);
        Alerts = AlertLife.Raise(
            Alerts,
            new(
                ++entry,
                Now,
                service,
                service ?? "quay-host",
                topic,
                cause ?? (service is null ? AlertCause.Machine : AlertCause.Of(service)),
                $"{service} did something."
            )
            {
                Labels = [.. labels],
            },
            Graph,
            Now
        );
        Send();
    }

    public void Mend(params string[] services)
    {
        wrong.ExceptWith(services);
        Send();
    }

    public void Acknowledge(long number) =>
        Alerts = Alerts.With(AlertLife.Acknowledge(Alerts.All[number], "anna", null, Now));

    /// <summary>Time goes on, in steps in which the server would look.</summary>
    public void Go(TimeSpan length, TimeSpan? step = null)
    {
        for (var end = Now + length; Now < end; )
        {
            Now += step ?? TimeSpan.FromSeconds(1);
            Send();
        }
    }

    private void Send()
    {
        TookOver.UnionWith(Alerts.All.Values.Select(alert => alert.PartOf).OfType<long>());
        foreach (var alert in Alerts.All.Values)
            Alerts = Alerts.With(
                AlertLife.Look(alert, one => one.Service is { } name && wrong.Contains(name), Pace, Now)
            );
        foreach (var number in Alerts.All.Keys)
        foreach (var recipient in recipients)
        {
            if (AlertLife.Next(Alerts.All[number], recipient, recipients, Pace, Zone) is not var (kind, at) || at > Now)
                continue;
            var alert = Alerts.All[number];
            All.Add(new(Now, recipient.Name, number, kind, MessageWords.Of(alert, kind, null, "quay-host", Now, Zone)));
            Alerts = Alerts.With(AlertLife.Told(alert, recipient.Name, kind, Now));
        }

        foreach (var old in Alerts.All.Values.Where(alert => AlertLife.IsForgotten(alert, Now)).ToList())
            Alerts = Alerts with { All = Alerts.All.Remove(old.Number) };
    }
}
