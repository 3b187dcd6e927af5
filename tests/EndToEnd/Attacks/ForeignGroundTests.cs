using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>
/// What an account does to files that root then touches: swapped folders, links, pipes. Root's own files stay as they
/// are.
/// </summary>
[Needs("acl", "perl", "python3")]
public sealed class ForeignGroundTests : IDisposable
{
    /// <summary>How long whoever swaps goes on swapping.</summary>
    private static readonly TimeSpan Race = TimeSpan.FromSeconds(20);

    private readonly string closed = Sentry.NewPlace("calm's closed").FullName;

    public ForeignGroundTests()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
        for (var i = 0; i < 50; i++)
            File.WriteAllText(Path.Combine(closed, $"root-{i}"), "root's own\n");
        foreach (var file in Directory.GetFiles(closed))
            File.SetUnixFileMode(file, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        File.SetUnixFileMode(closed, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        before = Rights(closed);
    }

    private readonly string before;

    public void Dispose() => Directory.Delete(closed, recursive: true);

    [Fact]
    public async Task A_service_that_swaps_its_secrets_folder_for_a_link_moves_nothing_of_roots()
    {
        await using var sentry = await Sentry.Start();
        // Whoever would know where secrets come to lie is there first.
        var mark =
            Directory
                .GetDirectories("/sys/fs/cgroup", "calm-sentry-*", SearchOption.AllDirectories)
                .Select(path => Path.GetFileName(path)["calm-sentry-".Length..])
                .FirstOrDefault()
            ?? "0";
        var squatted = $"/dev/shm/calm-sentry-{mark}";
        await Sentry.As(
            "daemon",
            "sh",
            "-c",
            $"mkdir -p {squatted} && chmod 777 {squatted} && ln -s {closed.Quoted()} {squatted}/tide"
        );
        try
        {
            await sentry.Piped("herring", "secret", "set", "tide", "TIDE_KEY");
            await sentry.Wrap(
                "tide",
                "--secret",
                "TIDE_KEY:file",
                "--recover",
                "never",
                "--proof",
                "output:^open",
                "--",
                sentry.Script(
                    "tide",
                    $"""
                    #!/bin/sh
                    folder=$(dirname "$TIDE_KEY") above=$(dirname "$(dirname "$TIDE_KEY")")
                    echo "open $(cat "$TIDE_KEY" | wc -c)"
                    while :; do
                      mv "$folder" "$folder.away"; ln -s {closed.Quoted()} "$folder"; ln -s {closed.Quoted()} "$above/$$"; rm -rf "$folder"; mkdir "$folder"
                      rm -f "$TIDE_KEY"; ln -s {closed.Quoted()}/root-1 "$TIDE_KEY"; chmod 777 "$folder" "$TIDE_KEY"
                    done 2>/dev/null
                    """
                )
            );
            string? path = null;
            for (var clock = Stopwatch.StartNew(); clock.Elapsed < Race; )
            {
                await sentry.Ok(path is null ? "start" : "restart", "tide");
                Assert.Contains(
                    "open 7",
                    (await sentry.Ok("output", "tide", "--last", "1")).Output,
                    StringComparison.Ordinal
                );
                path = Directory
                    .EnumerateFiles("/proc/" + (await sentry.Show("tide")).GetProperty("pid").GetInt32(), "environ")
                    .Select(File.ReadAllText)
                    .SelectMany(text => text.Split('\0'))
                    .Single(one => one.StartsWith("TIDE_KEY=", StringComparison.Ordinal))[9..];
                Assert.Equal("65534", await Said("stat", "-c", "%u", path)); // its own: what it does with its rights is its own affair
                Assert.Equal("0 711", await Said("stat", "-c", "%u %a", Path.GetDirectoryName(path)!));
            }

            Assert.DoesNotContain(squatted, path, StringComparison.Ordinal);
            await sentry.Ok("unwrap", "tide", "--yes");
            Assert.False(File.Exists(path));
            Assert.Equal(before, Rights(closed));
        }
        finally
        {
            Directory.Delete(squatted, recursive: true);
        }
    }

    /// <summary>A file with days is read as the account: what that may not read, or what would be waited for, says nothing.</summary>
    [Fact]
    public async Task Days_that_are_left_out_are_read_as_the_account_whatever_lies_there()
    {
        await using var sentry = await Sentry.Start();
        var place = Path.GetDirectoryName(sentry.Script("pull", "#!/bin/sh\n"))!;
        var days = Path.Combine(place, "days");
        await File.WriteAllTextAsync(Path.Combine(closed, "days"), "2030-01-01\n");
        File.SetUnixFileMode(Path.Combine(closed, "days"), UnixFileMode.UserRead);
        foreach (
            var (lay, why) in new[]
            {
                ($"ln -s {closed.Quoted()}/days", "cannot read it (permission denied"),
                ("ln -s /etc/shadow", "cannot read it (permission denied"),
                ("mkfifo -m 666", "cannot read it (invalid argument"),
                ("mkdir", "cannot read it (invalid argument"),
                ("ln -s /dev/zero", "cannot read it (invalid argument"),
                ("ln -s /proc/self/environ", "cannot read it (permission denied"),
                ("yes 2030-01-01 | head -n 20000 >", "it is longer than 64 KiB"),
            }
        )
        {
            await Said("sh", "-c", $"rm -rf {days.Quoted()}; {lay} {days.Quoted()}");
            var wrapped = await sentry.Calm(
                "wrap",
                "pull",
                "--account",
                Sentry.Account,
                "--kind",
                "periodic",
                "--rhythm",
                $"run:daily at 03:00,except={days}",
                "--",
                "/bin/true"
            );
            Assert.Equal(1, wrapped.Exit);
            Assert.Contains(why, wrapped.Told, StringComparison.OrdinalIgnoreCase);
        }
    }

    [Fact]
    public async Task Rights_on_a_folder_are_given_and_taken_where_it_is_and_never_through_a_link_of_the_accounts()
    {
        await using var sentry = await Sentry.Start();
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "srv")).FullName;
        var books = Directory.CreateDirectory(Path.Combine(place, "books")).FullName;
        await File.WriteAllTextAsync(Path.Combine(books, "day.book"), "1 adult\n");
        Directory.CreateDirectory(Path.Combine(books, "old"));
        await Said("chown", "-R", "daemon:daemon", place);

