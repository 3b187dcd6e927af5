using System.Collections.Immutable;
using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Forwarding;
using CalmSentry.Core.Telling;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Plans;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Lookout;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Telling;

namespace CalmSentry.Server.Self;

/// <summary>The sentry's own settings: etc/calm-sentry/sentry.yaml, every key of it optional.</summary>
internal sealed record Settings
{
    /// <summary>
    /// TCP port of the console on loopback; 0: any free one. Below 1024 only root takes it, so nobody else can pose as
    /// the console.
    /// </summary>
    public int Port { get; init; } = Account.OwnId == 0 ? Places.ConsolePort : Places.ConsolePortOfOthers;

    /// <summary>How long winding down all services may take before the machine goes down.</summary>
    public TimeSpan ShutdownWithin { get; init; } = PlanRoom.UsualShutdown;

    /// <summary>So many jobs are at work at once; what comes above that waits.</summary>
    public int JobsAtOnce { get; init; } = House.UsualJobs;

    /// <summary>Where the logbook is forwarded.</summary>
    public ImmutableArray<ForwardTarget> Forward { get; init; } = [];

    /// <summary>How long an entry of the logbook is kept.</summary>
    public TimeSpan LogbookFor { get; init; } = TimeSpan.FromDays(400);

    /// <summary>How many entries of the logbook are kept.</summary>
    public int LogbookMost { get; init; } = 1_000_000;

    /// <summary>Who is told of what, and how.</summary>
    public TellingSettings Telling { get; init; } = new();

    /// <summary>How often it is looked for what nobody asked about.</summary>
    public LookoutSettings Lookout { get; init; } = new();

    /// <summary>Files of certificates that the sentry itself goes by, and by which key.</summary>
    public IEnumerable<(string Key, string File)> Certificates =>
        Forward
            .Select(target => ("forward.trust", target.Trust))
            .Append(("mail.trust", Telling.Mail?.Trust))
            .Where(one => one.Item2 is not null)
            .Select(one => (one.Item1, one.Item2!));

    private const int Longest = 1 << 20;

    private static readonly Shape<Settings> LogbookKeys = new(
        KeyOf<Settings>.Value(
            "for",
            Forms.LengthFrom(TimeSpan.FromDays(1)),
            settings => settings.LogbookFor,
            (settings, length) => settings with { LogbookFor = length },
            "An entry is kept so long."
        ) with
        {
            Default = "400 d",
        },
        KeyOf<Settings>.Value(
            "most",
            Forms.Whole(1000, 100_000_000),
            settings => settings.LogbookMost,
            (settings, most) => settings with { LogbookMost = most },
            "So many entries are kept; the oldest go first."
        ) with
        {
            Default = "1000000",
        }
    );

