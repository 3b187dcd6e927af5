using System.Collections.Concurrent;
using CalmSentry.Linux.Accounts;

namespace CalmSentry.Server.Doors;

/// <summary>
/// How many connections there are, by account and in all: what one account can hold is bounded, and root always gets
/// in.
/// </summary>
/// <param name="most">In all, but for root and the sentry's own account.</param>
internal sealed class Crowd(int most)
{
    /// <summary>Connections one account may hold at the same time.</summary>
    public const int MostOfOne = 64;

    /// <summary>
    /// Root has room of its own: nothing others do keeps an administrator out, who may begin a thousand services at once.
    /// </summary>
    private const int MostOfRoot = 2048;

    private readonly ConcurrentDictionary<uint, int> held = new();
    private readonly Lock only = new();
    private int all;

    /// <summary>False when there is no room for another one.</summary>
    public bool Enter(uint uid)
    {
        var trusted = Account.IsTrusted(uid);
        lock (only)
        {
            var own = held.GetValueOrDefault(uid);
            if (own >= (trusted ? MostOfRoot : MostOfOne) || (!trusted && all >= most))
                return false;
            held[uid] = own + 1;
            if (!trusted)
                all++;
            return true;
        }
    }

    public void Leave(uint uid)
    {
        lock (only)
        {
            if (!Account.IsTrusted(uid))
                all--;
            if (held[uid] == 1)
                held.TryRemove(uid, out _);
            else
                held[uid]--;
        }
    }
}
