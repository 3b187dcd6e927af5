using CalmSentry.Contract;
using CalmSentry.Engine.Output;

namespace CalmSentry.Tests.Engine.Output;

/// <summary>Output in a directory of a definition's: nothing of it is lost on the way there and back, wherever that is cut off.</summary>
public sealed class OutputPlaceTests : IDisposable
{
    private readonly string root = Directory.CreateTempSubdirectory("calm-place-").FullName;
    private readonly string otherDisk = Directory.Exists("/dev/shm")
        ? Path.Combine("/dev/shm", $"calm-place-{Guid.NewGuid():N}")
        : "";

    private Places Places => new(root);

    private OutputPlace Place => new(Places, "gate");

    private string Link => Places.OutputDirectoryOf("gate");

    private string Aside(string what) => Path.Combine(Places.Logs, $".gate.{what}");

    public void Dispose()
    {
        foreach (var directory in new[] { root, otherDisk })
            if (Directory.Exists(directory))
                Directory.Delete(directory, recursive: true);
    }

    private void Print(string text)
    {
        Directory.CreateDirectory(Path.Combine(Link, "times"));
        File.AppendAllText(Path.Combine(Link, "output.log"), text);
        File.WriteAllText(Path.Combine(Link, "times", "1"), text);
    }

    private string Printed => File.ReadAllText(Path.Combine(Link, "output.log"));

    [Fact]
    public void It_comes_along_to_another_place_and_to_the_next_and_back()
    {
        Place.Bring(null);
        Print("one ");
        foreach (var folder in new[] { "a", "b" })
        {
            var to = Path.Combine(root, "data", folder);
            Directory.CreateDirectory(Path.GetDirectoryName(to)!);
            Assert.Null(Place.WhyNot(to));
            Place.Bring(to);
            Place.Bring(to); // it is there already
            Assert.Equal(to, Place.Elsewhere);
            Print($"{folder} ");
            Assert.Equal(
                ["output.log", "times"],
                Directory.EnumerateFileSystemEntries(to).Select(Path.GetFileName).Order()
            );
        }

        Assert.Equal(["b"], Directory.EnumerateFileSystemEntries(Path.Combine(root, "data")).Select(Path.GetFileName));
        Place.Bring(null);
        Assert.Null(Place.Elsewhere);
        Assert.Equal("one a b ", Printed);
        Assert.Equal(["gate"], Directory.EnumerateFileSystemEntries(Places.Logs).Select(Path.GetFileName));
        Assert.Empty(Directory.EnumerateFileSystemEntries(Path.Combine(root, "data")));
    }

    [Fact]
    public void It_comes_along_to_another_disk_and_back()
    {
        if (otherDisk.Length == 0)
            Assert.Skip("this host has no second file system at /dev/shm");
        Directory.CreateDirectory(otherDisk);
        var to = Path.Combine(otherDisk, "gate");
        Place.Bring(null);
        Print("one ");
        Place.Bring(to);
        Print("two ");
        Assert.Equal("one two ", File.ReadAllText(Path.Combine(to, "output.log")));
        Assert.Equal(["gate"], Directory.EnumerateFileSystemEntries(otherDisk).Select(Path.GetFileName));
        Place.Bring(null);
        Assert.Equal("one two ", Printed);
        Assert.Empty(Directory.EnumerateFileSystemEntries(otherDisk));
        Assert.Equal(["gate"], Directory.EnumerateFileSystemEntries(Places.Logs).Select(Path.GetFileName));
    }

    public enum Cut
    {
        Moved,
        MovedFromElsewhere,
        Copied,
        CopiedInPart,
        Exchanged,
        BroughtBack,
    }

    public static TheoryData<Cut, bool> Cuts
    {
        get
        {
            var all = new TheoryData<Cut, bool>();
            foreach (var cut in Enum.GetValues<Cut>())
            {
                all.Add(cut, true);
                all.Add(cut, false);
            }

            return all;
        }
    }

    /// <summary>What each cut leaves, made by hand; the next launch brings it to where it is wanted.</summary>
    [Theory]
    [MemberData(nameof(Cuts))]
    public void Wherever_it_is_cut_off_all_of_it_is_there_at_the_next_launch(Cut cut, bool wanted)
    {
        var data = Path.Combine(root, "data");
        var to = Path.Combine(data, "gate");
        Directory.CreateDirectory(data);
        Place.Bring(null);
        Print("all of it");
        File.WriteAllText(Aside("moving"), to);
        switch (cut)
        {
            case Cut.Moved:
                Directory.Move(Link, to);
                break;
            case Cut.MovedFromElsewhere:
                Directory.Move(Link, to);
                File.CreateSymbolicLink(Link, Path.Combine(data, "before"));
                break;
            case Cut.Copied:
                Copy(Link, to);
                break;
            case Cut.CopiedInPart:
                Directory.CreateDirectory(Path.Combine(data, ".gate.moving", "times"));
                break;
            case Cut.Exchanged:
                Copy(Link, to);
                Directory.Move(Link, Aside("before"));
                break;
            case Cut.BroughtBack:
                File.Delete(Aside("moving"));
                Directory.Move(Link, Aside("back"));
                File.CreateSymbolicLink(Link, to);
                break;
        }

        Place.Bring(wanted ? to : null);
        Assert.Equal(wanted ? to : null, Place.Elsewhere);
        Assert.Equal("all of it", Printed);
        Assert.Equal(["gate"], Directory.EnumerateFileSystemEntries(Places.Logs).Select(Path.GetFileName));
        Assert.Equal(
            wanted ? ["gate"] : Array.Empty<string>(),
            Directory.EnumerateFileSystemEntries(data).Select(Path.GetFileName).Where(name => name != ".gate.moving")
        );
    }

    private static void Copy(string from, string to)
    {
        Directory.CreateDirectory(Path.Combine(to, "times"));
        File.Copy(Path.Combine(from, "output.log"), Path.Combine(to, "output.log"));
        File.Copy(Path.Combine(from, "times", "1"), Path.Combine(to, "times", "1"));
    }

    [Fact]
    public void What_others_could_lead_elsewhere_or_holds_something_is_not_taken()
    {
        var open = Directory.CreateDirectory(Path.Combine(root, "open"));
        open.UnixFileMode |= UnixFileMode.OtherWrite;
        var mine = Directory.CreateDirectory(Path.Combine(root, "mine"));
        File.WriteAllText(Path.Combine(mine.FullName, "letter"), "");
        File.CreateSymbolicLink(Path.Combine(root, "link"), mine.FullName);
        Place.Bring(null);
        Print("here");
        foreach (
            var (wanted, why) in new[]
            {
                (Path.Combine(open.FullName, "gate"), "others than root can write in"),
                (Path.Combine(open.FullName, "below", "gate"), "is not there"),
                (mine.FullName, "holds something already"),
                (Path.Combine(mine.FullName, "letter"), "is no directory"),
                (Path.Combine(root, "link"), "is no directory, and links are not followed there"),
                ("/", "no directory for the output of one service"),
            }
        )
        {
            Assert.Contains(why, Place.WhyNot(wanted), StringComparison.Ordinal);
            Assert.Throws<IOException>(() => Bring(wanted));
            Assert.Equal("here", Printed);
        }

        void Bring(string wanted)
        {
            try
            {
                Place.Bring(wanted);
            }
            catch (FileNotFoundException missing)
            {
                throw new IOException(missing.Message);
            }
        }
    }
}
