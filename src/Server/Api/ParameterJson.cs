using System.Text.Json.Serialization;

namespace CalmSentry.Server.Api;

/// <summary>Types of query parameters, which the OpenAPI document describes through JSON's own metadata.</summary>
[JsonSerializable(typeof(bool?))]
[JsonSerializable(typeof(int?))]
[JsonSerializable(typeof(long?))]
[JsonSerializable(typeof(string))]
internal sealed partial class ParameterJson : JsonSerializerContext;
