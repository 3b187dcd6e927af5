using System.Globalization;
using CalmSentry.Linux.Foreign;
using CalmSentry.Store;

namespace CalmSentry.Inspection.Accounts;

/// <summary>
/// What access lists there were before a right was granted: of the few files that had any, the lists themselves.
/// </summary>
/// <param name="Id">The folder itself, so that another in its place is not taken for it.</param>
/// <param name="Rights">What was granted: 1 pass, 5 read, 7 write.</param>
internal sealed record GrantBefore(
    string Id,
    int Rights,
    Dictionary<string, (AccessList? Access, AccessList? Default)> Lists
)
{
    /// <summary>The word in the store for grants kept this way.</summary>
    public const string How = "list";

    public void Keep(Held held, FileIdentity identity, Gathering kept)
    {
        var (access, standard) = Of(held, identity);
        if (access is not { NamesAnybody: true } && standard is null)
            return;
        kept.Keep(identity.Id);
        kept.Keep((access?.Write().Length ?? 0) + (standard?.Write().Length ?? 0));
        Lists[identity.Id] = (access, standard);
    }

    /// <summary>
    /// The lists with a right for one account added; of a folder also what new files in it begin with.
    /// </summary>
    public static (AccessList Access, AccessList? Default) With(
        AccessList? access,
        AccessList? standard,
        FileIdentity identity,
        uint uid,
        int rights
    )
    {
        var now = access ?? AccessList.OfMode(identity.Mode);
        // Nothing becomes a program by being shared: a file is to be executed only where somebody may execute it
        // already.
        var fit = identity.Type == FileType.Directory || now.AnyExecute ? rights : rights & ~1;
        var deep = identity.Type == FileType.Directory && rights != 1;
        return (now.With(uid, fit), deep ? (standard ?? AccessList.OfMode(identity.Mode)).With(uid, rights) : null);
    }

    /// <summary>
    /// What was there before, or, where somebody changed it since, what is there without this one entry.
    /// </summary>
    public void Restore(Held held, FileIdentity identity, uint uid)
    {
        var now = Of(held, identity);
        var before = Lists.GetValueOrDefault(identity.Id);
        var ours = With(before.Access, before.Default, identity, uid, Rights);
        if (now.Access is { } access && access.Names(uid))
            AccessLists.Set(
                held,
                ListKind.Access,
                access.Equals(ours.Access) && before.Access is not null ? before.Access : access.Without(uid)
            );
        if (now.Default is not { } standard || !standard.Names(uid))
            return;
        var without = standard.Without(uid);
        AccessLists.Set(
            held,
            ListKind.Default,
            standard.Equals(ours.Default) && before.Default is not null ? before.Default
                : without.NamesAnybody || before.Default is not null ? without
                : null
        );
    }

    public string Write() =>
        string.Join(
            '\n',
            Lists
                .Select(one => $"{one.Key} {Hex(one.Value.Access)} {Hex(one.Value.Default)}")
                .Prepend(string.Create(CultureInfo.InvariantCulture, $"{Id} {Rights}"))
        );

    /// <returns>Null: it was granted by an earlier way.</returns>
    public static GrantBefore? Read(StoredGrant grant)
    {
        if (grant.How != How)
            return null;
        var lines = grant.Before.Split('\n').Select(line => line.Split(' ')).ToList();
        return new(
            lines[0][0],
            int.Parse(lines[0][1], CultureInfo.InvariantCulture),
            lines.Skip(1).ToDictionary(part => part[0], part => (List(part[1]), List(part[2])), StringComparer.Ordinal)
        );
    }

    private static (AccessList? Access, AccessList? Default) Of(Held held, FileIdentity identity) =>
        (
            AccessLists.Of(held, ListKind.Access),
            identity.Type == FileType.Directory ? AccessLists.Of(held, ListKind.Default) : null
        );

    private static string Hex(AccessList? list) => list is null ? "-" : Convert.ToHexStringLower(list.Write());

    private static AccessList? List(string hex) => hex == "-" ? null : AccessList.Read(Convert.FromHexString(hex));
}

/// <summary>Grants of sentries before this one: by the host's own tool, or by a folder's group.</summary>
internal static class OlderGrants
{
    public static string? TakeBack(Linux.Accounts.Account account, StoredGrant grant, HeldWay way)
    {
        if (grant.How == "group")
        {
            var parts = grant.Before.Split(' ');
            if (way.Held.Give(uint.MaxValue, uint.Parse(parts[0], CultureInfo.InvariantCulture)) is var errno and not 0)
                return $"The group of {grant.Path} cannot be changed back: {Linux.Native.Names.Errno(errno)}.";
            way.Held.SetMode(Convert.ToInt32(parts[1], 8));
            return null;
        }

        var before = new GrantBefore(way.Held.Identity().Id, 7, []);
        if (grant.Path == grant.Folder)
            TreeWalk.Each(way.Held, (one, identity) => before.Restore(one, identity, account.Uid));
        else
            before.Restore(way.Held, way.Held.Identity(), account.Uid);
        return null;
    }
}
