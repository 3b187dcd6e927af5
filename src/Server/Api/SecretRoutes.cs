using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Secrets;
using CalmSentry.Engine.Services;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;
using CalmSentry.Telling;

namespace CalmSentry.Server.Api;

/// <summary>Secrets go in and are told of by name; no call gives a value back.</summary>
internal static class SecretRoutes
{
    public static void MapSecrets(this IEndpointRouteBuilder api)
    {
        api.MapGet("/services/{name}/secrets", OfService).Produces<IReadOnlyList<SecretView>>().May(Permission.Read);
        api.MapPut("/services/{name}/secrets/{key}", Set)
            .Produces<Answer>()
            .Refuses(400)
            .TakesJson<SecretValue>()
            .May(Permission.Define);
        api.MapDelete("/services/{name}/secrets/{key}", Remove).Produces<Answer>().Refuses(404).May(Permission.Define);
        api.MapGet("/secrets", OfSentry).Produces<IReadOnlyList<SecretView>>().May(Permission.Read);
        api.MapPut("/secrets/{key}", SetOfSentry)
            .Produces<Answer>()
            .Refuses(400)
            .TakesJson<SecretValue>()
            .May(Permission.Administer);
        api.MapDelete("/secrets/{key}", RemoveOfSentry).Produces<Answer>().Refuses(404).May(Permission.Administer);
    }

    /// <summary>The sentry's own secrets by name, such as a mail password, and whether the settings ask for each.</summary>
    public static IResult OfSentry(SecretBox secrets, Teller teller)
    {
        var used = teller.Secrets;
        return TypedResults.Json<IReadOnlyList<SecretView>>(
            [
                .. secrets
                    .Keys(SecretBox.OfSentry)
                    .Union(used, StringComparer.Ordinal)
                    .Order(StringComparer.Ordinal)
                    .Select(key => new SecretView(key, secrets.Has(SecretBox.OfSentry, key), used.Contains(key))),
            ],
            ApiJson.Plain.IReadOnlyListSecretView
        );
    }

    /// <summary>Give one of the sentry's own secrets its value: {"value": …}.</summary>
    public static async Task<IResult> SetOfSentry(
        string key,
        bool? dry,
        SentryStore store,
        Record logbook,
        SecretBox secrets,
        Teller teller,
        HttpContext context
    )
    {
        if (!IsKey(key))
            return NoKey("the sentry", key);
        var (value, problem) = await Value(context).ConfigureAwait(false);
        if (value is null)
            return problem!;
        if (dry == true)
            return Reply.WouldDo($"{key} of the sentry would be sealed. Nothing was done.");
        secrets.Set(SecretBox.OfSentry, key, value);
        logbook.Note(new SecretSetEntry(key), Caller.Of(context).Who);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(
            AnswerCode.SecretSet,
            $"{key} of the sentry is sealed."
                + (teller.Secrets.Contains(key) ? "" : " Nothing in the sentry's settings asks for it yet.")
        );
    }

    /// <summary>Remove the value of one of the sentry's own secrets.</summary>
    public static async Task<IResult> RemoveOfSentry(
        string key,
        bool? dry,
        SentryStore store,
        Record logbook,
        SecretBox secrets,
        HttpContext context
    )
    {
        if (dry == true && secrets.Has(SecretBox.OfSentry, key))
            return Reply.WouldDo($"The value of {key} of the sentry would be removed. Nothing was done.");
        if (!secrets.Remove(SecretBox.OfSentry, key))
            return Problems.Of(
                404,
                ProblemCode.NoSuchSecret,
                "No such secret",
                $"The sentry has no secret {key} with a value.",
                "'calm secret list --sentry' shows those there are."
            );
        logbook.Note(new SecretRemovedEntry(key), Caller.Of(context).Who);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(AnswerCode.SecretRemoved, $"{key} of the sentry is removed.");
    }

    private static bool IsKey(string key) =>
        key.Length > 0 && !char.IsAsciiDigit(key[0]) && key.All(c => char.IsAsciiLetterOrDigit(c) || c == '_');

    private static IResult NoKey(string whose, string key) =>
        Problems.Of(
            400,
            ProblemCode.BadKey,
            "Not a name for a secret",
            $"'{key}' is no name for a secret of {whose}; allowed: letters, digits and _, not beginning with a digit."
        );

