using System.Diagnostics;
using CalmSentry.Inspection.Checks;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Tests.Engine.Inspection;

/// <summary>A process may become another program between two readings of it.</summary>
public class ProcessLineTests
{
    [Fact]
    public async Task One_that_has_become_another_program_meanwhile_is_no_copy()
    {
        using var shell = Process.Start(
            new ProcessStartInfo("/bin/sh", ["-c", "echo began; read word; exec sleep 60"])
            {
                RedirectStandardInput = true,
                RedirectStandardOutput = true,
            }
        )!;
        try
        {
            await shell.StandardOutput.ReadLineAsync(TestContext.Current.CancellationToken);
            var seen = new ProcessLine(shell.Id, ProcessFacts.CommandLine(shell.Id), ProcessFacts.Executable(shell.Id));
            Assert.False(seen.HasChanged());
            await shell.StandardInput.WriteLineAsync("go on");
            shell.StandardInput.Close();
            // Its own output ends when it ends; that it executes something else only /proc tells.
            Assert.True(
                SpinWait.SpinUntil(() => ProcessFacts.CommandLine(shell.Id) is ["sleep", ..], TimeSpan.FromMinutes(1))
            );
            Assert.True(seen.HasChanged());
        }
        finally
        {
            shell.Kill();
            await shell.WaitForExitAsync(CancellationToken.None);
        }
    }
}
