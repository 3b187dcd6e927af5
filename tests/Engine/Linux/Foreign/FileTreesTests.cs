using CalmSentry.Linux.Foreign;

namespace CalmSentry.Tests.Engine.Linux.Foreign;

/// <summary>Trees of new files are compared with those there are, filled up from them, and take over their owners and rights.</summary>
public sealed class FileTreesTests : IDisposable
{
    private readonly DirectoryInfo root = Directory.CreateTempSubdirectory("calm's trees ");

    public void Dispose() => root.Delete(recursive: true);

    private string Old => Path.Combine(root.FullName, "old");

    private string New => Path.Combine(root.FullName, "new");

    private static IReadOnlyList<GivenUp> Adopt(Held old, Held @new, bool over = false, bool alone = true) =>
        new HandedOn(over, path => path == "day.book", new(old, long.MaxValue), new()).Adopt(old, alone, @new);

    private static void Write(string directory, string name, string text)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(Path.Combine(directory, name))!);
        File.WriteAllText(Path.Combine(directory, name), text);
    }

    private void With(Action<Held, Held> work)
    {
        Directory.CreateDirectory(Old);
        Directory.CreateDirectory(New);
        using var old = Held.Walk(Ground.ProgramFiles, Old);
        using var @new = Held.Walk(Ground.ProgramFiles, New);
        work(old.Held, @new.Held);
    }

    [Fact]
    public void What_differs_is_told_by_content_and_kind_and_not_by_time()
    {
        Write(Old, "same", "as it is");
        Write(New, "same", "as it is");
        Write(Old, "length", "short");
        Write(New, "length", "longer");
        Write(Old, "late", new string('a', 200_000) + "x");
        Write(New, "late", new string('a', 200_000) + "y");
        Write(Old, "sub/gone", "");
        Write(New, "sub/come", "");
        Write(Old, "kind", "a file");
        File.CreateSymbolicLink(Path.Combine(New, "kind"), "same");
        File.CreateSymbolicLink(Path.Combine(Old, "link"), "same");
        File.CreateSymbolicLink(Path.Combine(New, "link"), "late");
        Write(Old, "day.book", "booked");
        With(
            (old, @new) =>
            {
                var differs = FileTrees.Compare(old, @new, path => path == "day.book", new());
                Assert.Equal(["kind", "late", "length", "link"], differs.Changed);
                Assert.Equal(["sub/come"], differs.Added);
                Assert.Equal(["sub/gone"], differs.Gone);
                Assert.Equal(1, differs.Same);
            }
        );
    }

    /// <summary>Random trees of few names, so that files become folders and folders files, against the lists of both.</summary>
    [Fact]
    public void What_differs_is_what_the_lists_of_both_trees_say()
    {
        var random = new Random(7);
        for (var trial = 0; trial < 200; trial++)
        {
            foreach (var top in new[] { Old, New })
            {
                if (Directory.Exists(top))
                    Directory.Delete(top, recursive: true);
                Directory.CreateDirectory(top);
                for (var i = 0; i < 8; i++)
                {
                    var path = string.Join(
                        '/',
                        Enumerable.Range(0, random.Next(1, 4)).Select(_ => "abc"[random.Next(3)])
                    );
                    var above = Path.GetDirectoryName(Path.Combine(top, path))!;
                    if (Directory.Exists(Path.Combine(top, path)) || Parts(top, above).Any(File.Exists))
                        continue;
                    Write(top, path, random.Next(2) == 0 ? "one" : "two");
                }
            }

            var (was, now) = (Lists(Old), Lists(New));
            With(
                (old, @new) =>
                {
                    var differs = FileTrees.Compare(old, @new, path => path == "c/c", new());
                    Assert.Equal(now.Keys.Except(was.Keys).Order(StringComparer.Ordinal), differs.Added);
                    Assert.Equal(was.Keys.Except(now.Keys).Order(StringComparer.Ordinal), differs.Gone);
                    Assert.Equal(
                        now.Keys.Where(path => was.TryGetValue(path, out var text) && text != now[path])
                            .Order(StringComparer.Ordinal),
                        differs.Changed
                    );
                    Assert.Equal(now.Values.Sum(text => text.Length), differs.Bytes);
                }
            );
        }

        static IEnumerable<string> Parts(string top, string path)
        {
            for (; path.Length > top.Length; path = Path.GetDirectoryName(path)!)
                yield return path;
        }

        static Dictionary<string, string> Lists(string top) =>
            Directory
                .EnumerateFiles(top, "*", SearchOption.AllDirectories)
                .Select(file => Path.GetRelativePath(top, file))
                .Where(path => path != "c/c" && !path.StartsWith("c/c/", StringComparison.Ordinal))
                .ToDictionary(path => path, path => File.ReadAllText(Path.Combine(top, path)));
    }

    [Fact]
    public void Files_that_the_new_ones_do_not_replace_can_come_along()
    {
        Write(Old, "board.js", "one");
        Write(Old, "lib/a.js", "a");
        Write(Old, "lib/b.js", "b");
        Write(Old, "day.book", "booked");
        File.CreateSymbolicLink(Path.Combine(Old, "current"), "lib");
        Write(New, "board.js", "two");
        Write(New, "lib/b.js", "b two");
        With((old, @new) => Adopt(old, @new, over: true));
        Assert.Equal("two", File.ReadAllText(Path.Combine(New, "board.js")));
        Assert.Equal("a", File.ReadAllText(Path.Combine(New, "lib/a.js")));
        Assert.Equal("b two", File.ReadAllText(Path.Combine(New, "lib/b.js")));
        Assert.Equal("lib", new FileInfo(Path.Combine(New, "current")).LinkTarget);
        Assert.False(File.Exists(Path.Combine(New, "day.book")));
    }

    [Fact]
    public void What_is_not_to_be_there_is_left_out_and_named()
    {
        Write(New, "board.js", "two");
        Write(New, "day.book", "of the makers");
        Write(New, "spool/a.txt", "of the makers");
        With(
            (_, @new) =>
                Assert.Equal(
                    ["day.book", "spool"],
                    FileTrees.Leave(@new, path => path is "day.book" or "spool", new()).Order(StringComparer.Ordinal)
                )
        );
        Assert.Equal(["board.js"], Directory.EnumerateFileSystemEntries(New).Select(Path.GetFileName));
    }

    [Fact]
    public void Owners_rights_and_capabilities_come_out_as_they_were()
    {
        Assert.SkipUnless(Environment.IsPrivilegedProcess, "Only root gives files away.");
        const uint account = 4711,
            group = 4712;
        foreach (var name in (string[])["board", "own", "port", "twice", "lib/a"])
        {
            Write(Old, name, "one");
            Write(New, name, "two");
        }

        Write(New, "lib/b", "two");
        Write(New, "more/c", "two");
        using (
            var link = System.Diagnostics.Process.Start(
                "ln",
                [Path.Combine(Old, "twice"), Path.Combine(root.FullName, "other")]
            )
        )
            link.WaitForExit();
        With(
            (old, @new) =>
            {
                Give(old, "lib", account, group, 0x1F8); // 0770
                Give(old, "lib/a", account, group, 0x1A0); // 0640
                Give(old, "board", 0, group, 0x9E8); // 04750
                Give(old, "twice", 0, group, 0x9E8);
                using (var port = old.Entry("port")!)
                    ExtendedAttributes.Set(port, ExtendedAttributes.Capabilities, LowPorts);
                using (var own = old.Entry("own")!)
                    AccessLists.Set(own, ListKind.Access, AccessList.OfMode(0x1A0).With(account, 6));
                Adopt(old, @new);

                Is(@new, "board", 0, group, 0x9E8);
                Is(@new, "lib", account, group, 0x1F8);
                Is(@new, "lib/a", account, group, 0x1A4); // its folder is not root's: with the rights it was packed with
                Assert.Equal((account, group), Owner(@new, "lib/b")); // new, and its folder is not
                Assert.Equal((0u, 0u), Owner(@new, "more/c"));
                // A second name may be anybody's: its content gets no rights of its own.
                Is(@new, "twice", 0, group, 0x1E8);
                using (var port = @new.Entry("port")!)
                    Assert.Equal(LowPorts, ExtendedAttributes.Of(port, ExtendedAttributes.Capabilities));
                using (var own = @new.Entry("own")!)
                    Assert.True(AccessLists.Of(own, ListKind.Access)!.Names(account));
            }
        );
        Assert.Equal("two", File.ReadAllText(Path.Combine(New, "board")));
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void Where_others_can_write_nothing_is_handed_on_by_a_name(bool ownFolder)
    {
        Assert.SkipUnless(Environment.IsPrivilegedProcess, "Only root gives files away.");
        const uint account = 4711;
        foreach (var name in (string[])["helper", "lib/tool", "closed"])
        {
            Write(Old, name, "root's");
            Write(New, name, "new");
        }

        Write(Old, "kept", "root's alone");
        Write(Old, "lib/suid", "root's helper");
        With(
            (old, @new) =>
            {
                Give(old, "helper", 0, 0, 0x9ED); // 04755
                Give(old, "lib/tool", 0, 0, 0x9ED);
                Give(old, "lib/suid", 0, 0, 0x9ED);
                Give(old, "closed", 0, 0, 0x180);
                Give(old, "kept", 0, 0, 0x180);
                if (ownFolder)
                    Assert.Equal(0, old.Give(account, account));
                var given = Adopt(old, @new, over: true, alone: ownFolder);

                // Whoever owns the folder gets what is new in it, with no more than it was packed with.
                var owner = ownFolder ? account : 0;
                foreach (var name in (string[])["helper", "lib/tool", "closed"])
                    Is(@new, name, owner, owner, 0x1A4); // 0644
                Assert.Equal((owner, owner), Owner(@new, "lib"));
                // What comes along is whose it was: it is the same content.
                Is(@new, "kept", 0, 0, 0x180);
                Is(@new, "lib/suid", 0, 0, 0x1ED); // and can no longer make anybody root
                Assert.Contains(
                    given,
                    one => one.Path == "helper" && one.What.Contains("set-user-ID", StringComparison.Ordinal)
                );
                Assert.Contains(given, one => one is { Path: "lib/suid", What: "set-user-ID" });
            }
        );
    }

    /// <summary>cap_net_bind_service, permitted and effective (capability.h, VFS_CAP_REVISION_2).</summary>
    private static readonly byte[] LowPorts = [1, 0, 0, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

    private static void Give(Held top, string path, uint uid, uint gid, int mode)
    {
        using var held = FileTrees.Find(top, path)!;
        Assert.Equal(0, held.Give(uid, gid));
        held.SetMode(mode);
    }

    private static void Is(Held top, string path, uint uid, uint gid, int mode)
    {
        using var held = FileTrees.Find(top, path)!;
        var what = held.Identity();
        Assert.Equal((uid, gid, mode), (what.Uid, what.Gid, what.Mode));
    }

    private static (uint, uint) Owner(Held top, string path)
    {
        using var held = FileTrees.Find(top, path)!;
        return (held.Identity().Uid, held.Identity().Gid);
    }
}