    /// <summary>The value that was sent, or the answer to whoever sent none.</summary>
    private static async Task<(string? Value, IResult? Problem)> Value(HttpContext context)
    {
        var (sent, problem) = await Incoming
            .Json(context.Request, ApiJson.Plain.SecretValue, "a secret's value")
            .ConfigureAwait(false);
        if (sent is null)
            return (null, problem);
        var length = System.Text.Encoding.UTF8.GetByteCount(sent.Value);
        return length is 0 or > SecretBox.Longest || Incoming.Odd(sent.Value)
            ? (
                null,
                Problems.Of(
                    400,
                    ProblemCode.BadSecret,
                    "Not a secret",
                    length == 0
                        ? "No value was given; nothing was changed."
                        : $"It has {length} bytes{(Incoming.Odd(sent.Value) ? ", among them NUL or half a character" : "")}; "
                            + $"allowed: 1 to {SecretBox.Longest} bytes of text without NUL.",
                    "Type it where it is asked for, or pipe it in: calm secret set NAME KEY <file"
                )
            )
            : (sent.Value, null);
    }

    /// <summary>A service's secrets by name, and whether each has a value.</summary>
    public static IResult OfService(string name, Registry registry, SecretBox secrets) =>
        TypedResults.Json<IReadOnlyList<SecretView>>(
            registry.Find(name) is { } actor
                ? ServiceViews.SecretsOf(actor.Definition, secrets)
                : [.. secrets.Keys(ServiceName.From(name)).Select(key => new SecretView(key, true, false))],
            ApiJson.Plain.IReadOnlyListSecretView
        );

    /// <summary>Give a secret its value: {"value": …}.</summary>
    public static async Task<IResult> Set(
        string name,
        string key,
        bool? dry,
        Registry registry,
        SentryStore store,
        Record logbook,
        SecretBox secrets,
        HttpContext context
    )
    {
        var service = registry.Find(name)?.Definition.Name ?? ServiceName.From(name);
        if (service.Length == 0 || !IsKey(key))
            return NoKey($"'{service}'", key);
        var (value, problem) = await Value(context).ConfigureAwait(false);
        if (value is null)
            return problem!;
        var length = System.Text.Encoding.UTF8.GetByteCount(value);
        if (dry == true)
            return Reply.WouldDo(
                $"{key} of {service} would be sealed with a value of {length} bytes. Nothing was done.",
                null
            );
        secrets.Set(service, key, value);
        logbook.Note(service, new SecretSetEntry(key), Caller.Of(context).Who);
        await store.Kept().ConfigureAwait(false);
        var actor = registry.Find(service);
        var used = actor?.Definition.Program.SecretKeys.Contains(key) == true;
        var said =
            $"{key} of {service} is sealed."
            + (length < 4 ? " It is too short to be hidden in output: programs that print it will show it." : "")
            + (
                actor is null ? $" No service {service} is wrapped yet; the secret waits for it."
                : used
                    ? actor.Situation.Run is null ? ""
                        : $" The live run has the value before; 'calm restart {service}' brings " + $"this one in."
                : $" The service does not ask for it yet: calm adjust {service} --secret {key}"
            );
        return Reply.Of(AnswerCode.SecretSet, said);
    }

    /// <summary>Remove a secret's value.</summary>
    public static async Task<IResult> Remove(
        string name,
        string key,
        bool? dry,
        Registry registry,
        SentryStore store,
        Record logbook,
        SecretBox secrets,
        HttpContext context
    )
    {
        var service = registry.Find(name)?.Definition.Name ?? ServiceName.From(name);
        if (dry == true && secrets.Has(service, key))
            return Reply.WouldDo($"The value of {key} of {service} would be removed. Nothing was done.");
        if (!secrets.Remove(service, key))
            return Problems.Of(
                404,
                ProblemCode.NoSuchSecret,
                "No such secret",
                $"{service} has no secret {key} with a value.",
                $"'calm secret list {service}' shows those there are."
            );
        logbook.Note(service, new SecretRemovedEntry(key), Caller.Of(context).Who);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(AnswerCode.SecretRemoved, $"{key} of {service} is removed.");
    }
}
