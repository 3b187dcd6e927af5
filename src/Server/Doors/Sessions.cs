using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using CalmSentry.Store;

namespace CalmSentry.Server.Doors;

/// <summary>
/// One-time links and the browser sessions they open. A session has two secrets, 256 random bits each: one in a cookie,
/// which no
/// page can read but which browsers send to every port of a host, and one the console's page keeps and sends in a
/// header, which
/// no other port's page can read. Only both together open anything; of either only a hash is kept.
/// </summary>
internal sealed class Sessions
{
    public const string Cookie = "calm-session",
        Header = "Calm-Page";

    public static readonly TimeSpan LinkLife = TimeSpan.FromMinutes(5),
        SessionLife = TimeSpan.FromHours(12),
        IdleLife = TimeSpan.FromHours(2),
        LookBeat = TimeSpan.FromMinutes(1);

    /// <summary>Links not yet used, and sessions, at most.</summary>
    public const int MostLinks = 20,
        MostSessions = 100;

    /// <summary>When a session was last used is put on record this often.</summary>
    private static readonly TimeSpan UsedBeat = TimeSpan.FromMinutes(1);

    private readonly ConcurrentDictionary<string, (string Account, DateTimeOffset Until)> links = new(
        StringComparer.Ordinal
    );
    private readonly ConcurrentDictionary<string, StoredSession> sessions = new(StringComparer.Ordinal);
    private readonly ConcurrentDictionary<string, CancellationTokenSource> ends = new(StringComparer.Ordinal);
    private readonly SentryStore store;
    private readonly TimeProvider clock;

    public Sessions(SentryStore store, TimeProvider clock)
    {
        (this.store, this.clock) = (store, clock);
        foreach (var session in store.Sessions())
            sessions[session.Hash] = session;
    }

    /// <summary>Those that are open, the latest used first.</summary>
    public IReadOnlyList<StoredSession> Open
    {
        get
        {
            ForgetOld();
            return [.. sessions.Values.OrderByDescending(session => session.Used)];
        }
    }

    /// <returns>Null: there are as many unused links as there may be.</returns>
    public (string Key, DateTimeOffset Until)? NewLink(string account)
    {
        var now = clock.GetUtcNow();
        foreach (var old in links.Where(link => link.Value.Until < now))
            links.TryRemove(old);
        if (links.Count >= MostLinks)
            return null;
        var key = Secret();
        links[Hash(key)] = (account, now + LinkLife);
        return (key, now + LinkLife);
    }

    /// <summary>Uses a link up.</summary>
    /// <returns>The session's two secrets; null when the link was never given, is too old, or has been used.</returns>
    public (string Cookie, string Page, StoredSession Session)? Use(string key, string? agent)
    {
        var now = clock.GetUtcNow();
        // A key has 256 random bits: guessing is bounded by the pace of its caller, and the right one is never shut.
        if (!links.TryRemove(Hash(key), out var link) || link.Until < now)
            return null;

        ForgetOld();
        while (sessions.Count >= MostSessions && sessions.Values.MinBy(session => session.Used) is { } oldest)
            End(oldest.Id);
        var (cookie, page) = (Secret(), Secret());
        var session = new StoredSession(
            Hash(cookie),
            Hash(page),
            Secret()[..8],
            link.Account,
            agent is { Length: > 200 } ? agent[..200] : agent ?? "",
            now,
            now,
            now + SessionLife
        );
        sessions[session.Hash] = session;
        store.SetSession(session);
        return (cookie, page, session);
    }

    public string? AccountOf(HttpRequest request)
    {
        if (
            request.Cookies[Cookie] is not { Length: > 0 and < 200 } cookie
            || request.Headers[Header].ToString() is not { Length: > 0 and < 200 } page
        )
            return null;
        if (!sessions.TryGetValue(Hash(cookie), out var session))
            return null;
        var now = clock.GetUtcNow();
        if (session.Until < now || now - session.Used > IdleLife)
        {
            End(session.Id);
            return null;
        }

        if (
            !CryptographicOperations.FixedTimeEquals(
                Encoding.ASCII.GetBytes(Hash(page)),
                Encoding.ASCII.GetBytes(session.PageHash)
            )
        )
            return null;
        if (now - session.Used > UsedBeat)
        {
            var used = session with { Used = now };
            if (sessions.TryUpdate(session.Hash, used, session))
                store.SetSession(used);
        }

        return session.Account;
    }

    /// <summary>The session of this browser, by its cookie.</summary>
    public StoredSession? Of(HttpRequest request) =>
        request.Cookies[Cookie] is { Length: > 0 and < 200 } cookie ? sessions.GetValueOrDefault(Hash(cookie)) : null;

    /// <summary>
    /// Cancelled when this browser's session ends: what is still open in it, such as a stream of events, ends then, too. To follow is not
    /// to use it.
    /// </summary>
    public CancellationToken EndOf(HttpRequest request)
    {
        if (Of(request) is not { } session)
            return new(canceled: true);
        var left = session.Until - clock.GetUtcNow();
        var end = ends.GetOrAdd(
            session.Id,
            _ => new CancellationTokenSource(left > TimeSpan.Zero ? left : TimeSpan.Zero, clock)
        );
        if (!sessions.ContainsKey(session.Hash))
            Cut(session.Id); // it was ended at this moment
        return end.Token;
    }

    private void Cut(string id)
    {
        if (ends.TryRemove(id, out var end))
            _ = end.CancelAsync();
    }

    /// <param name="asking">The call that asks for it: it may be one of the same session, and has its answer first.</param>
    /// <returns>The session that was ended, or null when there is none of that name.</returns>
    public StoredSession? End(string id, HttpContext? asking = null)
    {
        if (sessions.Values.FirstOrDefault(one => one.Id == id) is not { } session)
            return null;
        sessions.TryRemove(session.Hash, out _);
        store.RemoveSession(session.Hash);
        if (asking is null)
            Cut(id);
        else
            asking.Response.OnCompleted(() =>
            {
                Cut(id);
                return Task.CompletedTask;
            });
        return session;
    }

    /// <summary>Ends those that are too old, or unused for too long.</summary>
    public void ForgetOld()
    {
        var now = clock.GetUtcNow();
        foreach (var old in sessions.Values.Where(session => session.Until < now || now - session.Used > IdleLife))
            End(old.Id);
    }

    private static string Secret() => Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));

    private static string Hash(string secret) =>
        Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(secret)));
}
