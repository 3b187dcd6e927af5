using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Settling;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Wording;

namespace CalmSentry.Contract.Api;

/// <summary>
/// Every type that goes over the wire. Keys are the words of a definition file: lower case, with dashes.
/// </summary>
[JsonSourceGenerationOptions(
    JsonSerializerDefaults.Web,
    PropertyNamingPolicy = JsonKnownNamingPolicy.KebabCaseLower,
    UnmappedMemberHandling = JsonUnmappedMemberHandling.Skip,
    NumberHandling = JsonNumberHandling.Strict,
    RespectNullableAnnotations = true,
    RespectRequiredConstructorParameters = true,
    Converters = [
        typeof(Worded<AnswerCode>),
        typeof(Worded<AskedAt>),
        typeof(Worded<Cause>),
        typeof(Worded<CauseKind>),
        typeof(Worded<EntryNext>),
        typeof(Worded<EntrySeverity>),
        typeof(Worded<FindingCode>),
        typeof(Worded<HealthLevel>),
        typeof(Worded<MessageKind>),
        typeof(Worded<MessageState>),
        typeof(Worded<OutcomeKind>),
        typeof(Worded<PathKind>),
        typeof(Worded<ReportKind>),
        typeof(Worded<ReportPart>),
        typeof(Worded<ServiceState>),
        typeof(Worded<ServiceTime>),
        typeof(Worded<SettleDeed>),
        typeof(Worded<SettleState>),
        typeof(Worded<Severity>),
        typeof(Worded<Topic>),
        typeof(Worded<Urgency>),
    ]
)]
[JsonSerializable(typeof(ServiceView))]
[JsonSerializable(typeof(IReadOnlyList<ServiceView>))]
[JsonSerializable(typeof(ServiceDetail))]
[JsonSerializable(typeof(IReadOnlyList<RunView>))]
[JsonSerializable(typeof(IReadOnlyList<RevisionView>))]
[JsonSerializable(typeof(RevisionDifference))]
[JsonSerializable(typeof(WhyView))]
[JsonSerializable(typeof(BoardView))]
[JsonSerializable(typeof(IReadOnlyList<AvailabilityView>))]
[JsonSerializable(typeof(Answer))]
[JsonSerializable(typeof(SentryView))]
[JsonSerializable(typeof(IReadOnlyList<LogEntry>))]
[JsonSerializable(typeof(LogProofView))]
[JsonSerializable(typeof(OutputLineView))]
[JsonSerializable(typeof(SignInLink))]
[JsonSerializable(typeof(TerminalNews))]
[JsonSerializable(typeof(TerminalTicket))]
[JsonSerializable(typeof(WindowTicket))]
[JsonSerializable(typeof(TerminalWish))]
[JsonSerializable(typeof(IReadOnlyList<SessionView>))]
[JsonSerializable(typeof(Problem))]
[JsonSerializable(typeof(CheckView))]
[JsonSerializable(typeof(SettingsCheckView))]
[JsonSerializable(typeof(IReadOnlyList<AccountView>))]
[JsonSerializable(typeof(AccountDetail))]
[JsonSerializable(typeof(IReadOnlyList<SecretView>))]
[JsonSerializable(typeof(SecretValue))]
[JsonSerializable(typeof(FolderRight))]
[JsonSerializable(typeof(RehearsalEvent))]
[JsonSerializable(typeof(RehearsalReport))]
[JsonSerializable(typeof(BeginReport))]
[JsonSerializable(typeof(IReadOnlyList<BeginReport>))]
[JsonSerializable(typeof(AheadView))]
[JsonSerializable(typeof(MomentsView))]
[JsonSerializable(typeof(DrillPlan))]
[JsonSerializable(typeof(DrillEvent))]
[JsonSerializable(typeof(SwapOrder))]
[JsonSerializable(typeof(TogetherOrder))]
[JsonSerializable(typeof(SwapEvent))]
[JsonSerializable(typeof(VersionsView))]
[JsonSerializable(typeof(PathsView))]
[JsonSerializable(typeof(AlertView))]
[JsonSerializable(typeof(IReadOnlyList<AlertView>))]
[JsonSerializable(typeof(IReadOnlyList<MessageView>))]
[JsonSerializable(typeof(IReadOnlyList<RecipientView>))]
[JsonSerializable(typeof(AcknowledgeOrder))]
[JsonSerializable(typeof(ReportView))]
[JsonSerializable(typeof(IReadOnlyList<WouldBeView>))]
[JsonSerializable(typeof(TrialEvent))]
[JsonSerializable(typeof(JsonElement))]
[JsonSerializable(typeof(FilesDocument))]
[JsonSerializable(typeof(CompareOrder))]
[JsonSerializable(typeof(SettleOrder))]
[JsonSerializable(typeof(ComparisonView))]
[JsonSerializable(typeof(SettlementView))]
[JsonSerializable(typeof(IReadOnlyList<SettlementView>))]
[JsonSerializable(typeof(SettleEvent))]
[JsonSerializable(typeof(string[]))]
public sealed partial class ApiJson : JsonSerializerContext
{
    /// <summary>
    /// As <see cref="Default"/>, with quotes and letters beyond ASCII as they are: it is read by people too, and never
    /// put into HTML.
    /// </summary>
    public static ApiJson Plain =>
        plain ??= new(
            new JsonSerializerOptions(Default.Options!) { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping }
        );

    private static ApiJson? plain;
}
