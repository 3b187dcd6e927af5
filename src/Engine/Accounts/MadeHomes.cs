using CalmSentry.Linux.Foreign;
using CalmSentry.Store;

namespace CalmSentry.Engine.Accounts;

/// <summary>
/// Homes that were made here, by path. When their account goes they are set apart where they lie: root's alone, so that whoever gets the
/// account's number next does not come through to what is in them.
/// </summary>
internal sealed class MadeHomes(SentryStore store)
{
    private const string Key = "made-homes";
    private const int RootsAlone = 0x1C0; // 0700

    private readonly Lock only = new();

    public void Add(string home)
    {
        lock (only)
            Write([.. Known().Where(one => one != home), home]);
    }

    /// <summary>Sets those apart that belong to a number.</summary>
    /// <returns>Their paths.</returns>
    public IReadOnlyList<string> SetApart(uint uid)
    {
        lock (only)
        {
            var apart = Known().Where(home => Take(home, uid)).ToList();
            if (apart.Count > 0)
                Write([.. Known().Except(apart)]);
            return apart;
        }
    }

    private List<string> Known() => [.. (store.Fact(Key) ?? "").Split('\n', StringSplitOptions.RemoveEmptyEntries)];

    private void Write(IReadOnlyList<string> homes) => store.SetFact(Key, string.Join('\n', homes));

    private static bool Take(string home, uint uid)
    {
        try
        {
            using var above = Held.Walk(Ground.ProgramFiles, Path.GetDirectoryName(home)!);
            using var there = above.Held.Entry(Path.GetFileName(home));
            if (there is null || there.Identity() is not { Type: FileType.Directory } what || what.Uid != uid)
                return false;
            // Closed before it is given away: between the two nobody else's may come in.
            there.SetMode(RootsAlone);
            return there.Give(0, 0) == 0;
        }
        catch (IOException)
        {
            return false; // it is not there any more, or not by this way
        }
    }
}
