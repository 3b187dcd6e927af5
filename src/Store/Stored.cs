using System.Text.Json.Serialization;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Store;

/// <param name="Document">The definition as given, as JSON.</param>
public sealed record StoredService(string Name, int Revision, string Document, Situation Situation);

public sealed record StoredRun(
    long Number, string Cause, DateTimeOffset Began, DateTimeOffset? Launched, DateTimeOffset? Ended, int? Pid, Outcome? Outcome, long? PeakKib, long? CpuMicroseconds);

[JsonSourceGenerationOptions(UseStringEnumConverter = true)]
[JsonSerializable(typeof(Situation))]
internal sealed partial class StoreJson : JsonSerializerContext;
