using CalmSentry.Linux.Processes;

namespace CalmSentry.Tests.Engine.Linux;

/// <summary>Whose a mark says processes are: who belongs to the run, and who only says so, in one table.</summary>
public class MarkedProcessesTests
{
    private const uint Root = 0,
        Own = 900,
        Other = 1001;

    private static MarkSight One(
        int pid,
        int parent,
        bool marked,
        uint real,
        uint? effective = null,
        uint? saved = null
    ) => new(pid, parent, pid, marked, new(real, effective ?? real, saved ?? effective ?? real));

    private static readonly MarkSight[] Seen =
    [
        One(10, 1, marked: true, Own), // a program
        One(11, 10, marked: true, Own), // its child
        One(12, 10, marked: false, Own), // a child that cleared its environment
        One(13, 12, marked: false, Other), // and that one's, as somebody else
        One(20, 1, marked: true, Root), // a daemon of root's
        One(21, 20, marked: true, Other), // its worker, as another account
        One(30, 1, marked: true, Other), // a stranger with the mark
        One(31, 30, marked: true, Other), // and its child
        One(32, 1, marked: true, Other, Root, Root), // a set-user-ID program that a stranger started
        One(33, 32, marked: true, Other), // and what came of it
        One(40, 1, marked: false, Own), // the account's, of nothing
        One(50, 1, marked: true, Own, Other, Own), // one that may become what it was
    ];

    [Fact]
    public void With_a_group_only_what_is_marked_rightly_belongs() =>
        Assert.Equal([10, 11, 20, 21], MarkedProcesses.Belonging(Seen, [Own], withoutMark: false).Order());

    [Fact]
    public void Without_one_what_comes_from_it_does_too() =>
        Assert.Equal([10, 11, 12, 13, 20, 21], MarkedProcesses.Belonging(Seen, [Own], withoutMark: true).Order());

    [Fact]
    public void Of_an_account_that_is_gone_only_roots_are_believed() =>
        Assert.Equal([20, 21], MarkedProcesses.Belonging(Seen, [], withoutMark: true).Order());

    [Fact]
    public async Task What_is_ended_is_ended_with_what_comes_from_it()
    {
        var mark = $"CALM_TRIAL={Guid.NewGuid():N}";
        using var shell = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo(
                "env",
                [mark, "sh", "-c", "env -i sleep 600 & sleep 600 & echo up; wait"]
            )
            {
                RedirectStandardOutput = true,
            }
        )!;
        await shell.StandardOutput.ReadLineAsync(TestContext.Current.CancellationToken);
        var tree = ProcessFacts.Tree(shell.Id);
        using var ending = new MarkedProcesses.Ending(
            mark,
            [CalmSentry.Linux.Accounts.Account.OwnId],
            withoutMark: true
        );
        ending.End();
        await shell.WaitForExitAsync(TestContext.Current.CancellationToken);
        Assert.Equal(3, ending.Count);
        Assert.True(SpinWait.SpinUntil(() => !tree.Any(ProcessFacts.Lives), TimeSpan.FromMinutes(1)));
        Assert.Empty(ending.Left);
    }
}