        // A link the account made is refused, on the way and at its end, and nothing is changed behind it.
        await Sentry.As("daemon", "ln", "-s", closed, Path.Combine(place, "link"));
        foreach (
            var path in new[]
            {
                Path.Combine(place, "link"),
                Path.Combine(place, "link", "root-1"),
                Path.Combine(place, "link", ".."),
            }
        )
        {
            var refused = await sentry.Calm("account", "grant", "nobody", path);
            if (path.EndsWith("..", StringComparison.Ordinal))
                continue; // the client has made that srv itself
            Assert.Equal(1, refused.Exit);
            Assert.Contains(
                "is a link that daemon made, and only links of root are followed",
                refused.All,
                StringComparison.Ordinal
            );
        }

        // While the account swaps folders of the tree for links in a loop, rights are given and taken again and again.
        using var swapping = Sentry.Began(
            "daemon",
            "sh",
            "-c",
            $"cd {place.Quoted()}; while :; do mv books/old away; ln -s {closed.Quoted()} books/old; rm books/old; mv away "
                + $"books/old; mv books gone; ln -s {closed.Quoted()} books; rm books; mv gone books; done 2>/dev/null"
        );
        var given = 0;
        try
        {
            for (var clock = Stopwatch.StartNew(); clock.Elapsed < Race; )
            {
                if ((await sentry.Calm("account", "grant", "nobody", books)).Exit == 0)
                    given++;
                await sentry.Calm("account", "take", "nobody", books);
                Assert.Equal(before, Rights(closed));
            }
        }
        finally
        {
            await Sentry.End(swapping);
        }

