using System.Text.Json.Serialization;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Store;

/// <param name="Document">The definition as given, as JSON.</param>
public sealed record StoredService(string Name, int Revision, string Document, Situation Situation);

public sealed record StoredRun(
    long Number, string Cause, DateTimeOffset Began, DateTimeOffset? Launched, DateTimeOffset? Ended, int? Pid, Outcome? Outcome, long? PeakKib, long? CpuMicroseconds,
    DateTimeOffset? Wanted, DateTimeOffset? Proven, string? Proof);

public sealed record StoredAccount(string Name, bool Permitted, bool Made);

/// <param name="How">acl | group</param>
/// <param name="Before">What is needed to take it back: of an ACL the entry the account had before, of a group the group and mode before.</param>
/// <param name="Folder">The folder the grant was asked for; folders above it were opened on the way.</param>
public sealed record StoredGrant(string Account, string Path, string How, string Before, string Folder);

/// <param name="PeakBytes">Most memory its tree used.</param>
public sealed record StoredRehearsal(long PeakBytes, IReadOnlyList<int> TcpPorts);

[JsonSourceGenerationOptions(UseStringEnumConverter = true)]
[JsonSerializable(typeof(Situation))]
internal sealed partial class StoreJson : JsonSerializerContext;
