using System.Collections.Immutable;
using System.Text.RegularExpressions;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Core.Copies;

/// <summary>A word of a command line, as it stands and as a path.</summary>
/// <param name="Option">Of <c>--config=here</c> the part up to the equals sign; else empty.</param>
/// <param name="Value">The rest.</param>
/// <param name="Paths">
/// What the rest means as a path: absolute, links followed, from where whoever gave it stood. More than one where that is not known
/// exactly, for a process may have gone elsewhere since; none where it can be no path.
/// </param>
/// <param name="IsFile">Something is there.</param>
public sealed record CopyWord(string Option, string Value, ImmutableArray<string> Paths, bool IsFile)
{
    /// <summary>Whether both mean the same: the same file, or, where no file is meant, the same word.</summary>
    public bool Means(CopyWord other) =>
        Option == other.Option
        && (Paths.Any(other.Paths.Contains) || (Value == other.Value && !IsFile && !other.IsFile));

    /// <summary>Splits a word at the equals sign of an option.</summary>
    public static (string Option, string Value) Split(string word) =>
        word.StartsWith('-') && word.IndexOf('=', StringComparison.Ordinal) is > 0 and var at
            ? (word[..(at + 1)], word[(at + 1)..])
            : ("", word);
}

/// <summary>What a service would run.</summary>
/// <param name="Executable">The file that is executed in the end, links followed: of a script its interpreter.</param>
/// <param name="Words">What follows it, the script among them.</param>
/// <param name="Script">Which of the words the script is; -1: there is none.</param>
/// <param name="IsInline">The program itself, or a module's name, stands among the words.</param>
/// <param name="IsHostTool">The executable lies where the host keeps its own programs.</param>
/// <param name="Ports">Those it is known to want.</param>
public sealed record CopyWanted(
    string Executable,
    ImmutableArray<CopyWord> Words,
    int Script,
    bool IsInline,
    bool IsHostTool,
    ImmutableArray<int> Ports
);

/// <summary>Who a process belongs to, as far as that counts here.</summary>
public enum CopyOwner
{
    /// <summary>Root, the service's account, whoever asks, or an account that can become root.</summary>
    Kin,

    /// <summary>Any other account.</summary>
    Stranger,
}

/// <summary>A process, with what it and those below it hold.</summary>
/// <param name="Words">What follows its first word.</param>
/// <param name="ShowsTitle">It has written a title over its arguments, so that nobody can read them.</param>
/// <param name="HoldsPort">It listens on a port of the service's.</param>
/// <param name="HoldsOtherPorts">It listens on ports, and on none of the service's.</param>
/// <param name="HoldsLock">It has a lock on a file of the service's.</param>
/// <param name="WritesFile">It has a file of the service's open for writing.</param>
/// <param name="IsThere">Its directory is the service's.</param>
/// <param name="IsLostRun">The sentry began it itself, for a service that is not in the store any more.</param>
public sealed record CopySight(
    string Executable,
    ImmutableArray<CopyWord> Words,
    bool ShowsTitle,
    CopyOwner Owner,
    bool HoldsPort = false,
    bool HoldsOtherPorts = false,
    bool HoldsLock = false,
    bool WritesFile = false,
    bool IsThere = false,
    bool IsLostRun = false
);

/// <summary>What a process is beside a service.</summary>
public enum CopyVerdict
{
    /// <summary>Nothing: another program.</summary>
    None,

    /// <summary>The same tool of the host's, which may be run for anything.</summary>
    Tool,

    /// <summary>The same, of a stranger's, and in nobody's way: it is only named.</summary>
    Named,

    /// <summary>The same program with other arguments.</summary>
    OtherArguments,

    /// <summary>A second copy: two at once would be in each other's way.</summary>
    InTheWay,
}

/// <summary>
/// What counts as a copy. The same executable or interpreter with the same arguments is one, each path among them as whoever gave it
/// meant it, and in the way where it is <see cref="CopyOwner.Kin"/>'s. Of a tool of the host's that is given neither a script nor the name
/// of a file, port or socket, such as <c>sleep 1000</c>, the arguments say nothing: it must hold something of the service's. Of a stranger's
/// only the service's port counts: anybody may run what anybody can read.
/// </summary>
public static partial class CopyRule
{
    private enum Likeness
    {
        None,
        OtherArguments,

        /// <summary>The same executable, whose arguments nobody can read.</summary>
        Unknown,
        Same,
    }

    /// <summary>Whether it is the same program at all, whatever it holds.</summary>
    public static bool IsLike(CopyWanted service, CopySight seen) => Compare(service, seen) != Likeness.None;

