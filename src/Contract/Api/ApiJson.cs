using System.Text.Json;
using System.Text.Json.Serialization;

namespace CalmSentry.Contract.Api;

/// <summary>Every type that goes over the wire. Keys are the words of a definition file: lower case, with dashes.</summary>
[JsonSourceGenerationOptions(
    JsonSerializerDefaults.Web,
    PropertyNamingPolicy = JsonKnownNamingPolicy.KebabCaseLower,
    UnmappedMemberHandling = JsonUnmappedMemberHandling.Skip,
    RespectNullableAnnotations = true)]
[JsonSerializable(typeof(ServiceView))]
[JsonSerializable(typeof(IReadOnlyList<ServiceView>))]
[JsonSerializable(typeof(ServiceDetail))]
[JsonSerializable(typeof(IReadOnlyList<RunView>))]
[JsonSerializable(typeof(Answer))]
[JsonSerializable(typeof(SentryView))]
[JsonSerializable(typeof(IReadOnlyList<LogEntry>))]
[JsonSerializable(typeof(SignInLink))]
[JsonSerializable(typeof(Problem))]
[JsonSerializable(typeof(JsonElement))]
public sealed partial class ApiJson : JsonSerializerContext;
