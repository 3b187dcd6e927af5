using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Engine.Keepers;

namespace CalmSentry.Inspection.Checks;

/// <summary>Whether this host can give a program the display of its own that it is to have.</summary>
internal static class WindowChecks
{
    public static IEnumerable<Finding> Look(Definition definition)
    {
        if (definition.Program.Window is not null && Displays.MissingFor(definition.Program) is var (why, what))
            yield return new(
                FindingCode.WindowNotPossible,
                Severity.Blocks,
                $"It cannot have a display of its own: {why}.",
                "It could not be launched.",
                what,
                OnlyNow: true
            );
    }

    /// <summary>Shared libraries of programs that draw windows: what speaks with a display, on which every toolkit rests.</summary>
    private static readonly string[] Speakers = ["libX11.so", "libxcb.so", "libwayland-client.so"];

    /// <summary>Of what a loader lists (ld.so(8), --list): it draws windows.</summary>
    public static bool Draws(string libraries) =>
        Speakers.Any(speaker => libraries.Contains(speaker, StringComparison.Ordinal));

    /// <param name="file">The program that draws windows.</param>
    public static Finding? Unseen(Definition definition, string file) =>
        definition.Program.Window is null && !definition.Program.Environment.ContainsKey("DISPLAY")
            ? new(
                FindingCode.WindowMissing,
                Severity.Risk,
                $"{file} draws windows, and the service has no display.",
                "It may end at once, or show what it asks to nobody.",
                $"calm adjust {definition.Name} --window 1280x800; 'calm window {definition.Name} --to FILE.png' shows it then"
            )
            : null;
}
