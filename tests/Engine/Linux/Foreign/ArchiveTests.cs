using System.Formats.Tar;
using System.IO.Compression;
using CalmSentry.Linux.Foreign;
using CsCheck;

namespace CalmSentry.Tests.Engine.Linux.Foreign;

/// <summary>Archives made by whoever: what is good comes out as it went in, and nothing comes to lie outside.</summary>
public sealed class ArchiveTests : IDisposable
{
    private readonly DirectoryInfo root = Directory.CreateTempSubdirectory("calm's archive ");

    private const long Most = 1 << 20;

    public void Dispose() => root.Delete(recursive: true);

    private string Into => Directory.CreateDirectory(Path.Combine(root.FullName, "in", "deep")).FullName;

    private static MemoryStream Tar(params TarEntry[] entries)
    {
        var bytes = new MemoryStream();
        using (var tar = new TarWriter(bytes, TarEntryFormat.Pax, leaveOpen: true))
            foreach (var entry in entries)
                tar.WriteEntry(entry);
        bytes.Position = 0;
        return bytes;
    }

    private static PaxTarEntry File(string name, string text = "tickets", UnixFileMode mode = (UnixFileMode)0x1A4) =>
        new(TarEntryType.RegularFile, name)
        {
            DataStream = new MemoryStream(System.Text.Encoding.UTF8.GetBytes(text)),
            Mode = mode,
            ModificationTime = new DateTimeOffset(2026, 3, 1, 8, 0, 0, TimeSpan.Zero),
        };

    private static PaxTarEntry Link(string name, string target, TarEntryType type = TarEntryType.SymbolicLink) =>
        new(type, name) { LinkName = target };