        Assert.True(given > 0, "not one grant came through between the swaps");
        Assert.Equal(before, Rights(closed));
        Assert.Equal("", (await Sentry.As("nobody", "cat", Path.Combine(closed, "root-1"))).Output);
    }

    [Fact]
    public async Task A_right_that_is_given_takes_none_from_others_and_leaves_files_with_a_second_name_alone()
    {
        await using var sentry = await Sentry.Start();
        var folder = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "shared")).FullName;
        await File.WriteAllTextAsync(Path.Combine(folder, "plan"), "quay 2\n");
        // Somebody else has rights of their own here, held back by the mask; a file is another name of one elsewhere.
        await Said("setfacl", "-m", "u:daemon:rwx,m::r", Path.Combine(folder, "plan"));
        await Said("setfacl", "-m", "u:daemon:r-x,d:u:daemon:r-x", folder);
        await Said("ln", Path.Combine(closed, "root-1"), Path.Combine(folder, "second-name"));
        await Said("chgrp", "daemon", folder);
        var lists = await Said("getfacl", "-cpn", folder, Path.Combine(folder, "plan"));
        var granted = await sentry.Calm("account", "grant", "nobody", folder);
        Assert.Equal(1, granted.Exit); // what stays closed is named
        Assert.Contains($"but for {folder}/second-name", granted.Error, StringComparison.Ordinal);
        Assert.Contains("has a second name somewhere else", granted.Error, StringComparison.Ordinal);
        Assert.Equal(
            0,
            (
                await Sentry.As(
                    "nobody",
                    "sh",
                    "-c",
                    $"cat {folder.Quoted()}/plan && echo more >>{folder.Quoted()}/plan && echo new >{folder.Quoted()}/new"
                )
            ).Exit
        );
        Assert.NotEqual(0, (await Sentry.As("daemon", "sh", "-c", $"echo mine >>{folder.Quoted()}/plan")).Exit); // held back as before
        Assert.Equal(before, Rights(closed));
        Assert.Equal("daemon", await Said("stat", "-c", "%G", folder));
        await sentry.Ok("account", "take", "nobody", folder);
        Assert.Equal(lists, await Said("getfacl", "-cpn", folder, Path.Combine(folder, "plan")));
        Assert.NotEqual(0, (await Sentry.As("nobody", "sh", "-c", $"echo again >{folder.Quoted()}/again")).Exit);
        Assert.Equal(before, Rights(closed));
    }

    [Fact]
    public async Task Where_a_file_system_has_no_access_lists_nothing_is_changed_and_the_way_out_is_said()
    {
        await using var sentry = await Sentry.Start();
        var folder = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "plain")).FullName;
        await Said("mount", "-t", "ramfs", "plain", folder);
        try
        {
            File.SetUnixFileMode(folder, (UnixFileMode)0b111_101_000);
            var rights = Rights(folder);
            var refused = await sentry.Calm("account", "grant", "nobody", folder);
            Assert.Equal(1, refused.Exit);
            Assert.Contains(
                "has no access lists, so a right cannot be given to one account alone; nothing was changed",
                refused.All,
                StringComparison.Ordinal
            );
            Assert.Contains($"chown -R nobody {folder.Quoted()}", refused.All, StringComparison.Ordinal);
            Assert.Equal(rights, Rights(folder));
        }
        finally
        {
            await Said("umount", folder);
        }
    }

    [Theory]
    [InlineData("pid-file")]
    [InlineData("program")]
    [InlineData("script")]
    [InlineData("zero")]
    public async Task A_pipe_or_a_device_in_a_files_place_makes_nobody_wait(string what)
    {
        await using var sentry = await Sentry.Start();
        var pipe = Path.Combine(sentry.Places.Root, "pipe");
        await Said("mkfifo", "-m", "666", pipe);
        string[] wrap = what switch
        {
            "pid-file" =>
            [
                "--kind",
                "detaches",
                "--pid-file",
                pipe,
                "--recover",
                "never",
                "--",
                sentry.Script("relay", "#!/bin/sh\nsleep 600 &\n"),
            ],
            "program" => ["--accept", "program-not-a-file", "--recover", "never", "--", pipe],
            "script" => ["--with", "/usr/bin/python3", "--recover", "never", "--", pipe],
            _ => ["--with", "/usr/bin/python3", "--recover", "never", "--", "/dev/zero"],
        };
        var wrapped = await sentry.Calm(["wrap", "relay", "--account", "nobody", .. wrap]);
        var checkedAgain = sentry.Calm("check", "relay");
        var start = sentry.Calm("start", "relay");
        Assert.NotEqual(5, (await checkedAgain).Exit);
        if (what is "program" or "zero")
            Assert.NotEqual(0, (await start).Exit);
        await sentry.KillServer();
        await sentry.Serve(); // it takes up what is there, and listens
        Assert.Equal(0, (await sentry.Calm("list")).Exit);
        if (wrapped.Exit == 0)
            await sentry.Ok("unwrap", "relay", "--yes");
        await start;
    }

    [Fact]
    public async Task A_stop_step_to_a_socket_goes_there_as_the_account()
    {
        await using var sentry = await Sentry.Start();
        var secret = Path.Combine(closed, "control");
        using var roots = Process.Start(
            new ProcessStartInfo(
                "perl",
                [
                    "-MIO::Socket::UNIX",
                    "-e",
                    "my $s = IO::Socket::UNIX->new(Local => shift, Listen => 5); $| = 1; print \"open\\n\"; while "
                        + "(my $c = $s->accept) { print 'told: ', scalar <$c> }",
                    secret,
                ]
            )
            {
                RedirectStandardOutput = true,
            }
        )!;
        try
        {
            Assert.Equal("open", await roots.StandardOutput.ReadLineAsync());
            File.SetUnixFileMode(secret, (UnixFileMode)0b111_111_111); // the folder above is what keeps it closed
            var link = Path.Combine(sentry.Places.StateOf("tide"), "control");
            await sentry.Wrap(
                "tide",
                "--wind-down",
                $"send:end\\n,to=unix {link},wait=10s",
                "--wind-down",
                "TERM 5s",
                "--",
                sentry.Script("tide", $"#!/bin/sh\nln -s {secret.Quoted()} \"$CALM_STATE\"/control\nexec sleep 600\n")
            );
            await sentry.Ok("start", "tide");
            Assert.Contains(
                "permission denied (EACCES)",
                (await sentry.Ok("stop", "tide")).Output,
                StringComparison.Ordinal
            );
            // Its own socket it does reach.
            File.Delete(link);
            await sentry.Ok(
                "adjust",
                "tide",
                "--",
                sentry.Script(
                    "own",
                    "#!/usr/bin/perl\nuse IO::Socket::UNIX; $| = 1;\nmy $s = IO::Socket::UNIX->new(Local => "
                        + "\"$ENV{CALM_STATE}/control\", Listen => 5) or die;\nmy $c = $s->accept; my $l = "
                        + "<$c>; print $c \"closing\\n\"; close $c; exit 0\n"
                )
            );
            await sentry.Ok("start", "tide");
            Assert.Contains("it said 'closing'", (await sentry.Ok("stop", "tide")).Output, StringComparison.Ordinal);
        }
        finally
        {
            await Sentry.End(roots);
        }
    }

    [Fact]
    public async Task What_a_removed_account_kept_is_not_found_by_the_next_one()
    {
        await using var sentry = await Sentry.Start();
        var name = Sentry.NewAccount();
        try
        {
            await sentry.Ok("account", "create", name);
            await sentry.Ok(
                "wrap",
                "tide",
                "--account",
                name,
                "--recover",
                "never",
                "--",
                sentry.Script(
                    "tide",
                    "#!/bin/sh\nmkdir -p \"$CALM_STATE\"/deep; echo herring >\"$CALM_STATE\"/deep/till; exec sleep 600\n"
                )
            );
            await sentry.Ok("start", "tide");
            await Sentry.Eventually(() => File.Exists(Path.Combine(sentry.Places.StateOf("tide"), "deep/till")));
            await sentry.Ok("unwrap", "tide", "--yes");
            var uid = await Said("id", "-u", name);
            var removed = await sentry.Ok("account", "remove", name);
            Assert.Contains("What tide kept is set apart for root", removed.Output, StringComparison.Ordinal);

            await sentry.Ok("account", "create", name);
            Assert.Equal(uid, await Said("id", "-u", name)); // the host gives the number again
            var reads = sentry.Script(
                "reads",
                $"#!/bin/sh\ncat \"$CALM_STATE\"/deep/till {sentry.Places.StatesApart.Quoted()}/*/deep/till 2>&1; ls "
                    + $"$CALM_STATE; echo looked; exec sleep 600\n"
            );
            await sentry.Ok(
                "wrap",
                "tide",
                "--account",
                name,
                "--recover",
                "never",
                "--proof",
                "output:^looked",
                "--start",
                "--",
                reads
            );
            Assert.DoesNotContain("herring", (await sentry.Ok("output", "tide")).Output, StringComparison.Ordinal);
            Assert.Contains(
                "calm account hand-over",
                (await sentry.Calm("check", "tide")).All,
                StringComparison.Ordinal
            );

            await sentry.Ok("stop", "tide");
            Assert.Contains(
                $"What tide kept is {name}'s now",
                (await sentry.Ok("account", "hand-over", name, "tide")).Output,
                StringComparison.Ordinal
            );
            await sentry.Ok("start", "tide");
            Assert.Contains("herring", (await sentry.Ok("output", "tide")).Output, StringComparison.Ordinal);
            Assert.Equal(1, (await sentry.Calm("account", "hand-over", name, "tide")).Exit);
            await sentry.Ok("unwrap", "tide", "--yes");
        }
        finally
        {
            await sentry.Calm("account", "remove", name);
        }
    }

    /// <summary>Owner, rights and content of a folder and everything in it.</summary>
    private static string Rights(string folder)
    {
        using var process = Process.Start(
            new ProcessStartInfo(
                "sh",
                ["-c", "getfacl -Rpn \"$1\"; find \"$1\" -type f | sort | xargs -r sha256sum", "sh", folder]
            )
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        var said = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        return said;
    }

    private static async Task<string> Said(params string[] command)
    {
        using var process = Process.Start(
            new ProcessStartInfo(command[0], command[1..]) { RedirectStandardOutput = true }
        )!;
        var said = await process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        return said.Trim();
    }
}
