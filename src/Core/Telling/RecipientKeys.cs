using System.Collections.Immutable;
using System.Diagnostics.CodeAnalysis;
using System.Globalization;
using System.Text.RegularExpressions;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Telling;

/// <summary>The keys of a recipient, in the sentry's settings.</summary>
public static partial class RecipientKeys
{
    private static readonly ImmutableArray<string> Weekdays = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];

    private static readonly Form<string> Mail = Forms.Text(
        "a mail address such as quay-office@skerry.example",
        MailAddress.IsOne
    ) with
    {
        Example = "quay-office@skerry.example",
    };

    private static readonly Form<string> Secret = Forms.Text(
        "the name of a secret of the sentry's: letters, digits and _",
        text => SecretName().IsMatch(text)
    ) with
    {
        Example = "HOOK_KEY",
    };

    /// <summary>Hours of the day, on some days: <c>07:00-22:00</c>, <c>mon-fri 07:00-18:00</c>.</summary>
    public static Form<Hours> HoursOfDay { get; } =
        new(
            "hours such as 07:00-22:00 or mon-fri 07:00-18:00",
            (string text, [MaybeNullWhen(false)] out Hours hours) =>
            {
                hours = default;
                if (HoursPattern().Match(text) is not { Success: true } parts)
                    return false;
                var (from, to) = (Time(parts.Groups["from"]), Time(parts.Groups["to"]));
                var first = parts.Groups["first"] is { Success: true } day ? Weekdays.IndexOf(day.Value) : 1;
                var last =
                    parts.Groups["last"] is { Success: true } until ? Weekdays.IndexOf(until.Value)
                    : parts.Groups["first"].Success ? first
                    : 0;
                hours = new(from, to, (DayOfWeek)first, (DayOfWeek)last);
                return from != to && from < TimeSpan.FromDays(1) && to <= TimeSpan.FromDays(1);
            },
            hours =>
                (
                    (hours.Last - hours.First + 7) % 7 == 6 ? ""
                    : hours.First == hours.Last ? $"{Weekdays[(int)hours.First]} "
                    : $"{Weekdays[(int)hours.First]}-{Weekdays[(int)hours.Last]} "
                ) + $"{Write(hours.From)}-{Write(hours.To)}"
        )
        {
            Example = "mon-fri 07:00-18:00",
        };

    public static Union<Recipient> Recipients { get; } =
        new(
            "{ mail: quay-office@skerry.example, name: quay-office }",
            [
                UnionOf<Recipient>.Kind(
                    "mail",
                    Mail,
                    address => new Recipient(new MailWay(address)),
                    one => (one.Way as MailWay)?.Address,
                    "By mail, to this address."
                ),
                UnionOf<Recipient>.Kind(
                    "webhook",
                    Forms.Url,
                    url => new Recipient(new WebhookWay(url)),
                    one => (one.Way as WebhookWay)?.Url,
                    "By an HTTP POST of a CloudEvent to this address."
                ) with
                {
                    Example = "https://hooks.skerry.example/sentry",
                },
                UnionOf<Recipient>.Command(
                    "command",
                    command => new Recipient(new CommandWay(command)),
                    one => (one.Way as CommandWay)?.Command,
                    "By this command, program first; the message is its standard input."
                ) with
                {
                    Example = "[/usr/local/bin/ring-bell, harbour]",
                },
                UnionOf<Recipient>.Kind(
                    "syslog",
                    Forms.Text(
                        "HOST:PORT, or the path of a log socket",
                        text => text.StartsWith('/') || NetworkAddress.Read(text) is not null
                    ),
                    address => new Recipient(new SyslogWay(address)),
                    one => (one.Way as SyslogWay)?.Address,
                    "As a syslog message of severity alert (RFC 5424), to a collector over UDP or a log socket."
                ) with
                {
                    Example = "/dev/log",
                },
            ],
            [
                UnionOf<Recipient>.Attribute(
                    "name",
                    Forms.ServiceName,
                    one => one.Name,
                    (one, name) => one with { Name = name },
                    "What it is called in lists and by 'next'."
                ) with
                {
                    Needed = true,
                    Example = "quay-office",
                },
                Texts(
                    "services",
                    Forms.ServiceName,
                    one => one.Services,
                    (one, names) => one with { Services = names },
                    "Only of these services, and of those with one of its labels.",
                    "all"
                ),
                Texts(
                    "labels",
                    Forms.Text("text without NUL"),
                    one => one.Labels,
                    (one, names) => one with { Labels = names },
                    "Only of services with one of these labels.",
                    "all"
                ),
                Texts(
                    "about",
                    Forms.OneOf([.. Words.All<Topic>()]),
                    one => one.About,
                    (one, topics) => one with { About = topics },
                    "Only of this.",
                    "all but restarted, came-back and apart"
                ),
                UnionOf<Recipient>.Attribute(
                    "urgent-only",
                    Forms.Switch,
                    one => one.UrgentOnly ? true : null,
                    (one, only) => one with { UrgentOnly = only },
                    "Only of what cannot wait."
                ) with
                {
                    Default = "false",
                },
                UnionOf<Recipient>.Attribute(
                    "hours",
                    HoursOfDay,
                    one => one.Hours,
                    (one, hours) => one with { Hours = hours },
                    "What can wait is kept until these hours begin."
                ) with
                {
                    Default = "any",
                },
                UnionOf<Recipient>.Attribute(
                    "next",
                    Forms.ServiceName,
                    one => one.Next,
                    (one, name) => one with { Next = name },
                    "Which recipient is told as well when nobody has acknowledged an urgent alert in time."
                ) with
                {
                    Default = "nobody",
                    Example = "harbour-master",
                },
                UnionOf<Recipient>.Attribute(
                    "after",
                    Forms.LengthFrom(TimeSpan.FromSeconds(10)),
                    one => one.After,
                    (one, length) => one with { After = length },
                    "In time for 'next' is within this."
                ) with
                {
                    Default = Duration.Write(Recipient.UsualAfter),
                },
                UnionOf<Recipient>.Attribute(
                    "key",
                    Secret,
                    one => (one.Way as WebhookWay)?.Key,
                    (one, key) => one with { Way = ((WebhookWay)one.Way) with { Key = key } },
                    "Name of the sentry's secret that the call is signed with (HMAC-SHA-256 over its time and body)."
                ) with
                {
                    Only = ["webhook"],
                    Default = "not signed",
                },
                UnionOf<Recipient>.Attribute(
                    "body",
                    Forms.Text(BodyTemplate.Allowed, BodyTemplate.IsValid) with
                    {
                        Example = "{ \"message\": \"{subject}\" }",
                    },
                    one => (one.Way as WebhookWay)?.Body,
                    (one, body) => one with { Way = ((WebhookWay)one.Way) with { Body = body } },
                    "What is sent, where its receiver reads no CloudEvents: a text with fields in braces."
                ) with
                {
                    Only = ["webhook"],
                    Default = "a CloudEvent",
                },
                UnionOf<Recipient>.Attribute(
                    "account",
                    Forms.Text("the name of an account"),
                    one => (one.Way as CommandWay)?.Account,
                    (one, account) => one with { Way = ((CommandWay)one.Way) with { Account = account } },
                    "The account the command runs as."
                ) with
                {
                    Only = ["command"],
                    Default = "the sentry's own",
                    Example = "skerry",
                },
            ]
        );

    /// <summary>The keys of <see cref="Telling.Pace"/>.</summary>
    public static Shape<Pace> PaceKeys { get; } =
        new(
            KeyOf<Pace>.Value(
                "gather",
                Forms.Length,
                pace => pace.Gather,
                (pace, length) => pace with { Gather = length },
                "What else fails within this after a first message becomes one message."
            ) with
            {
                Default = Duration.Write(new Pace().Gather),
            },
            KeyOf<Pace>.Value(
                "steady",
                Forms.Length,
                pace => pace.Steady,
                (pace, length) => pace with { Steady = length },
                "An alert is over once nothing was wrong for so long; longer when it came back before."
            ) with
            {
                Default = Duration.Write(new Pace().Steady),
            },
            KeyOf<Pace>.Value(
                "remind",
                Forms.Length,
                pace => pace.Remind,
                (pace, length) => pace with { Remind = length },
                "An alert that goes on and that nobody has acknowledged is told again after this; 0: it is not."
            ) with
            {
                Default = Duration.Write(new Pace().Remind),
            },
            KeyOf<Pace>.Value(
                "often",
                Forms.Whole(2, 1000),
                pace => pace.Often,
                (pace, most) => pace with { Often = most },
                "A service that fails so many times within often-within fails often, though it is restarted each time."
            ) with
            {
                Default = new Pace().Often.ToString(CultureInfo.InvariantCulture),
            },
            KeyOf<Pace>.Value(
                "often-within",
                Forms.LengthFrom(TimeSpan.FromSeconds(1)),
                pace => pace.OftenWithin,
                (pace, length) => pace with { OftenWithin = length },
                "See often."
            ) with
            {
                Default = Duration.Write(new Pace().OftenWithin),
            },
            KeyOf<Pace>.Value(
                "most-an-hour",
                Forms.Whole(1, 1000),
                pace => pace.MostAnHour,
                (pace, most) => pace with { MostAnHour = most },
                "So many messages a recipient gets within an hour; what is above waits, and is counted."
            ) with
            {
                Default = new Pace().MostAnHour.ToString(CultureInfo.InvariantCulture),
            }
        );

    /// <summary>What recipients say of each other; a mistake each.</summary>
    public static IEnumerable<(int At, string Key, string Found, string Allowed)> Mistakes(
        ImmutableArray<Recipient> all,
        bool hasMail
    )
    {
        for (var i = 0; i < all.Length; i++)
        {
            var one = all[i];
            if (all.Take(i).Any(other => other.Name == one.Name))
                yield return (i, "name", $"'{one.Name}' a second time", "a name of its own for each");
            if (one.Next is { } next && (next == one.Name || all.All(other => other.Name != next)))
                yield return (
                    i,
                    "next",
                    $"'{next}'",
                    $"the name of another recipient{(all.Length > 1 ? $": {string.Join(" | ", all.Where(other => other.Name != one.Name).Select(other => other.Name))}" : "")}"
                );
            if (one.Way is MailWay && !hasMail)
                yield return (
                    i,
                    "mail",
                    $"'{((MailWay)one.Way).Address}' without a mail server",
                    "mail: { server: …, from: … }"
                );
        }
    }

    /// <summary>Who is told of what and how, as a sentence.</summary>
    public static string InWords(Recipient one)
    {
        var whom = (one.Services, one.Labels) switch
        {
            _ when one.ByDefinition => "services whose definitions name it",
            ({ IsEmpty: true }, { IsEmpty: true }) => "all services",
            (var services, { IsEmpty: true }) => string.Join(", ", services),
            ({ IsEmpty: true }, var labels) => $"services labelled {string.Join(", ", labels)}",
            var (services, labels) =>
                $"{string.Join(", ", services)}, and services labelled {string.Join(", ", labels)}",
        };
        var what = one.About.IsEmpty ? "" : $" ({string.Join(", ", one.About)})";
        var urgent = one.UrgentOnly ? ", only what is urgent" : "";
        var hours = one.Hours is { } kept ? $"; what can wait is kept for {HoursOfDay.Write(kept)}" : "";
        var next = one.Next is { } other
            ? $"; {other} is told as well when nobody has acknowledged within {Duration.Write(one.After)}"
            : "";
        return $"{one.Way.InWords}, about {whom}{what}{urgent}{hours}{next}";
    }

    private static Attribute<Recipient> Texts(
        string name,
        Form<string> item,
        Func<Recipient, ImmutableArray<string>> get,
        Func<Recipient, ImmutableArray<string>, Recipient> set,
        string about,
        string @default
    ) =>
        new(name, about)
        {
            Type = KeyType.Texts,
            Default = @default,
            Set = (map, one) => set(one, map.Texts(name, item)),
            Give = one =>
                get(one) is { IsEmpty: false } texts
                    ? new ListNode([.. texts.Select(text => new ScalarNode(text))])
                    : null,
        };

    private static TimeSpan Time(Group group) =>
        TimeSpan.FromMinutes(
            (int.Parse(group.ValueSpan[..2], CultureInfo.InvariantCulture) * 60)
                + int.Parse(group.ValueSpan[3..], CultureInfo.InvariantCulture)
        );

    private static string Write(TimeSpan time) =>
        string.Create(CultureInfo.InvariantCulture, $"{(int)time.TotalHours:00}:{time.Minutes:00}");

    [GeneratedRegex(@"^[A-Za-z_][A-Za-z0-9_]{0,63}\z")]
    private static partial Regex SecretName();

    [GeneratedRegex(
        @"^((?<first>mon|tue|wed|thu|fri|sat|sun)(-(?<last>mon|tue|wed|thu|fri|sat|sun))? )?(?<from>[0-2]\d:[0-5]\d)-(?<to>[0-2]\d:[0-5]\d)\z"
    )]
    private static partial Regex HoursPattern();
}
