using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Troubles;
using CsCheck;

namespace CalmSentry.Tests.Engine.Linux.Foreign;

/// <summary>Versions of a program's files: one takes the place of another as a whole, wherever that is cut off.</summary>
public sealed class ProgramFilesTests : IDisposable
{
    private readonly DirectoryInfo root = Directory.CreateTempSubdirectory("calm's versions ");
    private readonly string[] data = ["day.book", "spool/*.txt", "var/kept"];

    public void Dispose() => root.Delete(recursive: true);

    private string Board => Path.Combine(root.FullName, "board");

    private string Beside =>
        Path.Combine(root.FullName, Environment.IsPrivilegedProcess ? ".calm-versions" : ".board.versions");

    private static void Write(string directory, string name, string text)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(Path.Combine(directory, name))!);
        File.WriteAllText(Path.Combine(directory, name), text);
    }

    private ProgramFiles Two(out (long, string) one, out (long, string) two)
    {
        Write(Board, "board.js", "one");
        Write(Board, "day.book", "booked");
        Write(Board, "spool/a.txt", "ticket a");
        Write(Board, "spool/b.txt", "ticket b");
        Write(Board, "spool/format", "one");
        Write(Board, "var/kept/deep/x", "x");
        var files = ProgramFiles.Open(Board, "S1");
        using (files.Stage(2)) { }
        Write(files.PathOf(2), "board.js", "two");
        Write(files.PathOf(2), "spool/format", "two");
        one = (1, files.Present()!);
        two = (2, files.IdentityOf(2)!);
        return files;
    }

    private static void Is(string directory, string version)
    {
        Assert.Equal(version, File.ReadAllText(Path.Combine(directory, "board.js")));
        Assert.Equal(version, File.ReadAllText(Path.Combine(directory, "spool", "format")));
    }

    private void HasItsData()
    {
        Assert.Equal("booked", File.ReadAllText(Path.Combine(Board, "day.book")));
        Assert.Equal("ticket a", File.ReadAllText(Path.Combine(Board, "spool", "a.txt")));
        Assert.Equal("ticket b", File.ReadAllText(Path.Combine(Board, "spool", "b.txt")));
        Assert.Equal("x", File.ReadAllText(Path.Combine(Board, "var", "kept", "deep", "x")));
    }

    [Fact]
    public void Another_version_takes_its_place_with_the_data_and_gives_it_back()
    {
        using var files = Two(out var one, out var two);
        Assert.Equal(1, files.Whole(one, two, data));
        Assert.Null(files.Bring(two, one, data));
        Is(Board, "two");
        Is(files.PathOf(1), "one");
        HasItsData();
        Assert.Equal(2, files.Whole(one, two, data));
        Assert.False(File.Exists(Path.Combine(files.PathOf(1), "day.book")));
        Assert.Equal((UnixFileMode)0x1C0, File.GetUnixFileMode(Beside));

        Assert.Null(files.Bring(two, one, data)); // done twice it does no harm
        Write(Board, "day.book", "booked again");
        Assert.Null(files.Bring(one, two, data));
        Is(Board, "one");
        Is(files.PathOf(2), "two");
        Assert.Equal("booked again", File.ReadAllText(Path.Combine(Board, "day.book")));
        Assert.Equal(1, files.Whole(one, two, data));
    }

    /// <summary>Every state that a cut in the middle can leave: exchanged or not, renamed or not, so much of the data carried.</summary>
    [Fact]
    public void Wherever_it_is_cut_off_the_next_one_makes_it_whole() =>
        Gen.Select(Gen.Int[0, 4], Gen.Int[0, 4], Gen.Bool, Gen.Bool)
            .Sample(
                (step, carried, twoStrokes, onward) =>
                {
                    Directory.Delete(root.FullName, recursive: true);
                    root.Create();
                    using var files = Two(out var one, out var two);
                    if (step > 0 && twoStrokes)
                    {
                        Directory.Move(Board, files.PathOf(1));
                        if (step > 1)
                            Directory.Move(files.PathOf(2), Board);
                    }
                    else if (step > 0)
                    {
                        // As an exchange leaves it: each has got the other's name.
                        Directory.Move(Board, Board + "~");
                        Directory.Move(files.PathOf(2), Board);
                        Directory.Move(Board + "~", files.PathOf(step > 1 ? 1 : 2));
                    }

                    if (step > 1)
                    {
                        if (carried > 0)
                            File.Move(Path.Combine(files.PathOf(1), "day.book"), Path.Combine(Board, "day.book"));
                        if (carried > 1)
                            File.Move(Path.Combine(files.PathOf(1), "spool/a.txt"), Path.Combine(Board, "spool/a.txt"));
                        if (carried > 2)
                            Directory.CreateDirectory(Path.Combine(Board, "var"));
                    }

                    if (step > 0)
                        Assert.Null(files.Whole(one, two, data));
                    // From anywhere it can be finished, and also taken back.
                    Assert.Null(onward ? files.Bring(two, one, data) : files.Bring(one, two, data));
                    Is(Board, onward ? "two" : "one");
                    HasItsData();
                    Assert.Equal(onward ? 2 : 1, files.Whole(one, two, data));
                },
                iter: 300,
                threads: 1
            );

    [Fact]
    public void Data_that_is_in_both_stops_it_and_all_is_as_before()
    {
        using var files = Two(out var one, out var two);
        Write(files.PathOf(2), "spool/b.txt", "another b");
        Assert.Contains("spool/b.txt is data", files.Bring(two, one, data), StringComparison.Ordinal);
        Is(Board, "one");
        HasItsData();
        Assert.Equal(1, files.Whole(one, two, []));
    }

    [Fact]
    public void Where_the_place_of_the_version_before_is_taken_all_is_as_before()
    {
        using var files = Two(out var one, out var two);
        Write(files.PathOf(1), "in the way", "");
        Assert.NotNull(files.Bring(two, one, data));
        Is(Board, "one");
        HasItsData();
        Assert.Equal(two.Item2, files.IdentityOf(2));
    }

    [Fact]
    public void What_somebody_else_has_put_there_is_left_alone()
    {
        using var files = Two(out var one, out var two);
        Directory.Move(Board, Board + ".mine");
        Write(Board, "board.js", "three");
        Assert.Contains("somebody has put something else there", files.Bring(two, one, data), StringComparison.Ordinal);
        Assert.Null(files.Whole(one, two, data));
        Assert.Equal("three", File.ReadAllText(Path.Combine(Board, "board.js")));

        Directory.Delete(Board, recursive: true);
        File.CreateSymbolicLink(Board, "/etc");
        Assert.NotNull(files.Bring(two, one, data));
        Assert.Throws<MovedException>(() => files.Hold().Dispose());
    }

    [Fact]
    public void A_link_in_the_way_to_data_is_not_followed()
    {
        using var files = Two(out var one, out var two);
        var outside = Directory.CreateDirectory(Path.Combine(root.FullName, "outside")).FullName;
        Write(outside, "kept", "not yours");
        Directory.Delete(Path.Combine(Board, "var"), recursive: true);
        File.CreateSymbolicLink(Path.Combine(Board, "var"), outside);
        Assert.Null(files.Bring(two, one, data));
        Assert.True(File.Exists(Path.Combine(outside, "kept")));
        Assert.False(Path.Exists(Path.Combine(Board, "var", "kept")));
    }

    [Theory]
    [InlineData("day.book", true)]
    [InlineData("spool/a.txt", true)]
    [InlineData("spool/a.txt/in", true)]
    [InlineData("spool/format", false)]
    [InlineData("spool", false)]
    [InlineData("var/kept/deep/x", true)]
    [InlineData("var", false)]
    [InlineData("other/day.book", false)]
    public void Data_is_told_by_its_path(string path, bool isData) =>
        Assert.Equal(isData, ProgramFiles.IsData(path, data));

    [Fact]
    public void No_way_to_a_version_is_open_to_others()
    {
        using var files = Two(out _, out _);
        Assert.Equal((UnixFileMode)0x1C0, File.GetUnixFileMode(Beside));
        files.Drop(2);
        Assert.Null(files.IdentityOf(2));
        Assert.False(Directory.Exists(Beside)); // and nothing stays of what was only looked at
    }

    [Fact]
    public void Versions_of_an_earlier_sentry_are_found_by_what_they_are_and_not_by_their_names()
    {
        Assert.SkipUnless(Environment.IsPrivilegedProcess, "As another user than root they lie where they lay.");
        using var files = Two(out var one, out var two);
        Assert.Null(files.Bring(two, one, data));
        var earlier = Path.Combine(root.FullName, ".board.versions");
        Directory.CreateDirectory(earlier, (UnixFileMode)0x1C0);
        Directory.Move(files.PathOf(1), Path.Combine(earlier, "S9.1"));
        Directory.CreateDirectory(Path.Combine(earlier, "S9.3")); // of that name, and another one
        files.BringEarlier("S9", () => [one, (3, "4711")]);
        Assert.Equal(one.Item2, files.IdentityOf(1));
        Assert.Null(files.IdentityOf(3));
        Assert.Equal(earlier, files.Left);
        Directory.Delete(Path.Combine(earlier, "S9.3"));
        files.BringEarlier("S9", () => []);
        Assert.False(Directory.Exists(earlier));
    }

    [Fact]
    public void However_deep_a_tree_is_it_can_be_removed_and_is_not_walked()
    {
        // Deeper than a path can say, and than a stack has room for.
        using (
            var deeper = System.Diagnostics.Process.Start(
                new System.Diagnostics.ProcessStartInfo(
                    "perl",
                    ["-e", "for (my $i = 0; $i < 6000; $i++) { my $d = $i ? 'd' : 'deep'; mkdir $d; chdir $d or die }"]
                )
                {
                    WorkingDirectory = root.FullName,
                }
            )!
        )
            deeper.WaitForExit();

        using var way = Held.Walk(Ground.ProgramFiles, root.FullName);
        using (var deep = way.Held.Entry("deep")!)
            Assert.Throws<IOException>(() => FileTrees.Compare(deep, deep, _ => false, new()));
        way.Held.Remove("deep");
        Assert.Empty(Directory.EnumerateFileSystemEntries(root.FullName));
    }
}
