using System.Diagnostics;
using System.Globalization;
using System.Net.Sockets;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Tests.Engine.Keepers;

/// <summary>Keepers are made before they are needed, and no more of them than are needed.</summary>
public sealed class ReserveTests : IDisposable
{
    private readonly string place = Directory.CreateTempSubdirectory("reserve").FullName;
    private readonly List<(int Pid, Socket Connection)> taken = [];
    private readonly KeeperStarter starter;

    public ReserveTests()
    {
        // It does what a keeper does that is never given an order: it leaves when nobody is there any more who could give one.
        var keeper = Path.Combine(place, "keeper");
        File.WriteAllText(keeper, $"#!/bin/sh\necho $$ >>{place}/made\nread order <&3\n");
        File.SetUnixFileMode(keeper, UnixFileMode.UserRead | UnixFileMode.UserExecute);
        starter = new(keeper, place);
    }

    [Theory]
    [InlineData(2, 2)]
    [InlineData(40, 40)]
    [InlineData(40, 7)]
    [InlineData(40, 0)]
    [InlineData(300, 300)]
    public async Task As_many_are_made_as_an_act_needs_and_what_it_leaves_goes(int needed, int launched)
    {
        using (starter.Reserve(needed))
            for (var i = 0; i < launched; i++)
                Take();

        var one = await Spare();
        // One beside the one in reserve may have been on its way when the last was taken.
        if (launched == needed)
            Assert.InRange(Made().Count, needed, needed + 2);
        Assert.Equal(launched, taken.Select(keeper => keeper.Pid).Distinct().Count());
        Assert.All(taken, keeper => Assert.True(Lives(keeper.Pid)));
        Assert.DoesNotContain(one, taken.Select(keeper => keeper.Pid));
    }

    [Fact]
    public async Task Those_of_one_act_do_not_go_with_the_end_of_another()
    {
        using var longer = starter.Reserve(20);
        using (starter.Reserve(20))
            for (var i = 0; i < 20; i++)
                Take();

        await Until(() => Living() == 20 + 20 + 1);
    }

    [Fact]
    public async Task What_is_expected_is_there_before_it_is_taken()
    {
        starter.Expect(12);
        await Until(() => Living() == 12 + 1);
        var before = Made();

        for (var i = 0; i < 12; i++)
            Assert.Contains(Take(), before);

        Assert.Equal(before.Count, Made().Count);
    }

    private int Take()
    {
        taken.Add(starter.Take());
        return taken[^1].Pid;
    }

    /// <summary>The only one that is left over.</summary>
    private async Task<int> Spare()
    {
        await Until(() => Living() - taken.Count == 1);
        return Made().Single(pid => Lives(pid) && taken.All(keeper => keeper.Pid != pid));
    }

    private int Living() => Made().Count(Lives);

    private List<int> Made() =>
        File.Exists($"{place}/made")
            ? [.. File.ReadLines($"{place}/made").Select(line => int.Parse(line, CultureInfo.InvariantCulture))]
            : [];

    /// <summary>What has ended has no words any more (proc(5), cmdline).</summary>
    private bool Lives(int pid)
    {
        try
        {
            return File.ReadAllText($"/proc/{pid}/cmdline").Contains(place, StringComparison.Ordinal);
        }
        catch (IOException)
        {
            return false;
        }
    }

    private static async Task Until(Func<bool> came)
    {
        var watch = Stopwatch.StartNew();
        while (!came())
        {
            Assert.True(watch.Elapsed < TimeSpan.FromMinutes(1), "it did not come");
            await Task.Delay(5, TestContext.Current.CancellationToken);
        }
    }

    public void Dispose()
    {
        starter.Expect(0);
        foreach (var (pid, connection) in taken)
        {
            connection.Dispose();
            KeeperStarter.Collect(pid);
        }

        foreach (var left in Made().Where(Lives))
            Process.GetProcessById(left).Kill();
        Directory.Delete(place, recursive: true);
    }
}
