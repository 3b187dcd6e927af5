using System.Diagnostics;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Tests.Engine.Linux.Foreign;

/// <summary>
/// Each place of the list, by what its entry says: whose folder it is, what lies there, and whether it is read, opened for its owner to be
/// set, or gone through.
/// </summary>
public sealed class GroundTests : IDisposable
{
    private const uint Account = 4711,
        Third = 4712;

    private readonly DirectoryInfo root = Directory.CreateTempSubdirectory("calm's ground ");

    public GroundTests() => Assert.SkipUnless(Environment.IsPrivilegedProcess, "Only root acts for others.");

    public void Dispose() => root.Delete(recursive: true);

    public static TheoryData<string, string> Places =>
        new(
            Ground.All.SelectMany(ground => ((string[])["root", "account", "third"]).Select(who => (ground.Name, who)))
        );

    private string Folder(string who)
    {
        var folder = root.CreateSubdirectory(who);
        File.SetUnixFileMode(root.FullName, (UnixFileMode)0x1ED);
        Own(folder.FullName, who);
        return folder.FullName;
    }

    private static uint Uid(string who) =>
        who switch
        {
            "root" => 0,
            "account" => Account,
            _ => Third,
        };

    private static void Own(string path, string who)
    {
        using var done = Process.Start("chown", ["-h", $"{Uid(who)}:{Uid(who)}", path]);
        done.WaitForExit();
        Assert.Equal(0, done.ExitCode);
    }

    private static void Run(string program, params string[] arguments)
    {
        using var done = Process.Start(program, arguments);
        done.WaitForExit();
        Assert.Equal(0, done.ExitCode);
    }

    [Theory]
    [MemberData(nameof(Places))]
    public void What_lies_there_is_taken_for_what_it_is(string name, string who)
    {
        var ground = Ground.All.Single(one => one.Name == name);
        var folder = Folder(who);
        var elsewhere = root.CreateSubdirectory("elsewhere").FullName;
        File.SetUnixFileMode(elsewhere, (UnixFileMode)0x1C0);
        File.WriteAllText($"{elsewhere}/till", "herring");

        // Links: whose, and where they lie, decides. One that was made elsewhere and moved is one like any other there.
        foreach (var whose in (string[])["root", "account", "third"])
        {
            File.CreateSymbolicLink($"{folder}/{whose}s-link", $"{elsewhere}/till");
            Own($"{folder}/{whose}s-link", whose);
            File.Move($"{folder}/{whose}s-link", $"{folder}/{whose}s-renamed");
            var follows = ground.Links switch
            {
                Links.All => true,
                Links.OfRoot => whose == "root" && who == "root",
                _ => false,
            };
            Assert.Equal(follows ? "herring" : null, Read(ground, $"{folder}/{whose}s-renamed"));
            Assert.Equal(follows ? "till" : null, Walked(ground, $"{folder}/{whose}s-renamed"));
        }

        // The kernel's own links lead where no path does: they are root's, in folders that root alone can write, of this process alone.
        if (ground.Links == Links.OfRoot)
        {
            using var roots = Process.Start(new ProcessStartInfo("sleep", ["60"]) { WorkingDirectory = elsewhere })!;
            Own(folder, "account");
            File.CreateSymbolicLink($"{folder}/magic", $"/proc/{roots.Id}/cwd/till");
            Own($"{folder}/magic", "account");
            Assert.Null(Read(ground, $"{folder}/magic"));
            roots.Kill();
            roots.WaitForExit();
            Own(folder, who);
        }

        // Another name of a file is that file; nothing of what opens it waits, and a device is not opened.
        Run("ln", $"{elsewhere}/till", $"{folder}/second-name");
        Assert.Equal("herring", Read(ground, $"{folder}/second-name"));
        Run("mkfifo", $"{folder}/pipe");
        Run("mknod", $"{folder}/zero", "c", "1", "5");
        foreach (var odd in (string[])["pipe", "zero"])
            Assert.Null(Read(ground, $"{folder}/{odd}"));
    }

    public static TheoryData<string, string> PlacesThat(Handling does) =>
        new(
            Ground
                .All.Where(ground => ground.Does.HasFlag(does))
                .SelectMany(ground => ((string[])["root", "account", "third"]).Select(who => (ground.Name, who)))
        );

