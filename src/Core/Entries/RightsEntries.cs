using System.Collections.Immutable;

namespace CalmSentry.Core.Entries;

// Secrets, accounts, sessions

public sealed record SecretSetEntry(string Secret) : Entry
{
    protected override EntryFields Own => Fielded(name: Secret);
    protected override string Sentence => $"The secret {Secret} was given a value.";
}

public sealed record SecretRemovedEntry(string Secret) : Entry
{
    protected override EntryFields Own => Fielded(name: Secret);
    protected override string Sentence => $"The secret {Secret} was removed.";
}

public sealed record AccountMadeEntry(string Account, long Uid) : Entry
{
    protected override EntryFields Own => Fielded(name: Account, count: Uid);
    protected override string Sentence => $"The account {Account} (uid {Uid}) was made and permitted to run services.";
}

/// <param name="Apart">Services whose state is set apart.</param>
public sealed record AccountRemovedEntry(string Account, ImmutableArray<string> Apart) : Entry
{
    protected override EntryFields Own => Fielded(name: Account, names: Apart);
    protected override string Sentence =>
        $"The account {Account} was removed."
        + (Apart.IsEmpty ? "" : $" What {Listed(Apart)} kept is set apart for root.");
}

public sealed record AccountPermittedEntry(string Account) : Entry
{
    protected override EntryFields Own => Fielded(name: Account);
    protected override string Sentence => $"The account {Account} may run services now.";
}

public sealed record AccountForbiddenEntry(string Account) : Entry
{
    protected override EntryFields Own => Fielded(name: Account);
    protected override string Sentence => $"The account {Account} may no longer run services.";
}

/// <param name="Said">What was done, as sentences.</param>
public sealed record FolderGrantedEntry(string Account, string Said) : Entry
{
    protected override EntryFields Own => Fielded(name: Account, seen: Said);
    protected override string Sentence => Said;
}

/// <param name="Said">What was done, as sentences.</param>
public sealed record FolderTakenEntry(string Account, string Said) : Entry
{
    protected override EntryFields Own => Fielded(name: Account, seen: Said);
    protected override string Sentence => Said;
}

/// <param name="Services">Whose state it was.</param>
/// <param name="Uid">The number that both accounts have.</param>
public sealed record StateSetApartEntry(ImmutableArray<string> Services, long Uid) : Entry
{
    protected override EntryFields Own => Fielded(names: Services, count: Uid);
    protected override string Sentence =>
        $"What {Listed(Services)} kept belonged to an earlier account with the number {Uid}; it is set apart for root.";
}

/// <param name="Said">What was done, as sentences.</param>
public sealed record StateHandedOverEntry(string Said) : Entry
{
    protected override EntryFields Own => Fielded(seen: Said);
    protected override string Sentence => Said;
}

public sealed record SignedInEntry(string Session, string Browser) : Entry
{
    protected override EntryFields Own => Fielded(name: Session, seen: Browser);
    protected override string Sentence => $"Signed in to the console: {Browser} (session {Session}).";
}

public sealed record SignedOutEntry(string Session) : Entry
{
    protected override EntryFields Own => Fielded(name: Session);
    protected override string Sentence => $"Signed out of the console (session {Session}).";
}

/// <param name="Why">As a clause.</param>
public sealed record SignInRefusedEntry(string Why) : Entry
{
    protected override EntryFields Own => Fielded(seen: Why);
    protected override string Sentence => $"A sign-in was refused: {Why}.";
}

public sealed record SessionEndedEntry(string Session, string Account) : Entry
{
    protected override EntryFields Own => Fielded(name: Session, seen: Account);
    protected override string Sentence => $"The session {Session} of {Account} was ended.";
}

/// <summary>Somebody asked for what their account may not.</summary>
public sealed record RefusedEntry(string Call) : Entry
{
    protected override EntryFields Own => Fielded(seen: Call);
    protected override string Sentence => $"Refused, for the account may not: {Call}.";
}

internal static class RightsEntries
{
    public static ImmutableArray<EntryKind> Kinds { get; } =
    [
        EntryKind.Of(f => new SecretSetEntry(f.Name.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new SecretRemovedEntry(f.Name.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new AccountMadeEntry(f.Name.Needed(), f.Count.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new AccountRemovedEntry(f.Name.Needed(), f.Names), EntrySeverity.Notice),
        EntryKind.Of(f => new AccountPermittedEntry(f.Name.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new AccountForbiddenEntry(f.Name.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new FolderGrantedEntry(f.Name.Needed(), f.Seen.Needed())),
        EntryKind.Of(f => new FolderTakenEntry(f.Name.Needed(), f.Seen.Needed())),
        EntryKind.Of(f => new StateSetApartEntry(f.Names, f.Count.Needed())),
        EntryKind.Of(f => new StateHandedOverEntry(f.Seen.Needed())),
        EntryKind.Of(f => new SignedInEntry(f.Name.Needed(), f.Seen.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new SignedOutEntry(f.Name.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new SignInRefusedEntry(f.Seen.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new SessionEndedEntry(f.Name.Needed(), f.Seen.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new RefusedEntry(f.Seen.Needed()), EntrySeverity.Warning),
    ];
}
