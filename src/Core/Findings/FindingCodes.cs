using System.Collections.Frozen;

namespace CalmSentry.Core.Findings;

/// <summary>Every code a finding may have, with the key of a definition that it is about: a closed list.</summary>
public static class FindingCodes
{
    private static readonly FrozenDictionary<string, string> Keys = new Dictionary<string, string>(
        StringComparer.Ordinal
    )
    {
        ["name-taken"] = "name",
        ["title-taken"] = "title",
        ["program-missing"] = "program.path",
        ["program-is-directory"] = "program.path",
        ["program-not-a-file"] = "program.path",
        ["program-not-executable"] = "program.path",
        ["program-format"] = "program.path",
        ["program-machine"] = "program.path",
        ["library-missing"] = "program.path",
        ["module-missing"] = "program.path",
        ["script-syntax"] = "program.path",
        ["same-program"] = "program.path",
        ["copy-running"] = "program.path",
        ["copy-with-other-arguments"] = "program.path",
        ["other-start"] = "program.path",
        ["interpreter-missing"] = "program.with",
        ["file-unreadable"] = "program.arguments",
        ["port-taken"] = "program.arguments",
        ["directory-missing"] = "program.directory",
        ["directory-unreachable"] = "program.directory",
        ["directory-read-only"] = "program.directory",
        ["secret-in-plain"] = "program.environment",
        ["secret-missing"] = "program.secrets",
        ["secret-file-not-possible"] = "program.secrets",
        ["pid-file-unwritable"] = "program.pid-file",
        ["off-command-missing"] = "program.off",
        ["account-needed"] = "identity.account",
        ["account-missing"] = "identity.account",
        ["account-not-permitted"] = "identity.account",
        ["account-not-possible"] = "identity.account",
        ["account-cannot-run"] = "identity.account",
        ["account-is-root"] = "identity.account",
        ["account-is-a-person"] = "identity.account",
        ["account-is-powerful"] = "identity.account",
        ["group-missing"] = "identity.groups",
        ["priority-not-possible"] = "resources.priority",
        ["processors-missing"] = "resources.processors",
        ["memory-over-machine"] = "resources.memory",
        ["memory-under-rehearsal"] = "resources.memory",
        ["open-files-too-many"] = "resources.open-files",
        ["limit-not-possible"] = "resources",
        ["needs-circle"] = "begin.needs",
        ["need-unknown"] = "begin.needs",
        ["need-never-begins"] = "begin.needs",
        ["need-not-at-boot"] = "begin.needs",
        ["no-proof"] = "begin.proof",
        ["wind-down-short"] = "wind-down",
        ["shutdown-short"] = "wind-down",
    }.ToFrozenDictionary(StringComparer.Ordinal);

    public static IEnumerable<string> All => Keys.Keys.Order(StringComparer.Ordinal);

    /// <exception cref="KeyNotFoundException">There is no such code.</exception>
    public static string KeyOf(string code) => Keys[code];
}
