using System.Collections.Immutable;
using CalmSentry.Contract;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Forwarding;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Server.Definitions;

namespace CalmSentry.Server;

/// <summary>The sentry's own settings: etc/calm-sentry/sentry.yaml, every key of it optional.</summary>
internal sealed record Settings
{
    /// <summary>
    /// TCP port of the console on loopback; 0: any free one. Below 1024 only root takes it, so nobody else can pose as
    /// the console.
    /// </summary>
    public int Port { get; init; } = Account.OwnId == 0 ? Places.ConsolePort : Places.ConsolePortOfOthers;

    /// <summary>How long winding down all services may take before the machine goes down.</summary>
    public TimeSpan ShutdownWithin { get; init; } = TimeSpan.FromSeconds(60);

    /// <summary>Where the logbook is forwarded.</summary>
    public ImmutableArray<ForwardTarget> Forward { get; init; } = [];

    private const int Longest = 1 << 20;

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
        KeyOf<Settings>.Many(
            "forward",
            ForwardTarget.Settings,
            settings => settings.Forward,
            (settings, targets) => settings with { Forward = targets },
            "Collectors of syslog that get the logbook."
        ) with
        {
            Default = "none",
        }
    );

    private static string ReadWhole(string file) => System.Text.Encoding.UTF8.GetString(Held.Head(file, Longest));

    /// <returns>The settings, or what is wrong with the file, a mistake a line.</returns>
    public static (Settings? Settings, string? Wrong) Read(string file)
    {
        var settings = new Settings();
        if (!File.Exists(file))
            return (settings, null);
        try
        {
            var (node, error) = YamlNodes.Read(ReadWhole(file));
            if (error is not null)
                return (null, $"{file}: {error}");
            if (
                node is NullNode or ScalarNode { Text.Length: 0 }
                || ReadWhole(file).Split('\n').All(line => line.TrimStart() is "" or ['#', ..])
            )
                return (settings, null);
            var errors = new List<DefinitionError>();
            if (node is not MapNode map)
                return (null, $"{file}: keys with values are wanted");
            settings = Keys.Read(new MapReader(map, "", errors, ImmutableHashSet.CreateBuilder<string>()), settings);
            return errors.Count == 0
                ? (settings, null)
                : (null, string.Join('\n', errors.Select(mistake => $"{file}: {mistake}")));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return (null, $"{file}: {error.Message}");
        }
    }
}
