namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>A copy is in the way when whoever began it may have a say, or it holds what the service needs; any other is only named.</summary>
[Needs("redis-server")]
public sealed class CopyTests
{
    public CopyTests()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
    }

    [Fact]
    public async Task Another_accounts_process_keeps_nobody_from_starting()
    {
        await using var sentry = await Sentry.Start();
        var script = sentry.Script("tide", "#!/bin/sh\nwhile :; do sleep 1; done\n");
        await sentry.Wrap("tide", "--proof", "up-for:50ms", "--", script, "high");
        using var theirs = Sentry.Began("daemon", "/bin/sh", script, "high");
        await Sentry.Eventually(() => Sentry.CommandLine(theirs.Id).Contains("high", StringComparison.Ordinal));
        var check = (await sentry.Calm("check", "tide")).Output;
        Assert.Contains("copy-of-another", check, StringComparison.Ordinal);
        Assert.Contains($"pid {theirs.Id}, as daemon", check, StringComparison.Ordinal);
        await sentry.Ok("start", "tide");
        await sentry.Ok("stop", "tide");

        // Its own account's is in the way, and only that one is ended.
        using var own = Sentry.Began("nobody", "/bin/sh", script, "high");
        await Sentry.Eventually(() => Sentry.CommandLine(own.Id).Contains("high", StringComparison.Ordinal));
        var refused = await sentry.Calm("start", "tide");
        Assert.NotEqual(0, refused.Exit);
        Assert.Contains($"pid {own.Id}, as nobody", refused.Error, StringComparison.Ordinal);
        Assert.DoesNotContain($"pid {theirs.Id}", refused.Error, StringComparison.Ordinal);
        var dry = await sentry.Ok("start", "tide", "--end-copies", "--dry");
        Assert.Contains($"Asked to end first: pid {own.Id}, as nobody", dry.Output, StringComparison.Ordinal);
        await sentry.Ok("start", "tide", "--end-copies");
        Assert.True(own.HasExited || !Sentry.Lives(own.Id));
        Assert.True(Sentry.Lives(theirs.Id));
        await Sentry.End(theirs);
    }

    [Fact]
    public async Task Of_the_hosts_own_tools_it_is_what_they_hold_that_counts()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--proof", "up-for:50ms", "--", "/bin/sleep", "30303");
        using var unrelated = Sentry.Began("nobody", "/bin/sleep", "30303");
        await sentry.Ok("start", "tide");
        await Sentry.End(unrelated);

        // One that writes over its own command line is known by what it executes and the port it holds.
        var port = Sentry.FreePort();
        await sentry.Wrap(
            "store",
            "--proof",
            $"tcp:127.0.0.1:{port}",
            "--",
            "/usr/bin/redis-server",
            "--port",
            $"{port}",
            "--bind",
            "127.0.0.1",
            "--save",
            ""
        );
        using var copy = Sentry.Began(
            "nobody",
            "/usr/bin/redis-server",
            "--port",
            $"{port}",
            "--bind",
            "127.0.0.1",
            "--save",
            ""
        );
        await Sentry.Eventually(async () =>
            (await sentry.Calm("check", "store")).Output.Contains("copy-running", StringComparison.Ordinal)
        );
        Assert.Contains(
            $"pid {copy.Id}, as nobody",
            (await sentry.Calm("start", "store")).Error,
            StringComparison.Ordinal
        );
        await sentry.Ok("start", "store", "--end-copies");
        Assert.False(Sentry.Lives(copy.Id));
    }
}
