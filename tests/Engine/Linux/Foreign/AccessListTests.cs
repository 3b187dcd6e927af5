using System.Buffers.Binary;
using CalmSentry.Linux.Foreign;
using CsCheck;

namespace CalmSentry.Tests.Engine.Linux.Foreign;

/// <summary>
/// Laws of a right that is given to one account: it has it afterwards, nobody else gains or loses, and taking it back
/// restores.
/// </summary>
public class AccessListTests
{
    private const ushort Owner = 1,
        User = 2,
        OwnGroup = 4,
        Group = 8,
        Mask = 16,
        Other = 32;

    private static readonly Gen<int> Rights = Gen.Int[0, 7];

    /// <summary>
    /// Lists as the kernel takes them: the three entries every file has, some users and groups, and a mask where any is
    /// named.
    /// </summary>
    private static readonly Gen<(ushort Tag, int Rights, uint Id)[]> Lists =
        from owner in Rights
        from own in Rights
        from other in Rights
        from mask in Rights
        from users in Gen.Select(Gen.UInt[1, 6], Rights).Array[0, 3]
        from groups in Gen.Select(Gen.UInt[1, 6], Rights).Array[0, 2]
        select Make(owner, own, other, mask, users, groups);

    private static (ushort Tag, int Rights, uint Id)[] Make(
        int owner,
        int own,
        int other,
        int mask,
        (uint Id, int Rights)[] users,
        (uint Id, int Rights)[] groups
    )
    {
        var list = new List<(ushort, int, uint)>
        {
            (Owner, owner, uint.MaxValue),
            (OwnGroup, own, uint.MaxValue),
            (Other, other, uint.MaxValue),
        };
        list.AddRange(users.DistinctBy(user => user.Id).Select(user => (User, user.Rights, user.Id)));
        list.AddRange(groups.DistinctBy(one => one.Id).Select(one => (Group, one.Rights, one.Id)));
        if (list.Count > 3)
            list.Add((Mask, mask, uint.MaxValue));
        return [.. list];
    }

    [Fact]
    public void Who_is_given_a_right_has_it_and_nobody_else_gains_or_loses() =>
        Gen.Select(Lists, Gen.UInt[1, 6], Rights)
            .Sample(
                (entries, uid, rights) =>
                {
                    var before = Effective(entries);
                    var after = Effective(Entries(AccessList.Read(Bytes(entries)).With(uid, rights)));
                    Assert.Equal(rights, after[(User, uid)] & rights);
                    foreach (var (who, may) in before.Where(one => one.Key != (User, uid)))
                        Assert.Equal(may, after[who]);
                    foreach (var (who, _) in after.Where(one => one.Key != (User, uid)))
                        Assert.True(before.ContainsKey(who));
                }
            );

    [Fact]
    public void Taken_from_a_file_that_had_no_list_it_is_as_it_was() =>
        Gen.Select(Gen.Int[0, 0x1ff], Gen.UInt[1, 6], Rights)
            .Sample(
                (mode, uid, rights) =>
                    Assert.Equal(AccessList.OfMode(mode), AccessList.OfMode(mode).With(uid, rights).Without(uid))
            );

    [Fact]
    public void Taking_an_entry_leaves_what_others_may() =>
        Gen.Select(Lists, Gen.UInt[1, 6])
            .Sample(
                (entries, uid) =>
                {
                    var list = AccessList.Read(Bytes(entries));
                    if (!list.Names(uid))
                        return;
                    var (before, after) = (Effective(entries), Effective(Entries(list.Without(uid))));
                    Assert.False(after.ContainsKey((User, uid)));
                    foreach (var (who, may) in before.Where(one => one.Key != (User, uid)))
                        Assert.Equal(may, after[who]);
                }
            );

    [Fact]
    public void Written_and_read_it_is_the_same() =>
        Lists.Sample(entries =>
            Assert.Equal(AccessList.Read(Bytes(entries)), AccessList.Read(AccessList.Read(Bytes(entries)).Write()))
        );

    /// <summary>What each entry is worth: the mask holds back all but the owner and others (acl(5)).</summary>
    private static Dictionary<(ushort, uint), int> Effective(IEnumerable<(ushort Tag, int Rights, uint Id)> entries)
    {
        var mask = entries.Where(entry => entry.Tag == Mask).Select(entry => (int?)entry.Rights).FirstOrDefault() ?? 7;
        return entries
            .Where(entry => entry.Tag != Mask)
            .ToDictionary(
                entry => (entry.Tag, entry.Id),
                entry => entry.Tag is Owner or Other ? entry.Rights : entry.Rights & mask
            );
    }

    private static byte[] Bytes((ushort Tag, int Rights, uint Id)[] entries)
    {
        var bytes = new byte[4 + (entries.Length * 8)];
        bytes[0] = 2;
        for (var i = 0; i < entries.Length; i++)
        {
            BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(4 + (i * 8)), entries[i].Tag);
            BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(6 + (i * 8)), (ushort)entries[i].Rights);
            BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(8 + (i * 8)), entries[i].Id);
        }

        return bytes;
    }

    private static IEnumerable<(ushort Tag, int Rights, uint Id)> Entries(AccessList list)
    {
        var bytes = list.Write();
        for (var at = 4; at < bytes.Length; at += 8)
            yield return (
                BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(at)),
                BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(at + 2)),
                BinaryPrimitives.ReadUInt32LittleEndian(bytes.AsSpan(at + 4))
            );
    }
}