    private ArchiveException Refused(Stream archive, long most = Most)
    {
        // Of what was unpacked before the member at fault nothing is to be in the way.
        Directory.Delete(Into, recursive: true);
        return Assert.Throws<ArchiveException>(() => Unpack(archive, Into, most));
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void Files_directories_and_links_come_out_as_they_went_in(bool packed)
    {
        Stream archive = Tar(
            new PaxTarEntry(TarEntryType.Directory, "./board/"),
            File("./board/board.js", "serve()", (UnixFileMode)0x1ED),
            File("board/pages/quay.html", "Lundholm"),
            Link("board/now.html", "pages/quay.html"),
            Link("board/again.js", "board/board.js", TarEntryType.HardLink)
        );
        if (packed)
        {
            var small = new MemoryStream();
            using (var gzip = new GZipStream(small, CompressionLevel.Fastest, leaveOpen: true))
                archive.CopyTo(gzip);
            small.Position = 0;
            archive = small;
        }

        Unpack(archive, Into, Most);
        string Of(string name) => System.IO.File.ReadAllText(Path.Combine(Into, "board", name));
        Assert.Equal(("serve()", "Lundholm", "Lundholm"), (Of("board.js"), Of("pages/quay.html"), Of("now.html")));
        Assert.Equal("serve()", Of("again.js"));
        Assert.Equal((UnixFileMode)0x1ED, System.IO.File.GetUnixFileMode(Path.Combine(Into, "board/board.js")));
        Assert.Equal(2026, System.IO.File.GetLastWriteTimeUtc(Path.Combine(Into, "board/board.js")).Year);
    }

    [Fact]
    public void A_zip_comes_out_too()
    {
        var bytes = new MemoryStream();
        using (var zip = new ZipArchive(bytes, ZipArchiveMode.Create, leaveOpen: true))
        {
            using (var to = new StreamWriter(zip.CreateEntry("board/board.js").Open()))
                to.Write("serve()");
            var link = zip.CreateEntry("board/now.js");
            link.ExternalAttributes = 0xA1FF << 16;
            using var target = new StreamWriter(link.Open());
            target.Write("board.js");
        }

        bytes.Position = 0;
        Unpack(bytes, Into, Most);
        Assert.Equal("serve()", System.IO.File.ReadAllText(Path.Combine(Into, "board/now.js")));
    }

    [Fact]
    public void What_does_not_come_to_its_checksum_is_refused()
    {
        var packed = new MemoryStream();
        using (var gzip = new GZipStream(packed, CompressionLevel.Fastest, leaveOpen: true))
            Tar(File("prices.env", "PRICE=100")).CopyTo(gzip);
        var bytes = packed.ToArray();
        bytes[^8] ^= 1; // its CRC-32 (RFC 1952, section 2.3.1)
        Refused(new MemoryStream(bytes));
        bytes[^8] ^= 1;
        bytes[^1] ^= 1; // its length
        Refused(new MemoryStream(bytes));
        bytes[^1] ^= 1;
        Unpack(new MemoryStream(bytes), Empty, Most);

        var zipped = new MemoryStream();
        using (var zip = new ZipArchive(zipped, ZipArchiveMode.Create, leaveOpen: true))
        using (var to = new StreamWriter(zip.CreateEntry("prices.env", CompressionLevel.NoCompression).Open()))
            to.Write("PRICE=100");
        bytes = zipped.ToArray();
        bytes[bytes.AsSpan().IndexOf("=100"u8) + 1] = (byte)'9';
        Assert.Equal("prices.env", Refused(new MemoryStream(bytes)).Member);
    }

    [Fact]
    public void A_long_name_is_whole_also_where_words_before_it_do_not_say_it()
    {
        var (folder, name) = (new string('l', 90), new string('n', 60));
        var plain = new MemoryStream();
        using (var tar = new TarWriter(plain, TarEntryFormat.Ustar, leaveOpen: true))
            tar.WriteEntry(
                new UstarTarEntry(TarEntryType.RegularFile, $"{folder}/{name}/index.js")
                {
                    DataStream = new MemoryStream("serve()"u8.ToArray()),
                }
            );
        // A pax extended header that tells when it was written, and not how it is called.
        var words = new byte[1024];
        "PaxHeader"u8.CopyTo(words);
        "0000644\0"u8.CopyTo(words.AsSpan(100));
        "00000000024\0"u8.CopyTo(words.AsSpan(124));
        "        "u8.CopyTo(words.AsSpan(148));
        words[156] = (byte)'x';
        "ustar\000"u8.CopyTo(words.AsSpan(257));
        System
            .Text.Encoding.ASCII.GetBytes($"{Convert.ToString(words.Sum(one => one), 8).PadLeft(6, '0')}\0 ")
            .CopyTo(words, 148);
        "20 mtime=1772352000\n"u8.CopyTo(words.AsSpan(512));
        Unpack(new MemoryStream([.. words, .. plain.ToArray()]), Into, Most);
        Assert.Equal("serve()", System.IO.File.ReadAllText(Path.Combine(Into, folder, name, "index.js")));
    }

    [Fact]
    public void A_sparse_file_is_refused_by_its_own_name()
    {
        var entry = new PaxTarEntry(
            TarEntryType.RegularFile,
            "GNUSparseFile.7/tides.img",
            new Dictionary<string, string> { ["GNU.sparse.major"] = "1", ["GNU.sparse.name"] = "tides.img" }
        )
        {
            DataStream = new MemoryStream("1\n0\n1\n"u8.ToArray()),
        };
        Assert.Equal("tides.img", Refused(Tar(File("a"), entry)).Member);
    }

    [Theory]
    [InlineData("FD377A585A00", "xz")]
    [InlineData("425A683931415926", "bzip2")]
    [InlineData("28B52FFD0458", "zstd")]
    [InlineData("377ABCAF271C0004", "7z")]
    [InlineData("303730373031", "cpio")]
    public void What_is_packed_otherwise_is_named(string head, string kind) =>
        Assert.Contains(
            $"it is packed by {kind}",
            Refused(new MemoryStream([.. Convert.FromHexString(head), .. new byte[1000]])).Message,
            StringComparison.Ordinal
        );

    [Theory]
    [InlineData("/etc/cron.d/x")]
    [InlineData("../x")]
    [InlineData("board/../../x")]
    public void A_path_that_leads_outside_is_refused_with_its_member(string name)
    {
        Assert.Equal(name, Refused(Tar(File("board/a"), File(name))).Member);
        Assert.Empty(Directory.GetFiles(root.FullName));
        Assert.Empty(Directory.GetFiles(Path.Combine(root.FullName, "in")));
    }

    [Theory]
    [InlineData("/etc/passwd")]
    [InlineData("../../x")]
    [InlineData("..//..//x")]
    public void A_link_that_leads_outside_is_refused(string target) =>
        Assert.Equal("board/l", Refused(Tar(Link("board/l", target))).Member);

    [Fact]
    public void No_way_leads_through_a_link()
    {
        // Looks as if it stayed inside, and would not.
        Assert.Equal("out", Refused(Tar(Link("d/up", ".."), Link("out", "d/up/../.."))).Member);
        Assert.Equal("board/l/x", Refused(Tar(Link("board/l", "."), File("board/l/x"))).Member);
        Assert.Equal("x", Refused(Tar(Link("l", "y"), Link("x", "l", TarEntryType.HardLink))).Member);
    }

    [Theory]
    [InlineData(TarEntryType.CharacterDevice)]
    [InlineData(TarEntryType.BlockDevice)]
    [InlineData(TarEntryType.Fifo)]
    public void Devices_are_refused(TarEntryType type) =>
        Assert.Equal("dev", Refused(Tar(new PaxTarEntry(type, "dev"))).Member);

    [Fact]
    public void What_is_too_much_is_refused_whatever_it_says_of_itself()
    {
        Assert.Equal("b", Refused(Tar(File("a", new('x', 700)), File("b", new('x', 700))), most: 1000).Member);
        var bomb = new MemoryStream();
        using (var gzip = new GZipStream(bomb, CompressionLevel.SmallestSize, leaveOpen: true))
            Tar(File("zeros", new('0', 10 << 20))).CopyTo(gzip);
        bomb.Position = 0;
        Assert.Equal("zeros", Refused(bomb).Member);
        Assert.Equal(
            "b",
            Refused(Tar(File("a", new('x', 700)), Link("b", "a", TarEntryType.HardLink)), most: 1000).Member
        );
    }

    [Fact]
    public void A_name_that_is_there_twice_or_a_file_as_a_directory_is_refused()
    {
        Assert.Equal("a", Refused(Tar(File("a"), File("a"))).Member);
        Assert.Equal("a/b", Refused(Tar(File("a"), File("a/b"))).Member);
        Assert.Equal("a", Refused(Tar(File("a/b"), File("a"))).Member);
    }

    [Fact]
    public void Rights_to_change_accounts_are_not_taken_over()
    {
        Unpack(Tar(File("su", mode: (UnixFileMode)0xDED)), Into, Most);
        Assert.Equal((UnixFileMode)0x1ED, System.IO.File.GetUnixFileMode(Path.Combine(Into, "su")));
    }

    [Fact]
    public void What_is_none_is_refused()
    {
        Refused(new MemoryStream([]));
        Refused(new MemoryStream("no archive at all, only words that somebody wrote"u8.ToArray()));
        Refused(new MemoryStream([0x1f, 0x8b, 8, 0, 0, 0, 0]));
        Refused(new MemoryStream([(byte)'P', (byte)'K', 3, 4, 0, 0, 0]));
    }

    /// <summary>Whatever bytes there are: what is unpacked is below, and nothing else is thrown.</summary>
    [Fact]
    public void Any_change_of_an_archive_is_unpacked_inside_or_refused()
    {
        var good = Tar(
                File("board/a"),
                Link("board/l", "a"),
                File("board/b/c"),
                Link("x", "board/a", TarEntryType.HardLink)
            )
            .ToArray();
        Gen.Select(Gen.Int[0, good.Length - 1], Gen.Byte)
            .Array[1, 4]
            .Sample(
                changes =>
                {
                    var bytes = good.ToArray();
                    foreach (var (at, value) in changes)
                        bytes[at] = value;
                    var place = Directory.CreateTempSubdirectory("calm's archive ");
                    var into = place.CreateSubdirectory("in").FullName;
                    try
                    {
                        Unpack(new MemoryStream(bytes), into, Most);
                    }
                    catch (ArchiveException)
                    {
                        // The one way in which it may fail.
                    }

                    Assert.Equal([into], Directory.GetFileSystemEntries(place.FullName));
                    place.Delete(recursive: true);
                },
                iter: 500,
                threads: 1
            );
    }

    [Fact]
    public void A_directory_is_taken_as_an_archive_is()
    {
        var from = Directory.CreateDirectory(Path.Combine(root.FullName, "from", "lib")).Parent!.FullName;
        System.IO.File.WriteAllText(Path.Combine(from, "lib", "a.js"), "a");
        System.IO.File.CreateSymbolicLink(Path.Combine(from, "current"), "lib/a.js");
        System.IO.File.SetLastWriteTimeUtc(
            Path.Combine(from, "lib", "a.js"),
            new(2026, 3, 1, 8, 0, 0, DateTimeKind.Utc)
        );
        using (var held = Held.Walk(Ground.NewFiles, from))
            Copy(held.Held, Into);
        Assert.Equal("a", System.IO.File.ReadAllText(Path.Combine(Into, "current")));
        Assert.Equal(2026, System.IO.File.GetLastWriteTimeUtc(Path.Combine(Into, "lib", "a.js")).Year);

        System.IO.File.CreateSymbolicLink(Path.Combine(from, "out"), "/etc/passwd");
        using (var held = Held.Walk(Ground.NewFiles, from))
            Assert.Equal("out", Assert.Throws<ArchiveException>(() => Copy(held.Held, Empty)).Member);
        System.IO.File.Delete(Path.Combine(from, "out"));
        using (var made = System.Diagnostics.Process.Start("mkfifo", [Path.Combine(from, "pipe")]))
            made.WaitForExit();
        using (var held = Held.Walk(Ground.NewFiles, from))
            Assert.Equal("pipe", Assert.Throws<ArchiveException>(() => Copy(held.Held, Empty)).Member);
    }

    private static void Unpack(Stream archive, string into, long most)
    {
        using var place = Held.Walk(Ground.NewFiles, into);
        Archive.Unpack(archive, into, new DiskRoom(place.Held, most), new());
    }

    private static void Copy(Held from, string into)
    {
        using var place = Held.Walk(Ground.NewFiles, into);
        Archive.Copy(from, into, new DiskRoom(place.Held, Most), new());
    }

    private string Empty
    {
        get
        {
            Directory.Delete(Into, recursive: true);
            return Into;
        }
    }
}