    /// <summary>What lies under a name before something is done there: a link of each owner, moved, another name, a pipe, a device.</summary>
    private static Dictionary<string, Action> Planted(string folder, string elsewhere)
    {
        var planted = new Dictionary<string, Action>
        {
            ["second name"] = () => Run("ln", $"{elsewhere}/till", $"{folder}/here"),
            ["pipe"] = () => Run("mkfifo", $"{folder}/here"),
            ["device"] = () => Run("mknod", $"{folder}/here", "c", "1", "5"),
            ["magic link"] = () =>
                File.CreateSymbolicLink($"{folder}/here", $"/proc/{Environment.ProcessId}/root{elsewhere}/till"),
        };
        foreach (var whose in (string[])["root", "account", "third"])
            planted[$"renamed link of {whose}"] = () =>
            {
                File.CreateSymbolicLink($"{folder}/before", $"{elsewhere}/till");
                Own($"{folder}/before", whose);
                File.Move($"{folder}/before", $"{folder}/here");
            };
        return planted;
    }

    private (string Folder, string Elsewhere) Scene(string who)
    {
        var folder = Folder(who);
        var elsewhere = root.CreateSubdirectory("elsewhere").FullName;
        File.SetUnixFileMode(elsewhere, (UnixFileMode)0x1C0);
        File.WriteAllText($"{elsewhere}/till", "herring");
        File.SetUnixFileMode($"{elsewhere}/till", (UnixFileMode)0x180);
        return (folder, elsewhere);
    }

    /// <summary>What is written is made anew under its name; through whatever lay there nothing is written.</summary>
    [Theory]
    [MemberData(nameof(PlacesThat), Handling.Write)]
    public void What_is_written_goes_through_nothing_that_lies_there(string name, string who)
    {
        var ground = Ground.All.Single(one => one.Name == name);
        var (folder, elsewhere) = Scene(who);
        foreach (var (what, plant) in Planted(folder, elsewhere))
        {
            plant();
            using (var way = Held.Walk(ground, folder))
                way.Held.Put("here", "cod"u8, (UnixFileMode)0x180, CalmSentry.Linux.Accounts.Account.WithId(0)!);
            Assert.True(File.ReadAllText($"{elsewhere}/till") == "herring", what);
            Assert.True(File.ReadAllText($"{folder}/here") == "cod", what);
            Assert.Null(new FileInfo($"{folder}/here").LinkTarget);
            File.Delete($"{folder}/here");
        }
    }

    /// <summary>An owner is set of what was walked to and looked at, and of nothing that it leads to, or that is put in its place.</summary>
    [Theory]
    [MemberData(nameof(PlacesThat), Handling.Own)]
    public void What_gets_an_owner_is_what_was_looked_at(string name, string who)
    {
        var ground = Ground.All.Single(one => one.Name == name);
        var (folder, elsewhere) = Scene(who);
        foreach (var (what, plant) in Planted(folder, elsewhere).Where(one => one.Key != "second name"))
        {
            plant();
            using (var way = Held.Walk(ground, folder))
            using (var here = way.Held.Entry("here")!)
                here.Give(Account, Account);
            Assert.True(Owner($"{elsewhere}/till") == 0, what);
            File.Delete($"{folder}/here");
        }

        File.WriteAllText($"{folder}/here", "mine");
        File.CreateSymbolicLink($"{folder}/link", $"{elsewhere}/till");
        Run("ln", $"{elsewhere}/till", $"{folder}/second");
        using var race = Racing(
            folder,
            "while :; do mv here aside; mv link here; mv here link; mv second here; mv here second; mv aside here; done 2>/dev/null"
        );
        for (var clock = Stopwatch.StartNew(); clock.Elapsed < TimeSpan.FromMilliseconds(100); )
        {
            using var way = Held.Walk(ground, folder);
            using var here = way.Held.Entry("here");
            if (here?.Identity() is { Type: FileType.Regular, Links: 1 })
                here.Give(Account, Account);
            Assert.Equal(0u, Owner($"{elsewhere}/till"));
        }

        race.Kill(entireProcessTree: true);
        race.WaitForExit();
    }

