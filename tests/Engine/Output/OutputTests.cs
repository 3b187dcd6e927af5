using System.Text;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Engine.Output;
using CalmSentry.Keeper;
using CsCheck;

namespace CalmSentry.Tests.Engine.Output;

/// <summary>
/// What a keeper writes and the server reads: whatever comes in whatever pieces, and whenever files are turned over, packed or let
/// go in between, no byte and no line is lost, doubled or taken for another stream's.
/// </summary>
public sealed class OutputTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("calm's output ").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    private string Current => Path.Combine(folder, OutputForm.Current);

    /// <summary>Small pieces with and without ends of lines, by two streams.</summary>
    private static readonly Gen<(bool Error, string Text)[]> Pieces = Gen.Select(
        Gen.Bool,
        Gen.OneOf(Gen.String[Gen.Char["ab\n\0é"], 0, 30], Gen.String[Gen.Char["abcdefghijklmnopq\n"], 0, 400])
    ).Array[0, 60];

    private enum Between
    {
        Nothing,
        TurnOver,
        Reopen,
        Pack,
    }

    private static readonly Gen<Between[]> Events = Gen.Int[0, 9]
        .Select(one => one < 4 ? (Between)one : Between.Nothing)
        .Array[60];

    [Fact]
    public void No_byte_and_no_line_is_lost_or_doubled() =>
        Gen.Select(Pieces, Events, Gen.Bool)
            .Sample(
                (pieces, events, stamped) =>
                {
                    Clear();
                    var sink = Opened(stamped);
                    var (all, wanted) = (new StringBuilder(), new Lines());
                    for (var i = 0; i < pieces.Length; i++)
                    {
                        Put(sink, pieces[i].Error ? OutputSource.Error : OutputSource.Output, pieces[i].Text);
                        all.Append(pieces[i].Text);
                        wanted.Add(pieces[i].Error, pieces[i].Text);
                        switch (events[i])
                        {
                            case Between.TurnOver:
                                sink.TurnNow();
                                break;
                            case Between.Reopen: // a run ends, and the next begins
                                sink.Close();
                                sink = Opened(stamped);
                                wanted.Break();
                                break;
                            case Between.Pack:
                                OutputTidy.Tidy(folder, new(), DateTime.UtcNow, Packing.Here, CancellationToken.None);
                                break;
                        }
                    }

                    wanted.Break();
                    sink.Close();
                    if (!stamped)
                        Assert.Equal(all.ToString(), Encoding.UTF8.GetString(Bytes(0)));
                    var read = Read(new OutputLines(folder, 0, OutputPart.Utf8));
                    foreach (var error in (bool[])[false, true])
                        Assert.Equal(
                            wanted.Of(error),
                            read.Where(line => (line.Source == OutputSource.Error) == error).Select(line => line.Text)
                        );
                    Assert.All(read, line => Assert.NotNull(line.At));
                },
                iter: 100,
                threads: 1 // they share the folder
            );

    [Fact]
    public void What_is_looked_for_is_what_a_plain_reading_finds() =>
        Gen.Select(Pieces, Events, Gen.Int[0, 4], Gen.String[Gen.Char["ab"], 1, 2], Gen.Int[0, 2], Gen.Bool)
            .Sample(
                (pieces, events, last, text, around, errors) =>
                {
                    Clear();
                    var sink = Opened(stamped: false);
                    for (var i = 0; i < pieces.Length; i++)
                    {
                        Put(sink, pieces[i].Error ? OutputSource.Error : OutputSource.Output, pieces[i].Text);
                        if (events[i] != Between.Nothing)
                            sink.TurnNow();
                        if (events[i] == Between.Pack)
                            OutputTidy.Tidy(folder, new(), DateTime.UtcNow, Packing.Here, CancellationToken.None);
                    }

                    sink.Close();
                    var all = Read(new OutputLines(folder, 0, OutputPart.Utf8));
                    var query = new OutputQuery(folder, OutputPart.Utf8, 0, Segments.End(folder), null)
                    {
                        Find = text,
                        Around = around,
                        ErrorsOnly = errors,
                    };
                    var fitting = Enumerable
                        .Range(0, all.Count)
                        .Where(i => query.Fits(all[i].Source, all[i].Text))
                        .ToList();
                    var wanted = Enumerable
                        .Range(0, all.Count)
                        .Where(i => fitting.Any(hit => Math.Abs(hit - i) <= around))
                        .Select(i => (all[i].Place, Fits: fitting.Contains(i)))
                        .ToList();
                    Assert.Equal(wanted, Found(query).Select(found => (found.Line.Place, found.Fits)));
                    // Of the latest, what stands around them, and nothing of what stood around one before.
                    var (left, latest) = (fitting.SkipLast(last).ToList(), fitting.TakeLast(last).ToList());
                    Assert.Equal(
                        wanted
                            .Select(one => all.FindIndex(line => line.Place == one.Place))
                            .Where(i => i > left.LastOrDefault(-1) && latest.Any(hit => Math.Abs(hit - i) <= around))
                            .Select(i => all[i].Place),
                        Found(query with { Last = last }).Select(found => found.Line.Place)
                    );
                    Assert.False(Found(query with { Last = last }).FirstOrDefault() is { Apart: true });
                },
                iter: 100,
                threads: 1 // they share the folder
            );

    [Fact]
    public void The_last_lines_begin_where_a_plain_reading_says() =>
        Gen.Select(Pieces, Events, Gen.Int[0, 12])
            .Sample(
                (pieces, events, last) =>
                {
                    Clear();
                    var sink = Opened(stamped: false);
                    for (var i = 0; i < pieces.Length; i++)
                    {
                        Put(sink, OutputSource.Output, pieces[i].Text);
                        if (events[i] != Between.Nothing)
                            sink.TurnNow();
                        if (events[i] == Between.Pack)
                            OutputTidy.Tidy(folder, new(), DateTime.UtcNow, Packing.Here, CancellationToken.None);
                    }

                    sink.Close();
                    var all = Encoding.UTF8.GetString(Bytes(0));
                    var lines = all.Split('\n');
                    if (lines[^1].Length == 0)
                        lines = lines[..^1];
                    else
                        lines[^1] += "~";
                    Assert.Equal(
                        string.Concat(lines.TakeLast(last).Select(line => line + '\n'))
                            .Replace("~\n", "", StringComparison.Ordinal),
                        Encoding.UTF8.GetString(Bytes(OutputFile.StartOfLast(folder, last).Place))
                    );
                },
                iter: 100,
                threads: 1 // they share the folder
            );

    [Fact]
    public void By_size_it_is_turned_over_at_the_end_of_a_line()
    {
        using var random = new StreamWriter(Path.Combine(folder, "wanted"));
        var sink = new Sink();
        Assert.True(sink.Open(Current, 1000, stamped: false, AtStart.Append));
        for (var i = 0; i < 400; i++)
        {
            var text = $"line {i} of many, all of them short\nand the begin";
            Put(sink, OutputSource.Output, text);
            random.Write(text);
        }

        sink.Close();
        random.Close();
        Assert.Equal(File.ReadAllBytes(Path.Combine(folder, "wanted")), Bytes(0));
        var turned = Directory.GetFiles(folder, "output.*.log");
        Assert.InRange(turned.Length, 10, 25);
        Assert.All(turned, file => Assert.EndsWith("\n", File.ReadAllText(file), StringComparison.Ordinal));
    }

    [Fact]
    public void A_line_without_an_end_does_not_keep_it_from_being_turned_over()
    {
        var sink = new Sink();
        Assert.True(sink.Open(Current, 1 << 20, stamped: false, AtStart.Append));
        var megabyte = new string('x', 1 << 20);
        for (var i = 0; i < 40; i++)
            Put(sink, OutputSource.Output, megabyte);
        sink.Close();
        Assert.Equal(40L << 20, Segments.End(folder));
        Assert.True(new FileInfo(Current).Length <= OutputForm.LongestLine + (3 << 20));
        // It is one line still, wherever it lies.
        var line = Assert.Single(Read(new OutputLines(folder, 0, OutputPart.Utf8)));
        Assert.Equal((40L << 20, false), (line.Bytes, line.Ended));
    }

    /// <summary>What stands beside a program is no place to write without end.</summary>
    [Fact]
    public void Of_a_file_without_times_so_much_is_kept_and_all_is_taken()
    {
        var sink = new Sink { Most = 1000 };
        Assert.True(sink.Open(Current, 0, stamped: false, AtStart.Append));
        for (var i = 0; i < 100; i++)
            Put(sink, OutputSource.Output, new string('x', 99) + "\n");
        sink.Close();
        Assert.Equal(1000, new FileInfo(Current).Length);
    }

    [Theory]
    [InlineData("remove")]
    [InlineData("move")]
    [InlineData("empty")]
    public void What_hands_do_to_the_file_is_noticed_and_what_comes_is_kept(string hands)
    {
        var sink = Opened(stamped: false);
        Put(sink, OutputSource.Output, "before\n");
        switch (hands)
        {
            case "remove":
                File.Delete(Current);
                break;
            case "move":
                File.Move(Current, Current + ".old");
                break;
            default:
                File.WriteAllText(Current, "");
                break;
        }

        var end = DateTime.UtcNow.AddMinutes(1);
        for (var i = 0; !File.Exists(Current) || new FileInfo(Current).Length == 0; i++)
        {
            Assert.True(DateTime.UtcNow < end);
            Put(sink, OutputSource.Output, $"after {i}\n");
            Thread.Yield();
        }

        Put(sink, OutputSource.Output, "and the last\n");
        sink.Close();
        Assert.Contains("and the last\n", File.ReadAllText(Current), StringComparison.Ordinal);
        Assert.Equal("and the last", Read(new OutputLines(folder, 0, OutputPart.Utf8))[^1].Text);
        // Another keeper goes on behind it, at a place that none before has had.
        var place = Segments.End(folder);
        sink = Opened(stamped: false);
        Put(sink, OutputSource.Output, "the next run\n");
        sink.Close();
        Assert.Equal("the next run\n", Encoding.UTF8.GetString(Bytes(place)));
    }

    [Theory]
    [InlineData("renamed")] // turned over, and nothing more
    [InlineData("no head")] // the head of the new times did not get to the disk
    [InlineData("half a mark")]
    public void Where_it_was_cut_short_the_next_keeper_goes_on(string cut)
    {
        var sink = Opened(stamped: false);
        Put(sink, OutputSource.Output, "one\n");
        sink.TurnNow();
        Put(sink, OutputSource.Error, "two\n");
        sink.Close();
        switch (cut)
        {
            case "renamed":
                File.Move(Current, Path.Combine(folder, OutputForm.TurnedOver(2)));
                break;
            case "no head":
                File.Move(Current, Path.Combine(folder, OutputForm.TurnedOver(2)));
                File.WriteAllText(Path.Combine(folder, OutputForm.TimesOf(3)), "");
                break;
            default:
                File.AppendAllText(Path.Combine(folder, OutputForm.TimesOf(2)), "half");
                break;
        }

        sink = Opened(stamped: false);
        Put(sink, OutputSource.Output, "three\n");
        sink.Close();
        Assert.Equal("one\ntwo\nthree\n", Encoding.UTF8.GetString(Bytes(0)));
        Assert.Equal(
            [("one", OutputSource.Output, 0L), ("two", OutputSource.Error, 4L), ("three", OutputSource.Output, 8L)],
            Read(new OutputLines(folder, 0, OutputPart.Utf8)).Select(line => (line.Text, line.Source, line.Place))
        );
    }

    [Fact]
    public void A_file_of_before_there_were_times_goes_on_at_the_same_places()
    {
        File.WriteAllText(Current, "of old\n");
        Assert.Equal(7, Segments.End(folder));
        using var reader = new SegmentReader(folder, 0);
        var bytes = new byte[100];
        Assert.Equal(7, reader.Read(bytes));
        var sink = Opened(stamped: false);
        Put(sink, OutputSource.Output, "of now\n");
        sink.Close();
        Assert.Equal(7, reader.Read(bytes));
        var lines = Read(new OutputLines(folder, 0, OutputPart.Utf8));
        Assert.Equal([("of old", true), ("of now", false)], lines.Select(line => (line.Text, line.At is null)));
    }

    [Fact]
    public void Who_follows_reads_each_byte_once_while_it_is_turned_over_and_packed()
    {
        var sink = Opened(stamped: false);
        using var reader = new SegmentReader(folder, 0);
        var (wanted, read, block) = (new StringBuilder(), new StringBuilder(), new byte[64]);
        for (var i = 0; i < 500; i++)
        {
            var text = $"line {i}\n";
            Put(sink, OutputSource.Output, text);
            wanted.Append(text);
            if (i % 7 == 3)
                sink.TurnNow();
            if (i % 5 == 2)
                while (reader.Read(block) is > 0 and var got)
                    read.Append(Encoding.UTF8.GetString(block, 0, got));
            if (i % 20 == 19)
                OutputTidy.Tidy(folder, new(), DateTime.UtcNow, Packing.Here, CancellationToken.None);
        }

        while (reader.Read(block) is > 0 and var rest)
            read.Append(Encoding.UTF8.GetString(block, 0, rest));
        sink.Close();
        Assert.Equal(wanted.ToString(), read.ToString());
    }

    [Fact]
    public void More_than_is_staged_at_once_is_stamped_line_by_line()
    {
        var sink = Opened(stamped: true);
        var lines = Enumerable.Range(0, 40_000).Select(i => new string((char)('a' + (i % 26)), i % 97)).ToList();
        foreach (var piece in string.Concat(lines.Select(line => line + "\n")).Chunk(500_000))
            Put(sink, OutputSource.Output, new string(piece));
        sink.Close();
        Assert.Equal(lines, Read(new OutputLines(folder, 0, OutputPart.Utf8)).Select(line => line.Text));
        Assert.All(
            File.ReadLines(Current),
            line => Assert.Matches(@"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z o [a-z]*$", line)
        );
    }

    [Fact]
    public void Packing_gives_way_to_nobody_while_more_waits_than_a_quarter_of_what_may_be_kept()
    {
        var sink = Opened(stamped: false);
        for (var i = 0; i < 4; i++)
        {
            Put(sink, OutputSource.Output, new string('x', 9999) + "\n");
            sink.TurnNow();
        }

        sink.Close();
        // While much is printed and little waits, it is left for later.
        var left = 0;
        var much = new OutputPart { KeepMost = 1_000_000 };
        OutputTidy.Tidy(folder, much, DateTime.UtcNow, Packing.Here, CancellationToken.None, () => left++);
        Assert.Equal(1, left);
        Assert.Equal(4, Directory.GetFiles(folder, "output.*.log").Length);
        var hurried = new List<(int Files, bool GivesWay)>();
        var keep = new OutputPart { KeepMost = 100_000 };
        OutputTidy.Tidy(folder, keep, DateTime.UtcNow, Pack, CancellationToken.None);
        Assert.Equal([(2, false), (2, true)], hurried);
        hurried.Clear();
        OutputTidy.Tidy(folder, keep, DateTime.UtcNow, Pack, CancellationToken.None);
        Assert.Empty(hurried); // all of it is packed

        void Pack(IReadOnlyList<string> files, bool givesWay, CancellationToken cancellation)
        {
            hurried.Add((files.Count(file => file.EndsWith(".log", StringComparison.Ordinal)), givesWay));
            Packing.Here(files, givesWay, cancellation);
        }
    }

    [Fact]
    public void What_is_not_to_be_kept_goes_before_it_is_packed()
    {
        var sink = Opened(stamped: false);
        for (var i = 0; i < 5; i++)
        {
            Put(sink, OutputSource.Output, $"file {i}\n");
            sink.TurnNow();
        }

        sink.Close();
        var packed = 0;
        OutputTidy.Tidy(
            folder,
            new() { KeepFiles = 2 },
            DateTime.UtcNow,
            (files, _, _) => packed += files.Count(file => file.EndsWith(".log", StringComparison.Ordinal)),
            CancellationToken.None
        );
        Assert.Equal(2, packed);
    }

    [Fact]
    public void The_oldest_go_first_and_only_what_is_too_much()
    {
        var sink = Opened(stamped: false);
        for (var i = 0; i < 10; i++)
        {
            Put(sink, OutputSource.Output, $"file {i}\n");
            sink.TurnNow();
        }

        Put(sink, OutputSource.Output, "now\n");
        sink.Close();
        Assert.Equal(
            default,
            OutputTidy.Tidy(folder, new() { KeepFiles = 10 }, DateTime.UtcNow, Packing.Here, CancellationToken.None)
        );
        Assert.Equal(
            (7, 49L),
            OutputTidy.Tidy(folder, new() { KeepFiles = 3 }, DateTime.UtcNow, Packing.Here, CancellationToken.None)
        );
        Assert.Equal(
            ["file 7", "file 8", "file 9", "now"],
            Read(new OutputLines(folder, 0, OutputPart.Utf8)).Select(line => line.Text)
        );
        var late = DateTime.UtcNow.AddDays(2);
        Assert.Equal(
            (3, 21L),
            OutputTidy.Tidy(
                folder,
                new() { KeepFor = TimeSpan.FromDays(1) },
                late,
                Packing.Here,
                CancellationToken.None
            )
        );
        Assert.Equal("now\n", Encoding.UTF8.GetString(Bytes(0)));
        Assert.Equal(74, Segments.End(folder));
        Assert.Empty(Directory.GetFiles(folder, "*.gz"));
    }

    [Fact]
    public void Fresh_is_fresh_and_who_read_the_one_before_reads_it_to_its_end()
    {
        var sink = Opened(stamped: false);
        Put(sink, OutputSource.Output, "before\n");
        using var reader = new SegmentReader(folder, 0);
        var block = new byte[4];
        Assert.Equal(4, reader.Read(block));
        sink.Close();
        Assert.True(sink.Open(Current, 1 << 20, stamped: false, AtStart.Fresh));
        Put(sink, OutputSource.Output, "now\n");
        sink.Close();
        Assert.Equal("now\n", File.ReadAllText(Current));
        Assert.Equal(3, reader.Read(block));
        Assert.Equal(4, reader.Read(block));
        Assert.Equal("now\n", Encoding.ASCII.GetString(block));
    }

    [Theory]
    [InlineData("windows-1252", "Gråø – 5 €")]
    [InlineData("utf-16le", "Gråø 船 \u0a0d\u0d0a x")]
    [InlineData("utf-16be", "Gråø 船 \u0a0d\u0d0a x")]
    [InlineData("shift_jis", "船と港")]
    public void Characters_are_read_by_their_encoding(string encoding, string text)
    {
        var sink = Opened(stamped: false);
        foreach (var one in OutputLines.Of(encoding).GetBytes($"{text}\r\n{text}\r\n"))
            Put(sink, OutputSource.Output, [one]);
        sink.Close();
        Assert.Equal([text, text], Read(new OutputLines(folder, 0, encoding)).Select(line => line.Text));
        Assert.Equal(
            [text, text],
            Found(new(folder, encoding, 0, null, null) { Find = text[..2] }).Select(found => found.Line.Text)
        );
        Assert.Equal([text], Found(new(folder, encoding, 0, null, 1)).Select(found => found.Line.Text));
        Assert.Equal([text], OutputFile.LastLines(folder, encoding, 0, Segments.End(folder), 1));
        Assert.Equal([text, text], new NewLines(folder, 0, encoding).Next());
        Assert.Equal(Segments.End(folder) / 2, OutputSearch.StartOfLast(folder, encoding, 1, CancellationToken.None));
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void A_line_is_whole_though_the_other_stream_comes_between(bool stamped)
    {
        var sink = Opened(stamped);
        var lines = new NewLines(folder, 0, OutputPart.Utf8);
        Put(sink, OutputSource.Error, "ls: no such file");
        Put(sink, OutputSource.Output, "looked\n");
        Put(sink, OutputSource.Sentry, "[calm: 2 lines left out]\n");
        Assert.Equal(["looked"], lines.Next());
        Put(sink, OutputSource.Error, " or directory\n");
        Put(sink, OutputSource.Output, "and");
        Assert.Equal(["ls: no such file or directory"], lines.Next());
        sink.TurnNow();
        Put(sink, OutputSource.Output, " on\nthe rest");
        sink.Close();
        Assert.Equal(["and on"], lines.Next());
        Assert.Equal(["the rest"], lines.Rest());
        string[] all = ["looked", "[calm: 2 lines left out]", "ls: no such file or directory", "and on", "the rest"];
        Assert.Equal(all, OutputFile.FirstLines(folder, OutputPart.Utf8, 0, 9));
        Assert.Equal(all[^2..], OutputFile.LastLines(folder, OutputPart.Utf8, 0, Segments.End(folder), 2));
    }

    [Fact]
    public void A_stamp_is_the_time_and_the_stream()
    {
        var sink = Opened(stamped: true);
        Put(sink, OutputSource.Error, "trouble\n");
        sink.Close();
        var line = Assert.Single(Read(new OutputLines(folder, 0, OutputPart.Utf8)));
        Assert.Equal($"{line.At!.Value:yyyy-MM-ddTHH:mm:ss.fff}Z e trouble\n", File.ReadAllText(Current));
        Assert.Equal(OutputForm.StampLength, File.ReadAllText(Current).IndexOf('t', StringComparison.Ordinal));
    }

    [Fact]
    public void A_place_is_found_by_its_time()
    {
        var sink = Opened(stamped: false);
        var times = new List<DateTimeOffset>();
        for (var i = 0; i < 30; i++)
        {
            // So that each has a mark of its own.
            while (
                times.Count > 0
                && DateTimeOffset.UtcNow - times[^1] < TimeSpan.FromMilliseconds(2 * OutputForm.Precision)
            )
                Thread.Yield();
            Put(sink, OutputSource.Output, $"{i}\n");
            times.Add(DateTimeOffset.UtcNow);
            if (i % 8 == 7)
                sink.TurnNow();
            if (i == 20)
                OutputTidy.Tidy(folder, new(), DateTime.UtcNow, Packing.Here, CancellationToken.None);
        }

        sink.Close();
        for (var i = 1; i < 30; i++)
            Assert.StartsWith(
                $"{i}\n",
                Encoding.UTF8.GetString(Bytes(OutputSearch.PlaceAt(folder, times[i - 1].AddMilliseconds(1)))),
                StringComparison.Ordinal
            );
        Assert.Equal(Segments.End(folder), OutputSearch.PlaceAt(folder, DateTimeOffset.UtcNow.AddHours(1)));
        Assert.Equal(0, OutputSearch.PlaceAt(folder, DateTimeOffset.UnixEpoch));
    }

    private Sink Opened(bool stamped)
    {
        var sink = new Sink();
        Assert.True(sink.Open(Current, 1 << 20, stamped, AtStart.Append));
        return sink;
    }

    private void Clear()
    {
        Directory.Delete(folder, recursive: true);
        Directory.CreateDirectory(folder);
    }

    private static void Put(Sink sink, OutputSource source, string text) =>
        Put(sink, source, Encoding.UTF8.GetBytes(text));

    private static unsafe void Put(Sink sink, OutputSource source, byte[] bytes)
    {
        fixed (byte* first = bytes)
            for (var put = 0; put < bytes.Length; )
            {
                put += sink.Put(source, first + put, bytes.Length - put);
                Assert.Equal(0, sink.Stuck);
            }
    }

    private byte[] Bytes(long from)
    {
        using var reader = new SegmentReader(folder, from);
        using var all = new MemoryStream();
        var block = new byte[1000];
        while (reader.Read(block) is > 0 and var got)
            all.Write(block, 0, got);
        return all.ToArray();
    }

    private static List<OutputLine> Read(OutputLines lines)
    {
        using (lines)
        {
            var all = new List<OutputLine>();
            while (lines.Next() is { } line)
                all.Add(line);
            return [.. all, .. lines.Rest()];
        }
    }

    private static List<FoundLine> Found(OutputQuery query) =>
        [.. OutputSearch.Of(query, TestContext.Current.CancellationToken)];

    /// <summary>What the lines of two streams are, by the simplest reading.</summary>
    private sealed class Lines
    {
        private readonly List<string> output = [],
            error = [];
        private string openOutput = "",
            openError = "";

        public List<string> Of(bool isError) => isError ? error : output;

        public void Add(bool isError, string text)
        {
            var parts = ((isError ? openError : openOutput) + text).Split('\n');
            (isError ? error : output).AddRange(parts[..^1]);
            if (isError)
                openError = parts[^1];
            else
                openOutput = parts[^1];
        }

        /// <summary>What has begun ends here.</summary>
        public void Break()
        {
            if (openOutput.Length > 0)
                output.Add(openOutput);
            if (openError.Length > 0)
                error.Add(openError);
            openOutput = openError = "";
        }
    }
}
