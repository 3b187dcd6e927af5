using System.Collections.Concurrent;
using System.Security.Cryptography;
using CalmSentry.Contract;
using CalmSentry.Linux.Files;
using CalmSentry.Store;
using Microsoft.AspNetCore.DataProtection;

namespace CalmSentry.Engine.Secrets;

/// <summary>
/// The secrets of services, sealed with ASP.NET Core Data Protection before they are stored. Its keys lie in files that
/// only
/// the sentry's own account can read; whoever has both the keys and the store can read the secrets.
/// </summary>
internal sealed class SecretBox
{
    /// <summary>Longest value, in bytes: it must fit several times into the buffer that hides it in output.</summary>
    public const int Longest = 8192;

    /// <summary>The sentry's own secrets are kept beside those of services, under a name that none can have.</summary>
    public const string OfSentry = "";

    private readonly IDataProtector protector;
    private readonly SentryStore store;
    private readonly ConcurrentDictionary<(string Service, string Key), string> sealedValues = new();

    public SecretBox(SentryStore store, Places places)
    {
        this.store = store;
        var keys = OwnDirectory.Make(places.Keys);
        File.SetUnixFileMode(keys.FullName, OwnDirectory.Mode);
        protector = DataProtectionProvider
            .Create(keys, builder => builder.SetApplicationName("calm-sentry"))
            .CreateProtector("service-secrets");
        foreach (var (service, key, value) in store.Secrets())
            sealedValues[(service, key)] = value;
    }

    public void Set(string service, string key, string value)
    {
        var closed = protector.Protect(value);
        sealedValues[(service, key)] = closed;
        store.SetSecret(service, key, closed);
    }

    public bool Remove(string service, string key)
    {
        if (!sealedValues.TryRemove((service, key), out _))
            return false;
        store.RemoveSecret(service, key);
        return true;
    }

    public IReadOnlyList<string> Keys(string service) =>
        [
            .. sealedValues
                .Keys.Where(one => one.Service == service)
                .Select(one => one.Key)
                .Order(StringComparer.Ordinal),
        ];

    public bool Has(string service, string key) => sealedValues.ContainsKey((service, key));

    /// <exception cref="IOException">It has no value, or its keys are not those it was sealed with.</exception>
    public string Open(string service, string key)
    {
        if (!sealedValues.TryGetValue((service, key), out var closed))
            throw new IOException(
                $"its secret {key} has no value yet; 'calm secret set {Called(service)} {key}' takes one"
            );
        try
        {
            return protector.Unprotect(closed);
        }
        catch (CryptographicException)
        {
            throw new IOException(
                $"its secret {key} cannot be opened: the key files it was sealed with are not there any more; set "
                    + $"it anew with 'calm secret set {Called(service)} {key}'"
            );
        }
    }

    private static string Called(string service) => service == OfSentry ? "--sentry" : service;

    /// <summary>Its service has another name; the store has it so already.</summary>
    public void Rename(string was, string now)
    {
        foreach (var key in Keys(was))
            if (sealedValues.TryRemove((was, key), out var value))
                sealedValues[(now, key)] = value;
    }

    public void Forget(string service)
    {
        foreach (var key in Keys(service))
            sealedValues.TryRemove((service, key), out _);
    }
}
