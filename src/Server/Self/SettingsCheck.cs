using System.Globalization;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Telling;
using CalmSentry.Engine.Secrets;
using CalmSentry.Linux.Accounts;
using CalmSentry.Server.Http;

namespace CalmSentry.Server.Self;

/// <summary>Settings, read before they are put in place: what is wrong, what they name that is not there, and when they would hold.</summary>
internal sealed class SettingsCheck(SecretBox secrets, SettingsFile file)
{
    public SettingsCheckView Look(string text)
    {
        var (settings, errors, whole) = Settings.Read(text);
        if (settings is null)
            return new(
                false,
                $"The settings have {(errors.Count == 1 ? "a mistake" : $"{errors.Count} mistakes")}. Put in place like that they would not "
                    + "hold: what is good now would go on holding.",
                [.. errors.Select(Problems.Of)],
                [],
                [],
                []
            );
        var missing = Named(settings)
            .Select(one =>
            {
                var place = whole.PlaceOf(one.Key);
                return new MissingView(one.Key, place?.Line, place?.Column, one.Seen, one.Mend);
            })
            .ToList();
        var changed = Settings.Changed(file.Good, text);
        var (atOnce, atStart) = (
            changed.Except(Settings.AtStart).ToList(),
            changed.Intersect(Settings.AtStart).ToList()
        );
        return new(missing.Count == 0, Said(missing.Count, atOnce, atStart), [], missing, atOnce, atStart);
    }

    private IEnumerable<(string Key, string Seen, string Mend)> Named(Settings settings)
    {
        foreach (var (at, one) in settings.Telling.Tell.Index())
        {
            var key = string.Create(CultureInfo.InvariantCulture, $"tell[{at}]");
            if (one.Way is WebhookWay { Key: { } signing } && Unsealed($"{key}.key", signing) is { } unsigned)
                yield return unsigned;
            if (one.Way is CommandWay { Account: { } account } && Account.Named(account) is null)
                yield return (
                    $"{key}.account",
                    $"there is no account '{account}' on this host",
                    $"calm account create {account}"
                );
            if (one.Way is CommandWay { Command: [var program, ..] } && !File.Exists(program))
                yield return ($"{key}.command", $"there is no program {program}", "Put it there, or name another one.");
        }

        if (settings.Telling.Mail?.Password is { } password && Unsealed("mail.password", password) is { } none)
            yield return none;
        if (settings.Telling.Mail?.Trust is { } trust && !File.Exists(trust))
            yield return NoCertificates("mail.trust", trust);
        foreach (var (at, target) in settings.Forward.Index())
            if (target.Trust is { } certificates && !File.Exists(certificates))
                yield return NoCertificates(
                    string.Create(CultureInfo.InvariantCulture, $"forward[{at}].trust"),
                    certificates
                );
    }

    private (string Key, string Seen, string Mend)? Unsealed(string key, string name) =>
        secrets.Has(SecretBox.OfSentry, name)
            ? null
            : (key, $"the sentry has no secret {name} with a value", $"calm secret set --sentry {name}");

    private static (string Key, string Seen, string Mend) NoCertificates(string key, string path) =>
        (
            key,
            $"there is no file {path}",
            "Put the certificates there (PEM), or leave it out: then the host's own are trusted."
        );

    private static string Said(int missing, List<string> atOnce, List<string> atStart)
    {
        var first = missing switch
        {
            0 => "The settings have no mistake.",
            1 => "The settings have no mistake, but one thing that they name is not there.",
            _ => $"The settings have no mistake, but {missing} things that they name are not there.",
        };
        return (atOnce, atStart) switch
        {
            ([], []) => $"{first} They say what holds already.",
            (_, []) => $"{first} In place, {List(atOnce)} would hold at once.",
            ([], _) => $"{first} In place, {List(atStart)} would hold from the sentry's next start on.",
            _ =>
                $"{first} In place, {List(atOnce)} would hold at once, {List(atStart)} from the sentry's next start on.",
        };
    }

    private static string List(List<string> keys) =>
        keys.Count == 1 ? keys[0] : string.Join(", ", keys[..^1]) + " and " + keys[^1];
}
