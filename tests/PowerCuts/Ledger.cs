using System.Text.Json;

namespace CalmSentry.Tests.PowerCuts;

/// <summary>What was asked for and told as done, and what must hold of it after each boot.</summary>
internal sealed class Ledger
{
    private const string Lost = "machine-lost";

    /// <summary>
    /// What is so, by what it is about: what was last told (null: nothing yet), and what was asked for since without an
    /// answer.
    /// </summary>
    private readonly Dictionary<string, (string? Told, List<string> Open)> facts = [];
    private readonly Dictionary<string, (long Run, bool Ended)> runs = [];
    private readonly HashSet<string> begun = [];
    private readonly Dictionary<string, long> highest = [];

    public List<string> Broken { get; } = [];

    public int Told { get; private set; }

    public int Runs => begun.Count;

    public void Break(string what) => Broken.Add(what);

    /// <param name="line">A line of the machine.</param>
    public void Hear(int boot, string line)
    {
        switch (line.Split(' ', 4))
        {
            case ["@", "asking", var verb, .. var rest] when Fact(verb, rest.FirstOrDefault("")) is var (about, value):
                Of(about).Open.Add(value);
                break;
            case ["@", "told", var verb, .. var rest]:
                Told++;
                TellRun(verb, rest.FirstOrDefault("").Split(' '));
                if (Fact(verb, rest.FirstOrDefault("")) is var (what, now))
                    facts[what] = (now, []);
                break;
            case ["@", "refused", var verb, var name, ..] when Fact(verb, name) is var (about, value):
                _ = Of(about).Open.Remove(value);
                break;
            case ["@", "up", var exit] when exit != "0":
                Break($"boot {boot}: the sentry does not answer ({exit})");
                break;
            case ["@", "list", ..]:
                Services(boot, Json(line, 2));
                break;
            case ["@", "runs", var service, ..]:
                History(boot, service, Json(line, 3));
                break;
            case ["@", "accounts", ..]:
                var permitted = Json(line, 2)
                    .EnumerateArray()
                    .Any(one => Text(one, "name") == "daemon" && one.GetProperty("permitted").GetBoolean());
                Must(boot, "daemon", permitted ? "permit" : "forbid");
                break;
            case ["@", "secrets", ..]:
                var there = Json(line, 2).EnumerateArray().Select(one => Text(one, "key")).ToHashSet();
                foreach (var key in facts.Keys.Where(key => key.StartsWith("KEY", StringComparison.Ordinal)).ToList())
                    Must(boot, key, there.Contains(key) ? "there" : "gone");
                break;
            case ["@", "logbook", ..]:
                Break($"boot {boot}: {line}");
                break;
            case ["began", var name, var number, ..]:
                if (!begun.Add($"{name} {number}"))
                    Break($"boot {boot}: {name}'s run {number} began twice");
                highest[name] = Math.Max(
                    highest.GetValueOrDefault(name),
                    long.Parse(number, System.Globalization.CultureInfo.InvariantCulture)
                );
                break;
            case ["doubled", ..]:
                Break($"boot {boot}: {line}");
                break;
        }
    }

    private void TellRun(string verb, string[] words)
    {
        if (verb is not ("start" or "stop" or "restart") || words is not [var name, var number, ..])
            return;
        var run = long.Parse(number, System.Globalization.CultureInfo.InvariantCulture);
        runs[name] = (run, verb == "stop");
    }

    /// <summary>What a change is about, and what it makes of it.</summary>
    private static (string About, string Value)? Fact(string verb, string words) =>
        (verb, words.Split(' ')) switch
        {
            ("title", [var name, var number, ..]) => ($"title of {name}", $"Nr {number}"),
            ("wrap", [var name, ..]) => (name, "there"),
            ("unwrap", [var name, ..]) => (name, "gone"),
            ("permit" or "forbid", [var account, ..]) => (account, verb),
            ("secret", [var key, ..]) => (key, "there"),
            _ => null,
        };

    private (string? Told, List<string> Open) Of(string about)
    {
        if (!facts.TryGetValue(about, out var fact))
            facts[about] = fact = (null, []);
        return fact;
    }

    private void Services(int boot, JsonElement list)
    {
        var services = list.EnumerateArray().ToDictionary(one => Text(one, "name")!);
        foreach (var about in facts.Keys.Where(key => key.Contains('-') && !key.Contains(' ')).ToList())
            Must(boot, about, services.ContainsKey(about) ? "there" : "gone");
        foreach (var about in facts.Keys.Where(key => key.StartsWith("title of ", StringComparison.Ordinal)).ToList())
            if (services.TryGetValue(about["title of ".Length..], out var one))
                Must(boot, about, Text(one, "title")!);
    }

    private void History(int boot, string service, JsonElement list)
    {
        var known = list.EnumerateArray().ToDictionary(run => run.GetProperty("run").GetInt64());
        if (runs.TryGetValue(service, out var told))
        {
            if (!known.TryGetValue(told.Run, out var run))
                Break($"boot {boot}: {service}'s run {told.Run} was told of, and is not on record");
            else if (told.Ended && Text(run, "outcome") is null or Lost)
                Break($"boot {boot}: {service}'s run {told.Run} was told as ended, and is {Text(run, "outcome")}");
        }

        foreach (var (number, run) in known.Where(one => one.Key <= highest.GetValueOrDefault(service)))
            if (Text(run, "outcome") is null && known.Keys.Any(later => later > number))
                Break($"boot {boot}: {service}'s run {number} has no outcome");
    }

    /// <summary>It is as was told, or as was asked for since; from here on, it is as it is seen to be.</summary>
    private void Must(int boot, string about, string seen)
    {
        if (!facts.TryGetValue(about, out var fact))
            return;
        if (fact.Told is not null && seen != fact.Told && !fact.Open.Contains(seen))
            Break($"boot {boot}: {about} was told to be {fact.Told}, and is {seen}");
        facts[about] = (seen, []);
    }

    private static JsonElement Json(string line, int words) =>
        JsonDocument.Parse(line.Split(' ', words + 1)[words]).RootElement;

    private static string? Text(JsonElement of, string key) =>
        of.TryGetProperty(key, out var value) && value.ValueKind == JsonValueKind.String ? value.GetString() : null;
}
