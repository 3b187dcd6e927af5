namespace CalmSentry.Tests.Campaign;

/// <summary>A service under trial.</summary>
/// <param name="Counts">Its lines are numbered, each run from 0.</param>
/// <param name="More">Further lines of its definition.</param>
internal sealed record Member(string Name, string Temper, bool Counts, string More)
{
    /// <summary>It has files of its own, and gets new ones now and then.</summary>
    public bool Swaps { get; init; }

    /// <summary>It runs at a terminal that is joined now and then.</summary>
    public bool HasTerminal => Name == Fleet.AtTerminal || Asks;

    /// <summary>It asks at its terminal, and is known to.</summary>
    public bool Asks => Temper == "asks";

    /// <summary>It has a display of its own, where one can be had.</summary>
    public bool Shows =>
        Temper == "shows"
        && Environment.UserName == "root"
        && File.Exists("/usr/bin/Xvnc")
        && File.Exists("/usr/bin/wish");

    /// <summary>It is run at its moments, each for one of them at most.</summary>
    public bool IsJob => Temper == "job";

    /// <summary>It numbers the lines of a log file of its own, which it moves aside now and then.</summary>
    public bool Rotates => Temper == "rotates";

    /// <param name="days">A file with days that jobs leave out.</param>
    public string Definition(string account, string script, string witness, string days) =>
        $$"""
            name: {{Name}}
            program:
              path: {{script}}
              arguments: [{{Name}}, {{Temper}}, {{witness}}]
              kind: {{(IsJob ? "periodic" : Temper == "detaches" ? "detaches" : "stays")}}{{(HasTerminal ? "\n  terminal: 100x30" : "")}}{{(
                Asks ? "\n  answers: [{ question: \" taken? \", with: \"yes\\n\", most: 1000 }]" : ""
            )}}{{(Shows ? "\n  window: 400x300" : "")}}
            identity: { account: {{account}} }
            recover: { pause: { first: 50 ms, grow: 1, spread: 50 % }, hold: { ends: 0 }{{(
                IsJob ? "" : ", then: [{ command: [/bin/true], after: 2 }]"
            )}} }
            wind-down: [{ signal: TERM, wait: 600 ms }]
            output: { turn-over: { at: 1 MiB }{{(
                Rotates ? $", files: {{ own: {OwnLogIn(witness)}/own.log }}" : ""
            )}} }
            {{More.Replace(Days, $"'{days.Replace("'", "''", StringComparison.Ordinal)}'", StringComparison.Ordinal)}}
            """;

    /// <summary>Where its own log file lies.</summary>
    public string OwnLogIn(string witness) => $"{witness}/{Name}";

    /// <summary>In the place of the file with the days that are left out.</summary>
    private const string Days = "DAYS";

    public static Member Job(string name, string ifRunning) =>
        new(name, "job", false, $"rhythm: [{{ run: every 10 s, if-running: {ifRunning}, except: {Days} }}]");
}

/// <summary>Some two dozen services of different temper; some need others.</summary>
internal static class Fleet
{
    /// <summary>A file with days that all jobs leave out.</summary>
    public static string DaysIn(string root) => Path.Combine(root, "harbour days");

    public const string AtTerminal = "harbour-desk";

    private const string UpFor = "begin: { proof: { up-for: 50 ms } }";

    public static IReadOnlyList<Member> All { get; } =
    [
        new("quay-lamps", "still", false, UpFor) { Swaps = true },
        new("tide-gauge", "counts", true, UpFor),
        new("gate-counter", "falls", true, UpFor) { Swaps = true },
        new("berth-relay", "dies", true, UpFor),
        new("fog-horn", "stubborn", true, UpFor),
        new("fare-ledger", "slow", false, UpFor),
        new("yard-tree", "tree", true, UpFor),
        new("ticket-spooler", "leaves", false, UpFor),
        new("buoy-watch", "wanders", true, UpFor),
        new("tug-radio", "detaches", false, UpFor),
        new("departure-board", "ready", false, "begin: { proof: { output: ready, within: 10 s } }"),
        new("cargo-list", "chatters", true, UpFor),
        new("harbour-web", "still", false, "begin: { needs: [{ service: fare-ledger }], proof: { up-for: 50 ms } }"),
        new("pilot-desk", "counts", true, "begin: { needs: [{ service: departure-board }], proof: { up-for: 50 ms } }"),
        new("crane-log", "falls", true, UpFor),
        new("lock-keeper", "slow", false, UpFor),
        new("ferry-feed", "counts", true, UpFor) { Swaps = true },
        new("night-watch", "tree", true, UpFor),
        new("weather-feed", "falls", true, "begin: { needs: [{ service: tide-gauge }], proof: { up-for: 50 ms } }"),
        new("customs-desk", "still", false, UpFor),
        Member.Job("tide-pull", "pass"),
        Member.Job("fare-export", "queue"),
        Member.Job("chart-refresh", "take-over"),
        new("gate-log", "rotates", false, UpFor),
        new(AtTerminal, "counts", false, UpFor),
        new("sluice-log", "rotates", false, UpFor),
        new("berth-clerk", "asks", false, UpFor),
        new("ticket-desk", "shows", false, UpFor),
    ];
}
