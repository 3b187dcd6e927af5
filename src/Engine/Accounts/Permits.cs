using System.Collections.Concurrent;
using CalmSentry.Linux.Accounts;
using CalmSentry.Store;

namespace CalmSentry.Engine.Accounts;

/// <summary>Which accounts may run services: those the administrator permitted, and never one by itself.</summary>
internal sealed class Permits
{
    private readonly SentryStore store;
    private readonly ConcurrentDictionary<string, StoredAccount> accounts = new(StringComparer.Ordinal);

    public Permits(SentryStore store)
    {
        this.store = store;
        foreach (var account in store.Accounts())
            accounts[account.Name] = account;
    }

    public IReadOnlyList<StoredAccount> Known =>
        [.. accounts.Values.OrderBy(account => account.Name, StringComparer.Ordinal)];

    /// <summary>A sentry that is not root can only be itself: there is nothing to permit.</summary>
    public bool Permitted(string account) =>
        (accounts.TryGetValue(account, out var known) && known.Permitted)
        || (Account.OwnId != 0 && account == Account.NameOf(Account.OwnId));

    /// <summary>The numbers of all accounts that may.</summary>
    public IReadOnlyCollection<uint> Users() =>
        [
            Account.OwnId,
            .. accounts
                .Values.Where(account => account.Permitted)
                .Select(account => Account.Named(account.Name)?.Uid)
                .OfType<uint>(),
        ];

    public bool WasMade(string account) => accounts.TryGetValue(account, out var known) && known.Made;

    public void Set(string account, bool permitted, bool? made = null)
    {
        var known = new StoredAccount(account, permitted, made ?? WasMade(account));
        accounts[account] = known;
        store.SetAccount(known);
    }

    public void Forget(string account)
    {
        accounts.TryRemove(account, out _);
        store.RemoveAccount(account);
    }
}
