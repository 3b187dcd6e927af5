namespace CalmSentry.Contract.Api;

/// <summary>The keys at the top of the sentry's settings: by them a file is known for what it is.</summary>
public static class SettingsKeys
{
    public static IReadOnlyList<string> All { get; } =
    [
        "port",
        "shutdown-within",
        "jobs-at-once",
        "forward",
        "tell",
        "mail",
        "alerts",
        "report",
        "signal",
        "lookout",
        "console-at",
        "logbook",
    ];
}

/// <summary>What the reading of settings came to, before they are put in place.</summary>
/// <param name="Clear">There is no mistake, and nothing that they name is missing.</param>
/// <param name="Said">What it came to, in a sentence.</param>
/// <param name="Errors">Mistakes; when there are any, nothing else was looked at.</param>
/// <param name="Missing">What they name and this host does not have.</param>
/// <param name="AtOnce">Keys that are otherwise than what holds now, and would hold as soon as the file is in place.</param>
/// <param name="AtStart">Those that would hold from the sentry's next start on.</param>
public sealed record SettingsCheckView(
    bool Clear,
    string Said,
    IReadOnlyList<Mistake> Errors,
    IReadOnlyList<MissingView> Missing,
    IReadOnlyList<string> AtOnce,
    IReadOnlyList<string> AtStart
);

/// <summary>Something that is named and is not there.</summary>
/// <param name="Where">The dotted key that names it.</param>
/// <param name="Line">Its place in the file, counted from 1.</param>
/// <param name="Seen">What is not there, as a clause.</param>
/// <param name="Mend">What to do or type.</param>
public sealed record MissingView(string Where, int? Line, int? Column, string Seen, string Mend);
