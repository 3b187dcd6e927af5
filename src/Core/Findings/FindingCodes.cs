using CalmSentry.Core.Text;

namespace CalmSentry.Core.Findings;

/// <summary>What a check may find: a closed list. Its words, by which a finding is accepted: <c>name-taken</c>.</summary>
public enum FindingCode
{
    NameTaken,
    TitleTaken,
    ProgramMissing,
    ProgramIsDirectory,
    ProgramNotAFile,
    ProgramNotExecutable,
    ProgramFormat,
    ProgramMachine,
    LibraryMissing,
    ModuleMissing,
    ScriptSyntax,
    SameProgram,
    CopyRunning,
    CopyWithOtherArguments,
    CopyOfAnother,
    OtherStart,
    InterpreterMissing,
    InterpreterOtherLanguage,
    FileUnreadable,
    PortTaken,
    DirectoryMissing,
    DirectoryUnreachable,
    DirectoryReadOnly,
    StateSetApart,
    SecretInPlain,
    SecretMissing,
    SecretFileNotPossible,
    PidFileUnwritable,
    OffCommandMissing,
    ShellWord,
    AccountNeeded,
    AccountMissing,
    AccountNotPermitted,
    AccountNotPossible,
    AccountCannotRun,
    CommandUnusable,
    AccountIsRoot,
    AccountIsAPerson,
    AccountIsPowerful,
    AccountExpires,
    CertificateExpires,
    LowPort,
    RightNotPossible,
    GroupMissing,
    PriorityNotPossible,
    ProcessorsMissing,
    MemoryOverMachine,
    MemoryUnderRehearsal,
    OpenFilesTooMany,
    LimitNotPossible,
    WindowNotPossible,
    WindowMissing,
    NeedsCircle,
    NeedUnknown,
    NeedNeverBegins,
    NeedNotAtBoot,
    NoProof,
    RecipientMissing,
    SuccessTooSoon,
    LateNever,
    DaysUnreadable,
    OutputDirectoryNotPossible,
    ReopenUnused,
    WindDownShort,
    ShutdownShort,
    StepNotPossible,
    DataLeftBehind,
}

public static class FindingCodes
{
    /// <summary>Its code as it is shown, sent and accepted.</summary>
    public static string WordOf(FindingCode code) => Words.Of(code);

    /// <summary>
    /// With it nothing can be launched as things stand, so a person is not offered to overrule it. A definition's own <c>accept</c> still may:
    /// what is not there now can be there when it starts.
    /// </summary>
    public static bool PreventsLaunch(FindingCode code) =>
        code
            is FindingCode.NameTaken
                or FindingCode.ProgramMissing
                or FindingCode.ProgramIsDirectory
                or FindingCode.ProgramNotAFile
                or FindingCode.ProgramNotExecutable
                or FindingCode.ProgramFormat
                or FindingCode.ProgramMachine
                or FindingCode.LibraryMissing
                or FindingCode.InterpreterMissing
                or FindingCode.DirectoryMissing
                or FindingCode.OffCommandMissing
                or FindingCode.AccountNeeded
                or FindingCode.AccountMissing
                or FindingCode.AccountNotPermitted
                or FindingCode.GroupMissing
                or FindingCode.NeedsCircle;

    /// <summary>The dotted key of a definition that it is about.</summary>
    public static string KeyOf(FindingCode code) =>
        code switch
        {
            FindingCode.NameTaken => "name",
            FindingCode.TitleTaken => "title",
            FindingCode.ProgramMissing
            or FindingCode.ProgramIsDirectory
            or FindingCode.ProgramNotAFile
            or FindingCode.ProgramNotExecutable
            or FindingCode.ProgramFormat
            or FindingCode.ProgramMachine
            or FindingCode.LibraryMissing
            or FindingCode.ModuleMissing
            or FindingCode.ScriptSyntax
            or FindingCode.SameProgram
            or FindingCode.CopyRunning
            or FindingCode.CopyWithOtherArguments
            or FindingCode.CopyOfAnother
            or FindingCode.OtherStart => "program.path",
            FindingCode.InterpreterMissing or FindingCode.InterpreterOtherLanguage => "program.with",
            FindingCode.FileUnreadable
            or FindingCode.PortTaken
            or FindingCode.ShellWord
            or FindingCode.CertificateExpires => "program.arguments",
            FindingCode.DirectoryMissing
            or FindingCode.DirectoryUnreachable
            or FindingCode.DirectoryReadOnly
            or FindingCode.StateSetApart => "program.directory",
            FindingCode.SecretInPlain => "program.environment",
            FindingCode.SecretMissing or FindingCode.SecretFileNotPossible => "program.secrets",
            FindingCode.PidFileUnwritable => "program.pid-file",
            FindingCode.OffCommandMissing => "program.off",
            FindingCode.AccountNeeded
            or FindingCode.AccountMissing
            or FindingCode.AccountNotPermitted
            or FindingCode.AccountNotPossible
            or FindingCode.AccountCannotRun
            or FindingCode.CommandUnusable
            or FindingCode.AccountIsRoot
            or FindingCode.AccountIsAPerson
            or FindingCode.AccountIsPowerful
            or FindingCode.AccountExpires => "identity.account",
            FindingCode.LowPort or FindingCode.RightNotPossible => "identity.rights",
            FindingCode.GroupMissing => "identity.groups",
            FindingCode.PriorityNotPossible => "resources.priority",
            FindingCode.ProcessorsMissing => "resources.processors",
            FindingCode.MemoryOverMachine or FindingCode.MemoryUnderRehearsal => "resources.memory",
            FindingCode.OpenFilesTooMany => "resources.open-files",
            FindingCode.LimitNotPossible => "resources",
            FindingCode.WindowNotPossible or FindingCode.WindowMissing => "program.window",
            FindingCode.NeedsCircle
            or FindingCode.NeedUnknown
            or FindingCode.NeedNeverBegins
            or FindingCode.NeedNotAtBoot => "begin.needs",
            FindingCode.NoProof => "begin.proof",
            FindingCode.RecipientMissing => "tell",
            FindingCode.SuccessTooSoon or FindingCode.LateNever or FindingCode.DaysUnreadable => "rhythm",
            FindingCode.ReopenUnused => "output.reopen",
            FindingCode.OutputDirectoryNotPossible => "output.directory",
            FindingCode.WindDownShort or FindingCode.ShutdownShort or FindingCode.StepNotPossible => "wind-down",
            FindingCode.DataLeftBehind => "files.data",
            _ => throw new ArgumentOutOfRangeException(nameof(code)),
        };
}