    public static CopyVerdict Judge(CopyWanted service, CopySight seen)
    {
        var likeness = Compare(service, seen);
        if (likeness == Likeness.None)
            return CopyVerdict.None;
        if (seen.HoldsPort)
            return CopyVerdict.InTheWay;
        var named = service.IsHostTool && service.Script < 0 ? CopyVerdict.None : CopyVerdict.OtherArguments;
        if (seen.Owner == CopyOwner.Stranger)
            return likeness switch
            {
                Likeness.Same => IsBare(service) ? CopyVerdict.Tool : CopyVerdict.Named,
                Likeness.Unknown when seen.IsThere => CopyVerdict.Named,
                _ => named,
            };
        if (seen.HoldsLock || (seen.IsLostRun && likeness != Likeness.OtherArguments))
            return CopyVerdict.InTheWay;
        return likeness switch
        {
            Likeness.Same => IsBare(service) && !seen.WritesFile ? CopyVerdict.Tool : CopyVerdict.InTheWay,
            Likeness.Unknown when seen.IsThere || seen.WritesFile => CopyVerdict.InTheWay,
            // Every program of an interpreter's has the same executable, and one that listens elsewhere is another one of its kind.
            Likeness.Unknown when service.Script >= 0 || service.IsInline || IsInterpreter(service.Executable) =>
                CopyVerdict.None,
            Likeness.Unknown => seen.HoldsOtherPorts && service.Ports.Length > 0 ? named : CopyVerdict.InTheWay,
            _ => named,
        };
    }

    private static Likeness Compare(CopyWanted service, CopySight seen)
    {
        if (service.Script >= 0)
        {
            if (!IsAlike(service.Executable, seen.Executable))
                return Likeness.None;
            var script = service.Words[service.Script];
            for (var at = 0; at < Math.Min(seen.Words.Length, MostBefore); at++)
                if (seen.Words[at].Paths.Any(script.Paths.Contains))
                    return AreSame(service.Words.AsSpan()[(service.Script + 1)..], seen.Words.AsSpan()[(at + 1)..])
                        ? Likeness.Same
                        : Likeness.OtherArguments;
            return seen.ShowsTitle && seen.Executable == service.Executable ? Likeness.Unknown : Likeness.None;
        }

        if (seen.Executable != service.Executable)
            return Likeness.None;
        return AreSame(service.Words.AsSpan(), seen.Words.AsSpan()) ? Likeness.Same
            : seen.ShowsTitle ? Likeness.Unknown
            : IsInterpreter(service.Executable) ? Likeness.None // every other script of the host's
            : Likeness.OtherArguments;
    }

    /// <summary>Options of the interpreter's own that may stand before a script.</summary>
    private const int MostBefore = 16;

    private static bool AreSame(ReadOnlySpan<CopyWord> one, ReadOnlySpan<CopyWord> other)
    {
        if (one.Length != other.Length)
            return false;
        for (var i = 0; i < one.Length; i++)
            if (!one[i].Means(other[i]))
                return false;
        return true;
    }

    /// <summary>The same interpreter, or another of its kind: what one runs by hand need not be the one that a service has.</summary>
    private static bool IsAlike(string one, string other) =>
        one == other || (ScriptKind.OfInterpreter(one) is { } kind && ScriptKind.OfInterpreter(other) == kind);

    private static bool IsInterpreter(string executable) => ScriptKind.OfInterpreter(executable) is not null;

    private static bool IsBare(CopyWanted service)
    {
        if (!service.IsHostTool || service.Script >= 0 || service.IsInline)
            return false;
        for (var i = 0; i < service.Words.Length; i++)
            if (NamesSomething(service, i))
                return false;
        return true;
    }

    /// <summary>Whether a word names a file, a port or a socket.</summary>
    private static bool NamesSomething(CopyWanted service, int at)
    {
        var (option, value) = (service.Words[at].Option, service.Words[at].Value);
        return service.Words[at].IsFile
            || value.StartsWith('/')
            || value.StartsWith("./", StringComparison.Ordinal)
            || value.StartsWith("../", StringComparison.Ordinal)
            || Address().IsMatch(value)
            || (
                int.TryParse(value, out var number)
                && (
                    service.Ports.Contains(number)
                    || PortOption().IsMatch(option.Length > 0 || at == 0 ? option : service.Words[at - 1].Value)
                )
            );
    }

    [GeneratedRegex("^(?!https?://).*:[0-9]{1,5}(,.*)?$")]
    private static partial Regex Address();

    [GeneratedRegex("^--?(p|port|.*-port|listen|bind|l)=?$", RegexOptions.IgnoreCase)]
    private static partial Regex PortOption();
}