    /// <summary>What is run as root lies where root alone can write, all the way down.</summary>
    [Theory]
    [MemberData(nameof(PlacesThat), Handling.Run)]
    public void What_is_run_lies_where_root_alone_can_write(string name, string who)
    {
        var ground = Ground.All.Single(one => one.Name == name);
        var (folder, _) = Scene(who);
        Directory.CreateDirectory($"{folder}/programs");
        using (var way = Held.Walk(ground, $"{folder}/programs"))
            Assert.Equal(who == "root", way.Last.IsRootsAlone);
        // A link to a place of root's, in a folder of somebody else's, is not gone at all.
        var roots = root.CreateSubdirectory("of root").FullName;
        File.CreateSymbolicLink($"{folder}/link", roots);
        Assert.Equal(who == "root" ? roots : null, WalkedTo(ground, $"{folder}/link"));
    }

    private static uint Owner(string path)
    {
        using var way = Held.Walk(Ground.Own, Path.GetDirectoryName(path)!);
        using var file = way.Held.Entry(Path.GetFileName(path))!;
        return file.Identity().Uid;
    }

    private static Process Racing(string folder, string line) =>
        Process.Start(new ProcessStartInfo("sh", ["-c", line]) { WorkingDirectory = folder })!;

    /// <summary>What is exchanged meanwhile was looked at before or after, never half of each.</summary>
    [Theory]
    [MemberData(nameof(Places))]
    public void What_is_exchanged_meanwhile_is_one_or_the_other(string name, string who)
    {
        var ground = Ground.All.Single(one => one.Name == name);
        var folder = Folder(who);
        var elsewhere = root.CreateSubdirectory("elsewhere").FullName;
        File.WriteAllText($"{elsewhere}/till", "herring");
        Directory.CreateDirectory($"{folder}/books");
        File.WriteAllText($"{folder}/books/till", "mine");
        File.CreateSymbolicLink($"{folder}/link", elsewhere);
        Own($"{folder}/link", who == "root" ? "account" : who);
        using var race = Racing(
            folder,
            "while :; do mv books aside; mv link books; mv books link; mv aside books; done 2>/dev/null"
        );
        var clock = Stopwatch.StartNew();
        while (clock.Elapsed < TimeSpan.FromMilliseconds(100))
        {
            var read = Read(ground, $"{folder}/books/till");
            if (ground.Links != Links.All)
                Assert.NotEqual("herring", read);
        }

        race.Kill(entireProcessTree: true);
        race.WaitForExit();
    }

    private static string? Read(Ground ground, string path)
    {
        try
        {
            using var file = new StreamReader(Held.Read(ground, path));
            return file.ReadToEnd();
        }
        catch (IOException)
        {
            return null;
        }
    }

    private static string? Walked(Ground ground, string path) => Path.GetFileName(WalkedTo(ground, path));

    private static string? WalkedTo(Ground ground, string path)
    {
        try
        {
            using var way = Held.Walk(ground, path);
            return way.Path;
        }
        catch (IOException)
        {
            return null;
        }
    }

    [Fact]
    public void A_folder_is_roots_alone_when_nobody_else_can_write_on_the_way()
    {
        var deep = root.CreateSubdirectory("a/b/c").FullName;
        File.SetUnixFileMode(root.FullName, (UnixFileMode)0x1ED);
        using (var way = Held.Walk(Ground.ProgramFiles, deep))
        {
            Assert.True(way.Last.IsRootsAlone); // also below a folder that all can write and whose names are kept
            Assert.Equal(deep, way.NearestOfRoot()!.Path);
        }

        Own(Path.Combine(root.FullName, "a", "b"), "account");
        using (var way = Held.Walk(Ground.ProgramFiles, deep))
        {
            Assert.False(way.Last.IsRootsAlone);
            Assert.Equal(Path.Combine(root.FullName, "a"), way.NearestOfRoot()!.Path);
        }

        File.SetUnixFileMode(Path.Combine(root.FullName, "a"), (UnixFileMode)0x1FD); // 0775
        using (var way = Held.Walk(Ground.ProgramFiles, deep))
            Assert.Equal(root.FullName, way.NearestOfRoot()!.Path);
        Run("setfacl", "-m", "u:4711:rwx", root.FullName);
        using (var way = Held.Walk(Ground.ProgramFiles, deep))
            Assert.NotEqual(root.FullName, way.NearestOfRoot()?.Path);
    }
}
