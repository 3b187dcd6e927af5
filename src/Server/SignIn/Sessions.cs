using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using CalmSentry.Store;

namespace CalmSentry.Server.SignIn;

/// <summary>One-time links and the browser sessions they open. Secrets are 256 random bits; of a session only a hash is kept.</summary>
internal sealed class Sessions
{
    public const string Cookie = "calm-session";

    public static readonly TimeSpan LinkLife = TimeSpan.FromMinutes(5), SessionLife = TimeSpan.FromHours(12);

    private readonly ConcurrentDictionary<string, (string Account, DateTimeOffset Until)> links = new(StringComparer.Ordinal);
    private readonly ConcurrentDictionary<string, (string Account, DateTimeOffset Until)> sessions = new(StringComparer.Ordinal);
    private readonly SentryStore store;
    private readonly TimeProvider clock;

    public Sessions(SentryStore store, TimeProvider clock)
    {
        (this.store, this.clock) = (store, clock);
        foreach (var (hash, account, until) in store.Sessions()) sessions[hash] = (account, until);
    }

    public (string Key, DateTimeOffset Until) NewLink(string account)
    {
        var now = clock.GetUtcNow();
        foreach (var old in links.Where(link => link.Value.Until < now)) links.TryRemove(old);
        var key = Secret();
        links[Hash(key)] = (account, now + LinkLife);
        return (key, now + LinkLife);
    }

    /// <summary>Uses a link up. Null when it was never given, is too old, or has been used.</summary>
    public (string Secret, string Account)? Open(string key)
    {
        if (!links.TryRemove(Hash(key), out var link) || link.Until < clock.GetUtcNow()) return null;
        var secret = Secret();
        var until = clock.GetUtcNow() + SessionLife;
        sessions[Hash(secret)] = (link.Account, until);
        store.AddSession(Hash(secret), link.Account, until);
        return (secret, link.Account);
    }

    public string? AccountOf(string? secret) =>
        secret is not null && sessions.TryGetValue(Hash(secret), out var session) && session.Until > clock.GetUtcNow() ? session.Account : null;

    public void Close(string? secret)
    {
        if (secret is null) return;
        sessions.TryRemove(Hash(secret), out _);
        store.RemoveSession(Hash(secret));
    }

    private static string Secret() => Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));

    private static string Hash(string secret) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(secret)));
}
