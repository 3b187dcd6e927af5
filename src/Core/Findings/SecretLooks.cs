using System.Text.RegularExpressions;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Core.Findings;

/// <summary>Values that look like secrets and stand where everybody can read them.</summary>
public static partial class SecretLooks
{
    /// <summary>
    /// Where each stands: <c>the variable LEDGER_PASSWORD</c>, <c>the argument --token</c>. Never the value itself.
    /// </summary>
    public static IEnumerable<string> In(ProgramPart program)
    {
        foreach (var (name, value) in program.Environment)
            if (Looks(name, value))
                yield return $"the variable {name}";
        for (var i = 0; i < program.Arguments.Length; i++)
        {
            var argument = program.Arguments[i];
            var equals = argument.IndexOf('=', StringComparison.Ordinal);
            if (equals > 0 ? Looks(argument[..equals].TrimStart('-'), argument[(equals + 1)..]) : LooksItself(argument))
                yield return equals > 0 && SecretName().IsMatch(argument[..equals])
                    ? $"the argument {argument[..equals]}"
                    : $"argument {i + 1}";
            else if (
                equals < 0
                && argument.StartsWith('-')
                && i + 1 < program.Arguments.Length
                && Looks(argument.TrimStart('-'), program.Arguments[i + 1])
            )
                yield return $"the argument after {argument}";
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
