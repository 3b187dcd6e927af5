using System.Text.Json;
using System.Text.Json.Serialization;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Text;

namespace CalmSentry.Contract.Api;

/// <summary>Why a call was refused, beside the findings of a check that may stand in its way.</summary>
public enum ProblemCode
{
    AccountInUse,
    AccountMissing,
    AccountNotMade,
    AccountNotOurs,
    AccountNotRemoved,
    AccountTaken,
    AlertGoesOn,
    AlertOver,
    AlreadyLive,
    BadAccountName,
    BadAddress,
    BadArchive,
    BadCall,
    BadFolder,
    BadKey,
    BadKind,
    BadLength,
    BadNote,
    BadNumber,
    BadRange,
    BadReason,
    BadRhythm,
    BadSecret,
    BadSource,
    BadTicket,
    BadZone,
    BodyTooLong,
    BodyTooSlow,

    /// <summary>Something else stops it for a while, or does something to its files.</summary>
    Busy,
    CopyStays,
    DefinitionInvalid,
    DirectoryNotPossible,
    Failed,
    FilesInMotion,
    FilesInvalid,
    FilesNotReadable,
    FolderNotPossible,
    GrantAsks,
    Internal,
    KindWhileLive,
    MalformedBody,
    NameFixed,
    NameLeftOver,
    NameNotPossible,
    NeededByOthers,
    NeedsRoot,
    NoConsole,
    NoDirectory,
    NoEarlierVersion,
    NoEnd,
    NoExpression,
    NoHash,
    NoJob,
    NoRecord,
    NoReload,
    NoReport,
    NoSettling,
    NoRoom,
    NoRuns,
    NoSuchAlert,
    NoSuchCall,
    NoSuchFile,
    NoSuchForm,
    NoSuchKind,
    NoSuchRecipient,
    NoSuchRehearsal,
    NoSuchRevision,
    NoSuchRun,
    NoSuchSecret,
    NoSuchService,
    NoSuchSession,
    NoSuchSeverity,
    NoSuchVersion,
    NoSuchWord,
    NoInput,
    NoTerminal,
    NoWindow,
    NoTime,
    NoWebSocket,
    NotAtRest,
    NotNow,
    NotPermitted,
    NotRenamed,
    NotRunning,
    NothingPlanned,
    NothingToPause,
    NothingToUndo,
    OutOfRoom,
    RunsAlready,
    RevisionOutdated,
    SameDirectory,
    SettlingOutdated,
    RenamedHere,
    SignInNeeded,
    StartingDisabled,
    StoreCannotBeWritten,
    TimeAhead,
    TooManyCalls,
    TooManyConnections,
    TooManyFiles,
    TooManyLinks,
    TooManyStreams,
    TooManyViewers,
    Unreadable,
    WrongHost,
    WrongMethod,
    WrongOrigin,
}

/// <summary>Why a call was refused, for programs: a word of <see cref="ProblemCode"/>, or of a <see cref="FindingCode"/>.</summary>
[JsonConverter(typeof(ProblemWordConverter))]
public readonly record struct ProblemWord(string Word)
{
    /// <summary>Every word there is.</summary>
    public static IEnumerable<string> All => [.. Words.All<ProblemCode>(), .. Words.All<FindingCode>()];

    public static implicit operator ProblemWord(ProblemCode code) => new(Words.Of(code));

    public static implicit operator ProblemWord(FindingCode code) => new(Words.Of(code));

    public override string ToString() => Word;
}

/// <summary>As a string. What a later version sends is read as it is.</summary>
public sealed class ProblemWordConverter : JsonConverter<ProblemWord>
{
    public override ProblemWord Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) =>
        new(reader.GetString() ?? throw new JsonException("a problem has a code"));

    public override void Write(Utf8JsonWriter writer, ProblemWord value, JsonSerializerOptions options) =>
        writer.WriteStringValue(value.Word);
}
