using System.Text.Json;
using System.Text.Json.Serialization;
using CalmSentry.Core.Text;

namespace CalmSentry.Contract.Api;

/// <summary>Values of an enumeration as they go over the wire: the words of <see cref="Words"/>.</summary>
public sealed class Worded<T>() : JsonStringEnumConverter<T>(JsonNamingPolicy.KebabCaseLower, allowIntegerValues: false)
    where T : struct, Enum;