    private static readonly Shape<Settings> Keys = new(
        KeyOf<Settings>.Value(
            "port",
            Forms.Whole(0, 65535),
            settings => settings.Port,
            (settings, port) => settings with { Port = port },
            "TCP port of the console on loopback; 0: any free one."
        ) with
        {
            Default = "737 for root, else 7373",
        },
        KeyOf<Settings>.Value(
            "shutdown-within",
            Forms.Length,
            settings => settings.ShutdownWithin,
            (settings, length) => settings with { ShutdownWithin = length },
            "How long stopping all services may take before the machine goes down."
        ) with
        {
            Default = "60 s",
        },
        KeyOf<Settings>.Value(
            "jobs-at-once",
            Forms.Whole(1, 10_000),
            settings => settings.JobsAtOnce,
            (settings, most) => settings with { JobsAtOnce = most },
            "So many jobs are at work at once; what comes above that waits for its turn."
        ) with
        {
            Default = "32 a processor",
        },
        KeyOf<Settings>.Many(
            "forward",
            ForwardTarget.Settings,
            settings => settings.Forward,
            (settings, targets) => settings with { Forward = targets },
            "Collectors of syslog that get the logbook."
        ) with
        {
            Default = "none",
        },
        KeyOf<Settings>.Many(
            "tell",
            RecipientKeys.Recipients,
            settings => settings.Telling.Tell,
            (settings, recipients) => settings with { Telling = settings.Telling with { Tell = recipients } },
            "Who is told of what needs a person."
        ) with
        {
            Default = "nobody",
        },
        KeyOf<Settings>.Map(
            "mail",
            MailSettings.Keys,
            settings => settings.Telling.Mail ?? new(),
            (settings, mail) => settings with { Telling = settings.Telling with { Mail = mail } },
            "The mail server that messages go to."
        ),
        KeyOf<Settings>.Map(
            "alerts",
            RecipientKeys.PaceKeys,
            settings => settings.Telling.Pace,
            (settings, pace) => settings with { Telling = settings.Telling with { Pace = pace } },
            "How what happens is gathered into messages."
        ),
        KeyOf<Settings>.Map(
            "report",
            ReportSettings.Keys,
            settings => settings.Telling.Report ?? new(),
            (settings, report) => settings with { Telling = settings.Telling with { Report = report } },
            "The report of what happened, to people."
        ),
        KeyOf<Settings>.Map(
            "signal",
            SignalSettings.Keys,
            settings => settings.Telling.Signal ?? new(),
            (settings, signal) => settings with { Telling = settings.Telling with { Signal = signal } },
            "A sign of life: an address outside that is asked at a beat."
        ),
        KeyOf<Settings>.Map(
            "lookout",
            LookoutSettings.Keys,
            settings => settings.Lookout,
            (settings, lookout) => settings with { Lookout = lookout },
            "How often it is looked for what nobody asked about."
        ),
        KeyOf<Settings>.Value(
            "console-at",
            Forms.Url,
            settings => settings.Telling.ConsoleAt,
            (settings, address) => settings with { Telling = settings.Telling with { ConsoleAt = address } },
            "Address at which recipients of messages reach the console: messages then have a link to it."
        ) with
        {
            Default = "none: it is served on loopback alone",
            Example = "https://quay.skerry.example/sentry",
        },
        KeyOf<Settings>.Map(
            "logbook",
            LogbookKeys,
            settings => settings,
            (_, settings) => settings,
            "How much of the logbook is kept. What goes leaves an entry with the last hash: the chain holds."
        )
    )
    {
        Check = (map, settings) =>
        {
            foreach (var (at, name) in (settings.Telling.Report?.To ?? []).Index())
                if (settings.Telling.Tell.All(one => one.Name != name))
                    map.Contradicts(
                        string.Create(CultureInfo.InvariantCulture, $"report.to[{at}]"),
                        $"'{name}'",
                        $"names of recipients under tell: {string.Join(" | ", settings.Telling.Tell.Select(one => one.Name))}"
                    );
            foreach (
                var (at, key, found, allowed) in RecipientKeys.Mistakes(
                    settings.Telling.Tell,
                    settings.Telling.Mail is not null
                )
            )
                map.Contradicts(string.Create(CultureInfo.InvariantCulture, $"tell[{at}].{key}"), found, allowed);
        },
    };

    /// <summary>Keys that hold from the sentry's next start on; all others hold as soon as the file is changed.</summary>
    public static ImmutableArray<string> AtStart { get; } = ["port"];

    /// <summary>All keys at the top of the file.</summary>
    public static IEnumerable<string> Names => Keys.Keys.Select(key => key.Name);

    /// <returns>What is in the file; empty: there is none.</returns>
    /// <exception cref="IOException">It cannot be read.</exception>
    public static string TextOf(string file) =>
        File.Exists(file) ? System.Text.Encoding.UTF8.GetString(Held.Head(Ground.Settings, file, Longest)) : "";

    /// <summary>The keys whose values are otherwise in one text than in another, both without a mistake.</summary>
    public static ImmutableArray<string> Changed(string before, string now)
    {
        var (was, @is) = (Values(before), Values(now));
        return
        [
            .. was
                .Keys.Union(@is.Keys)
                .Where(key => was.GetValueOrDefault(key) != @is.GetValueOrDefault(key))
                .Order(StringComparer.Ordinal),
        ];

        static Dictionary<string, string> Values(string text) =>
            YamlNodes.Read(text).Node is MapNode map
                ? map.Entries.ToDictionary(one => one.Key, one => JsonNodes.Write(one.Value))
                : [];
    }

    /// <returns>The settings, or null with what is wrong; and where each key stands.</returns>
    public static (Settings? Settings, IReadOnlyList<DefinitionError> Errors, Node Whole) Read(string text)
    {
        var whole = new MapNode([]);
        if (text.Split('\n').All(line => line.TrimStart() is "" or ['#', ..]))
            return (new(), [], whole);
        var (node, error) = YamlNodes.Read(text);
        if (error is not null)
            return (null, [error], whole);
        if (node is NullNode or ScalarNode { Text.Length: 0 })
            return (new(), [], whole);
        if (node is not MapNode map)
            return (null, [new("settings", node!.InWords, "keys with values", node.Place)], whole);
        var errors = new List<DefinitionError>();
        var settings = Keys.Read(new MapReader(map, "", errors, ImmutableHashSet.CreateBuilder<string>()), new());
        return (errors.Count == 0 ? settings : null, errors, map);
    }
}
