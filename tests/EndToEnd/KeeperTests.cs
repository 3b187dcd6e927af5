using System.Diagnostics;
using System.Globalization;
using System.Net.Sockets;
using CalmSentry.Contract.Keeper;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>A keeper that does not do what it is told, or whose place is gone: nothing is lost by it, and nothing hangs.</summary>
[Needs("perl")]
public class KeeperTests
{
    [Fact]
    public async Task A_stop_ends_also_when_the_keeper_hangs()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--wind-down", "TERM 1s", "--start", "--", "/bin/sleep", "681");
        var pid = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
        Sentry.Kill(Sentry.Parent(pid), "STOP");
        var stopped = await sentry.Ok("stop", "relay");
        Assert.Contains("stopped", stopped.Output, StringComparison.Ordinal);
        Assert.False(Sentry.Lives(pid));
        Assert.Empty(sentry.Processes("relay"));
        await sentry.Ok("start", "relay"); // by another keeper
    }

    [Fact]
    public async Task Whoever_looks_at_the_hosts_processes_sees_whose_keeper_it_is()
    {
        await using var sentry = await Sentry.Start();
        var longest = new string('k', 48);
        await sentry.Wrap(longest, "--start", "--", "/bin/sleep", "689");
        var keeper = Sentry.Parent((await sentry.Show(longest)).GetProperty("pid").GetInt32());
        var words = (
            await File.ReadAllTextAsync($"/proc/{keeper}/cmdline", TestContext.Current.CancellationToken)
        ).Split('\0', StringSplitOptions.RemoveEmptyEntries);
        Assert.Equal(["calm-keeper", "keep", sentry.Places.RunDirectory, longest], words);
    }

    [Fact]
    public async Task An_unwrap_ends_also_when_the_keeper_hung_before_the_server_came()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--wind-down", "TERM 1s", "--start", "--", "/bin/sleep", "682");
        var pid = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
        await sentry.KillServer();
        Sentry.Kill(Sentry.Parent(pid), "STOP");
        await sentry.Serve();
        var seen = await sentry.Show("relay");
        Assert.Equal("unknown", seen.GetProperty("health").GetString());
        Assert.Contains("is not known yet", seen.GetProperty("why").GetString(), StringComparison.Ordinal);
        await sentry.Ok("unwrap", "relay", "--yes");
        Assert.False(Sentry.Lives(pid));
        Assert.Empty((await sentry.Ok("list", "--json")).Json.EnumerateArray());
    }

    /// <summary>The keeper from before is given the next launch, and does nothing.</summary>
    [Fact]
    public async Task A_launch_that_is_never_answered_ends_in_an_outcome()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--pause", "2s", "--start", "--", "/bin/sleep", "683");
        var pid = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
        var keeper = Sentry.Parent(pid);
        Sentry.Kill(pid);
        await sentry.Until("relay", view => view.GetProperty("state").GetString() == "waiting");
        Sentry.Kill(keeper, "STOP");
        await sentry.Until("relay", view => view.GetProperty("run").GetInt64() == 3);
        Assert.False(Sentry.Lives(keeper));
        await sentry.Until("relay", view => view.GetProperty("state").GetString() == "running");
        var runs = (await sentry.Ok("runs", "relay", "--json")).Json.EnumerateArray().ToList();
        Assert.Equal("keeper-lost", runs[1].GetProperty("outcome").GetString());
    }

    [Fact]
    public async Task A_program_whose_keeper_has_lost_its_socket_is_taken_up_all_the_same()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--start", "--", "/bin/sleep", "600");
        var pid = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
        var socket = Path.Combine(sentry.Places.RunOf(await sentry.Id("relay")), "socket");
        await sentry.KillServer();
        File.Delete(socket);
        await sentry.Serve();
        var shown = await sentry.Until("relay", view => view.GetProperty("state").GetString() == "running");
        Assert.Equal((pid, 1), (shown.GetProperty("pid").GetInt32(), shown.GetProperty("run").GetInt32()));
        await sentry.Ok("stop", "relay");
        Assert.False(Sentry.Lives(pid));
    }

    /// <summary>A thousand programs that do nothing else must not keep a server from anything.</summary>
    [Fact]
    public async Task A_program_that_stops_and_goes_on_all_the_time_is_told_of_ten_times_a_second_at_most()
    {
        await using var sentry = await Sentry.Start();
        const string flickers =
            "my $p = $$; if (!fork) { while (getppid == $p) { kill STOP => $p; kill CONT => $p } exit } sleep 692";
        await sentry.Wrap("lamp", "--start", "--", "/usr/bin/perl", "-e", flickers);
        var place = Path.Combine(sentry.Places.RunOf(await sentry.Id("lamp")), "socket");
        await sentry.KillServer();
        using (var keeper = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified))
        {
            var clock = Stopwatch.StartNew();
            // The newest server is the one that counts.
            await keeper.ConnectAsync(new UnixDomainSocketEndPoint(place), TestContext.Current.CancellationToken);
            var (inbox, length) = (new byte[4096], 0);
            var told = 0;
            while (told < 6)
            {
                length += await keeper.ReceiveAsync(inbox.AsMemory(length), TestContext.Current.CancellationToken);
                while (
                    Message.TryReadHead(inbox.AsSpan(0, length), out var word, out var body)
                    && length >= Message.HeadLength + body
                )
                {
                    if (word is KeeperWord.Paused or KeeperWord.GoesOn)
                        told++;
                    length -= Message.HeadLength + body;
                    inbox.AsSpan(Message.HeadLength + body, length).CopyTo(inbox);
                }
            }

            // Five times of 100 ms lie between the first and the sixth, however late they are read.
            Assert.InRange(clock.Elapsed, TimeSpan.FromMilliseconds(450), TimeSpan.MaxValue);
        }

        await sentry.Serve();
        await sentry.Ok("stop", "lamp");
    }

    [Fact]
    public async Task A_healthy_program_whose_run_directory_was_wiped_is_taken_up_all_the_same()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--start", "--", "/bin/sleep", "684");
        var pid = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
        await sentry.KillServer();
        Directory.Delete(sentry.Places.RunDirectory, recursive: true);
        await sentry.Serve();
        var seen = await sentry.Show("relay");
        Assert.Equal("running", seen.GetProperty("state").GetString());
        Assert.Equal(pid, seen.GetProperty("pid").GetInt32());
        // And its place is whole again: it is found by another server, and its end is known.
        await sentry.KillServer();
        Sentry.Kill(pid);
        await sentry.Serve();
        await sentry.Until(
            "relay",
            view => view.GetProperty("state").GetString() == "running" && view.GetProperty("pid").GetInt32() != pid
        );
        var runs = (await sentry.Ok("runs", "relay", "--json")).Json.EnumerateArray().ToList();
        Assert.Equal("signalled", runs[1].GetProperty("outcome").GetString());
    }

    /// <summary>As where the host gives no more memory or processes: whatever it dies of, the program was never there.</summary>
    [Fact]
    public async Task One_that_dies_on_the_way_to_becoming_the_program_is_no_launch()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--start", "--", "/bin/sleep", "688");
        var pid = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
        if (Sentry.Group(pid) is not { } group)
            return; // a host without control groups
        // The next run's process is held before its first instruction, as a file system that does not answer holds it a little later.
        var next = $"{group[..^1]}2";
        Directory.CreateDirectory(next);
        await File.WriteAllTextAsync($"{next}/cgroup.freeze", "1", TestContext.Current.CancellationToken);
        Sentry.Kill(pid);
        await Sentry.Eventually(() => File.ReadAllText($"{next}/cgroup.procs").Length > 0);
        var held = int.Parse(
            (await File.ReadAllTextAsync($"{next}/cgroup.procs", TestContext.Current.CancellationToken)).Trim(),
            CultureInfo.InvariantCulture
        );
        // Its keeper is not: it answers, and the server that follows finds it, although what it has begun looks just like it.
        await sentry.KillServer();
        Directory.Delete(Path.Combine(sentry.Places.RunDirectory, "services"), recursive: true);
        await sentry.Serve();
        await sentry.Until("relay", view => view.GetProperty("state").GetString() == "starting");
        Sentry.Kill(held);
        await sentry.Until("relay", view => view.GetProperty("run").GetInt64() >= 3);
        var second = (await sentry.Ok("runs", "relay", "--json"))
            .Json.EnumerateArray()
            .Single(run => run.GetProperty("run").GetInt64() == 2);
        Assert.Equal("never-launched", second.GetProperty("outcome").GetString());
        Assert.Contains(
            "the process that was to become it",
            second.GetProperty("words").GetString(),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Groups_of_the_programs_own_are_removed_with_its_run()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--start", "--", "/bin/sleep", "687");
        if (Sentry.Group((await sentry.Show("tide")).GetProperty("pid").GetInt32()) is not { } group)
            return; // a host without control groups
        var groups = Path.GetDirectoryName(group)!;
        await sentry.Ok("account", "permit", "root");
        await sentry.Ok(
            "wrap",
            "yard",
            "--account",
            "root",
            "--start",
            "--",
            sentry.Script(
                "yard",
                $"#!/bin/sh\ng={groups}/$(sed -n 's,^0::.*/,,p' /proc/self/cgroup)\nmkdir -p $g/a/b $g/c\n"
                    + "sh -c \"echo \\$\\$ >$g/a/b/cgroup.procs; exec sleep 685\" &\nsleep 1\nexec sleep 686\n"
            )
        );
        var id = await sentry.Id("yard");
        await Sentry.Eventually(() => Directory.Exists($"{groups}/{id}.1/a/b"));
        await sentry.Ok("stop", "yard");
        await Sentry.Eventually(() => !Directory.Exists($"{groups}/{id}.1"));
        await sentry.Ok("start", "yard");
        // A keeper that is killed leaves them to the server.
        Sentry.Kill(Sentry.Parent((await sentry.Show("yard")).GetProperty("pid").GetInt32()));
        await sentry.Until("yard", view => view.GetProperty("run").GetInt64() == 3);
        Assert.False(Directory.Exists($"{groups}/{id}.2"));
    }
}
