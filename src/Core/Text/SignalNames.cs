using System.Collections.Frozen;

namespace CalmSentry.Core.Text;

/// <summary>The signals a wind-down may send (signal(7)), by name without SIG, with their Linux numbers.</summary>
public static class SignalNames
{
    public static FrozenDictionary<string, int> Numbers { get; } =
        new Dictionary<string, int>(StringComparer.Ordinal)
        {
            ["HUP"] = 1,
            ["INT"] = 2,
            ["QUIT"] = 3,
            ["ABRT"] = 6,
            ["KILL"] = 9,
            ["USR1"] = 10,
            ["USR2"] = 12,
            ["ALRM"] = 14,
            ["TERM"] = 15,
            ["CONT"] = 18,
            ["WINCH"] = 28,
        }.ToFrozenDictionary(StringComparer.Ordinal);

    /// <summary>The signals a program may end by, those that nobody sends on purpose included.</summary>
    public static FrozenDictionary<string, int> Ends { get; } =
        new Dictionary<string, int>(Numbers, StringComparer.Ordinal)
        {
            ["ILL"] = 4,
            ["TRAP"] = 5,
            ["BUS"] = 7,
            ["FPE"] = 8,
            ["SEGV"] = 11,
            ["PIPE"] = 13,
            ["XCPU"] = 24,
            ["XFSZ"] = 25,
            ["SYS"] = 31,
        }.ToFrozenDictionary(StringComparer.Ordinal);

    /// <summary>The name of a signal as somebody writes it: <c>SIGTERM</c> and <c>term</c> are TERM, too.</summary>
    public static string Short(string written)
    {
        var name = written.ToUpperInvariant();
        return name.StartsWith("SIG", StringComparison.Ordinal) ? name[3..] : name;
    }
}
