using System.Collections.Immutable;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Telling;

/// <summary>How messages get to a recipient.</summary>
public abstract record Way
{
    /// <summary>As settings and messages name it.</summary>
    public abstract string InWords { get; }
}

/// <param name="Address">Where mail goes (RFC 5321).</param>
public sealed record MailWay(string Address) : Way
{
    public override string InWords => $"mail to {Address}";
}

/// <summary>An HTTP POST of a CloudEvent, or of a text in somebody's own form.</summary>
public sealed record WebhookWay(string Url) : Way
{
    /// <summary>Name of the sentry's secret that it is signed with; null: it is not signed.</summary>
    public string? Key { get; init; }

    /// <summary>Its body (<see cref="BodyTemplate"/>); null: a CloudEvent.</summary>
    public string? Body { get; init; }

    public override string InWords => $"POST {Url}";
}

/// <param name="Command">The program first; the message comes in on standard input.</param>
public sealed record CommandWay(ImmutableArray<string> Command) : Way
{
    /// <summary>Null: as the sentry itself.</summary>
    public string? Account { get; init; }

    public override string InWords => $"the command {Command[0]}{(Account is { } account ? $" as {account}" : "")}";

    public bool Equals(CommandWay? other) =>
        other is not null && Command.SequenceEqual(other.Command) && Account == other.Account;

    public override int GetHashCode() => HashCode.Combine(Command.Length, Command.FirstOrDefault(), Account);
}

/// <param name="Address">HOST:PORT of a collector that takes datagrams (RFC 5426), or the path of a log socket.</param>
public sealed record SyslogWay(string Address) : Way
{
    public override string InWords => $"syslog to {Address}";
}

/// <summary>Hours of the day, by the host's clock, on some days of the week.</summary>
/// <param name="From">Within the day.</param>
/// <param name="To">Not with it; up to 24:00. Before <paramref name="From"/>: on the next day.</param>
public readonly record struct Hours(TimeSpan From, TimeSpan To, DayOfWeek First, DayOfWeek Last)
{
    /// <summary>The first moment within them from a moment on.</summary>
    public DateTimeOffset Next(DateTimeOffset from, TimeZoneInfo zone)
    {
        var wall = Rhythms.WallClock.Of(from, zone);
        for (var day = wall.Date.AddDays(-1); ; day = day.AddDays(1))
        {
            if (!Holds(day.DayOfWeek))
                continue;
            var (begins, ends) = (day + From, To > From ? day + To : day.AddDays(1) + To);
            if (wall >= ends)
                continue;
            if (wall >= begins)
                return from;
            // Where the clock shows the same hour a second time, they have begun in the first.
            var moment = Rhythms.WallClock.At(begins, zone);
            return moment < from ? from : moment;
        }
    }

    private bool Holds(DayOfWeek day) => (day - First + 7) % 7 <= (Last - First + 7) % 7;
}

/// <summary>Somebody who is told of what needs a person, and of what.</summary>
public sealed record Recipient(Way Way)
{
    /// <summary>The longest pause before a next one is asked.</summary>
    public static readonly TimeSpan UsualAfter = TimeSpan.FromMinutes(30);

    public string Name { get; init; } = "";

    /// <summary>Only of these; empty: of all.</summary>
    public ImmutableArray<string> Services { get; init; } = [];

    /// <summary>There for an address that definitions name: it hears of those services alone.</summary>
    public bool ByDefinition { get; init; }

    public static Recipient OfAddress(string address) =>
        new(new MailWay(address)) { Name = address, ByDefinition = true };

    /// <summary>Only of services with one of these labels, beside those in <see cref="Services"/>; empty: of all.</summary>
    public ImmutableArray<string> Labels { get; init; } = [];

    /// <summary>Only of this; empty: of all that is usual.</summary>
    public ImmutableArray<string> About { get; init; } = [];

    /// <summary>Only of what cannot wait.</summary>
    public bool UrgentOnly { get; init; }

    /// <summary>What can wait is kept until then; null: nothing is kept.</summary>
    public Hours? Hours { get; init; }

    /// <summary>Who is told as well when nobody has acknowledged within <see cref="After"/>; null: nobody.</summary>
    public string? Next { get; init; }

    public TimeSpan After { get; init; } = UsualAfter;

    /// <summary>Whether it hears of an alert by itself.</summary>
    public bool Hears(Alert alert) => alert.Affected.Any(Hears);

    public bool Hears(Affected one)
    {
        if (About.IsEmpty ? !Topics.IsUsual(one.Worst) : !About.Contains(Words.Of(one.Worst)))
            return false;
        if (UrgentOnly && Topics.Of(one.Worst).Urgency != Urgency.Urgent)
            return false;
        return IsAbout(one.Service, one.Labels, one.Tell);
    }

    /// <summary>Whether it hears of a service at all; null: of the sentry itself.</summary>
    /// <param name="named">Whom its definition names.</param>
    public bool IsAbout(string? service, ImmutableArray<string> labels, ImmutableArray<string> named) =>
        (Services.IsEmpty && Labels.IsEmpty && !ByDefinition)
        || named.Contains(Name)
        || (service is not null && Services.Contains(service))
        || labels.Any(Labels.Contains);

    public bool Equals(Recipient? other) =>
        other is not null
        && (Way, Name, UrgentOnly, ByDefinition, Hours, Next, After)
            == (other.Way, other.Name, other.UrgentOnly, other.ByDefinition, other.Hours, other.Next, other.After)
        && Services.SequenceEqual(other.Services)
        && Labels.SequenceEqual(other.Labels)
        && About.SequenceEqual(other.About);

    public override int GetHashCode() => HashCode.Combine(Name, Way);
}

/// <summary>How alerts are gathered into messages.</summary>
public sealed record Pace
{
    /// <summary>What comes together within it is one message.</summary>
    public TimeSpan Gather { get; init; } = TimeSpan.FromSeconds(20);

    /// <summary>An alert is over once nothing was wrong for so long; longer, when it came back before.</summary>
    public TimeSpan Steady { get; init; } = TimeSpan.FromMinutes(5);

    /// <summary>One that goes on is told of again; 0: it is not.</summary>
    public TimeSpan Remind { get; init; } = TimeSpan.FromDays(1);

    /// <summary>So many failures within <see cref="OftenWithin"/>, restarts notwithstanding, need somebody to look.</summary>
    public int Often { get; init; } = 5;

    public TimeSpan OftenWithin { get; init; } = TimeSpan.FromHours(1);

    /// <summary>Messages a recipient gets within an hour, at most; what is above waits, and is counted.</summary>
    public int MostAnHour { get; init; } = 30;
}
