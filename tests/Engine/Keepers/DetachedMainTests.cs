using CalmSentry.Engine.Keepers;

namespace CalmSentry.Tests.Engine.Keepers;

/// <summary>A pid file is read by its first line, and what is wrong with it is said.</summary>
public sealed class DetachedMainTests : IDisposable
{
    private readonly string file = Path.GetTempFileName();

    public void Dispose() => File.Delete(file);

    [Theory]
    [InlineData("{0}")]
    [InlineData("{0}\n")]
    [InlineData(" {0} \r\n")]
    [InlineData("{0}\n/srv/data\n1764\n5432\n/run\n127.0.0.1\n 7 9\nready   \n")]
    public void The_first_line_names_it(string content)
    {
        File.WriteAllText(file, string.Format(null, content, Environment.ProcessId));
        Assert.Equal(new DetachedSight(Environment.ProcessId, null), Of());
    }

    [Theory]
    [InlineData("", "is empty")]
    [InlineData("\n{0}\n", "is empty")]
    [InlineData("{0} {0}\n", "and no process id")]
    [InlineData("-1\n", "'-1', and no process id")]
    [InlineData("0\n", "'0', and no process id")]
    [InlineData("99999999999\n", "and no process id")]
    [InlineData("pid\u001b[2J\n", "'pid·[2J', and no process id")]
    [InlineData("1\n", "names pid 1, which is none")]
    [InlineData("4194305\n", "names pid 4194305, which is none of the processes it has left")]
    public void What_is_wrong_is_said(string content, string words)
    {
        File.WriteAllText(file, string.Format(null, content, Environment.ProcessId));
        var seen = Of();
        Assert.Null(seen.Pid);
        Assert.Contains(file, seen.Missing, StringComparison.Ordinal);
        Assert.Contains(words, seen.Missing, StringComparison.Ordinal);
    }

    [Fact]
    public void One_that_is_huge_is_looked_at_no_further_than_its_beginning()
    {
        File.WriteAllText(file, new string('7', 1 << 20));
        Assert.InRange(Of().Missing!.Length, 1, 200 + file.Length);
    }

    [Fact]
    public void One_that_is_not_there_is_named()
    {
        File.Delete(file);
        Assert.Contains($"{file} is not there", Of().Missing, StringComparison.Ordinal);
    }

    /// <summary>This process is the only one that the keeper has.</summary>
    private DetachedSight Of() => DetachedMain.Of(file, pid => pid == Environment.ProcessId ? 7 : 1, keeper: 7);
}
