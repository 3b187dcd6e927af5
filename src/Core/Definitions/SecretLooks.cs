using System.Globalization;
using System.Text.RegularExpressions;

namespace CalmSentry.Core.Definitions;

/// <summary>Values that look like secrets and stand where everybody can read them.</summary>
public static partial class SecretLooks
{
    /// <summary>What is shown instead of one.</summary>
    public const string Mask = "****";

    /// <summary>
    /// Where each stands: <c>the variable LEDGER_PASSWORD</c>, <c>the argument --token</c>. Never the value itself.
    /// </summary>
    public static IEnumerable<string> In(ProgramPart program) =>
        program
            .Environment.Where(pair => Looks(pair.Key, pair.Value))
            .Select(pair => $"the variable {pair.Key}")
            .Concat(Among(program.Arguments).Select(found => found.Where));

    /// <summary>A value as it is shown, by its dotted key.</summary>
    /// <param name="key"><c>program.environment.LEDGER_PASSWORD</c></param>
    public static string Masked(string key, string value, ProgramPart program)
    {
        const string variables = "program.environment.",
            arguments = "program.arguments[";
        if (key.StartsWith(variables, StringComparison.Ordinal))
            return MaskedVariable(key[variables.Length..], value);
        return
            key.StartsWith(arguments, StringComparison.Ordinal)
            && int.TryParse(key[arguments.Length..^1], NumberStyles.None, CultureInfo.InvariantCulture, out var index)
            ? Masked(program.Arguments)[index]
            : value;
    }

    /// <summary>The value of a variable as it is shown.</summary>
    public static string MaskedVariable(string name, string value) => Looks(name, value) ? Mask : value;

    /// <summary>Words of a command line as they are shown.</summary>
    public static IReadOnlyList<string> Masked(IReadOnlyList<string> words)
    {
        var found = Among(words).ToList();
        if (found.Count == 0)
            return words;
        var shown = words.ToArray();
        foreach (var (index, from, _) in found)
            shown[index] = shown[index][..from] + Mask;
        return shown;
    }

    /// <summary>Where each begins within its word.</summary>
    private static IEnumerable<(int Index, int From, string Where)> Among(IReadOnlyList<string> arguments)
    {
        for (var i = 0; i < arguments.Count; i++)
        {
            var argument = arguments[i];
            var equals = argument.IndexOf('=', StringComparison.Ordinal);
            if (equals > 0 ? Looks(argument[..equals].TrimStart('-'), argument[(equals + 1)..]) : LooksItself(argument))
                yield return (
                    i,
                    equals > 0 ? equals + 1 : 0,
                    equals > 0 && SecretName().IsMatch(argument[..equals])
                        ? $"the argument {argument[..equals]}"
                        : $"argument {i + 1}"
                );
            else if (
                equals < 0
                && argument.StartsWith('-')
                && i + 1 < arguments.Count
                && Looks(argument.TrimStart('-'), arguments[i + 1])
            )
                yield return (i + 1, 0, $"the argument after {argument}");
        }
    }

    private static bool Looks(string name, string value) =>
        LooksItself(value)
        || (
            SecretName().IsMatch(name)
            && value.Length > 0
            && !value.StartsWith('/')
            && !name.EndsWith("FILE", StringComparison.OrdinalIgnoreCase)
        )
        || (
            KeyName().IsMatch(name)
            && value.Length >= 16
            && value.Any(char.IsAsciiDigit)
            && value.Any(char.IsAsciiLetter)
            && !value.Any(c => c is '/' or ' ')
        );

    private static bool LooksItself(string value) =>
        value.Contains("-----BEGIN ", StringComparison.Ordinal) || PasswordInAddress().IsMatch(value);

    [GeneratedRegex(
        @"(^|[_.-])(pass(word|wd|phrase)?|pwd|secret|token|api[_-]?key|private[_-]?key|access[_-]?key|credentials?)($|[_.-])",
        RegexOptions.IgnoreCase | RegexOptions.CultureInvariant
    )]
    private static partial Regex SecretName();

    [GeneratedRegex(@"[_-]key$", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex KeyName();

    [GeneratedRegex(
        @"^[a-z][a-z0-9+.-]*://[^/\s:@]*:[^/\s@]+@",
        RegexOptions.IgnoreCase | RegexOptions.CultureInvariant
    )]
    private static partial Regex PasswordInAddress();
}
