using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Accounts of the host, really made, given rights, and removed.</summary>
[Needs("acl")]
public class AccountTests
{
    [Fact]
    public async Task One_is_made_given_just_the_right_it_lacks_and_everything_is_taken_back()
    {
        await using var sentry = await Sentry.Start();
        var name = Sentry.NewAccount();
        var closed = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "closed")).FullName;
        var folder = Directory.CreateDirectory(Path.Combine(closed, "books")).FullName;
        await File.WriteAllTextAsync(Path.Combine(folder, "day.book"), "1 adult\n");
        foreach (var one in new[] { closed, folder })
            File.SetUnixFileMode(one, (UnixFileMode)0b111_000_000);
        var before = await Rights(closed, folder);
        try
        {
            Assert.Contains(
                "is made: locked",
                (await sentry.Ok("account", "create", name)).Output,
                StringComparison.Ordinal
            );
            var entry = (await File.ReadAllLinesAsync("/etc/passwd")).Single(line =>
                line.StartsWith(name + ":", StringComparison.Ordinal)
            );
            Assert.EndsWith(":/nonexistent:/usr/sbin/nologin", entry, StringComparison.Ordinal);
            Assert.Contains($"{name}:!", await File.ReadAllTextAsync("/etc/shadow"), StringComparison.Ordinal);
            Assert.Equal(1, (await sentry.Calm("account", "create", name)).Exit);

            var writes = sentry.Script(
                "writes",
                $"#!/bin/sh\necho 2 adults >{folder.Quoted()}/new.book || exit 1\ncat {folder.Quoted()}/day.book\nexec sleep 600\n"
            );
            await sentry.Ok("wrap", "writes", "--account", name, "--recover", "never", "--", writes);
            await Process.Start("usermod", ["--expiredate", "2001-02-03", name]).WaitForExitAsync();
            Assert.Contains(
                $"The account {name} expired on 2001-02-03.",
                (await sentry.Calm("check", "writes")).Output,
                StringComparison.Ordinal
            );
            await Process.Start("usermod", ["--expiredate", "", name]).WaitForExitAsync();
            Assert.DoesNotContain(
                "account-expires",
                (await sentry.Calm("check", "writes")).Output,
                StringComparison.Ordinal
            );
            Assert.Equal(1, (await sentry.Calm("start", "writes")).Exit);
            var granted = (await sentry.Ok("account", "grant", name, folder)).Output;
            Assert.Contains($"{name} may pass through {closed}.", granted, StringComparison.Ordinal);
            Assert.Contains($"{name} may read and write {folder}", granted, StringComparison.Ordinal);
            Assert.Contains(
                "already; nothing was changed",
                (await sentry.Ok("account", "grant", name, folder)).Output,
                StringComparison.Ordinal
            );
            await sentry.Ok("start", "writes");
            var shown = (await sentry.Ok("account", "show", name)).Output;
            Assert.Contains(folder, shown, StringComparison.Ordinal);
            Assert.Contains("cannot log in and is in no powerful group", shown, StringComparison.Ordinal);
            Assert.Matches($@"{name}\s+\d+\s+yes\s+yes\s+writes", (await sentry.Ok("account", "list")).Output);

            Assert.Contains("run as", (await sentry.Calm("account", "remove", name)).Error, StringComparison.Ordinal); // in use
            await sentry.Ok("stop", "writes");
            File.Delete(Path.Combine(folder, "new.book"));
            await sentry.Ok("account", "take", name, folder);
            Assert.Equal(before, await Rights(closed, folder));
            Assert.Equal(1, (await sentry.Calm("account", "take", name, folder)).Exit);
            await sentry.Ok("unwrap", "writes", "--yes");
            await sentry.Ok("account", "grant", name, folder, "--read");
            await sentry.Ok("account", "remove", name); // takes back what is still granted
            Assert.Equal(before, await Rights(closed, folder));
            Assert.False(Exists(name));
        }
        finally
        {
            if (Exists(name))
                Process.Start("userdel", name).WaitForExit();
        }
    }

    [Fact]
    public async Task A_home_is_made_for_it_alone_and_without_one_a_service_has_its_own_place()
    {
        await using var sentry = await Sentry.Start();
        var (homeless, housed) = (Sentry.NewAccount(), Sentry.NewAccount());
        // Below a folder that all can write none is made.
        var open = Directory.CreateDirectory($"/srv/{Sentry.NewAccount()}").FullName;
        var home = Path.Combine(open, "home");
        try
        {
            File.SetUnixFileMode(open, (UnixFileMode)0b111_111_111);
            var refused = await sentry.Calm("account", "create", housed, "--home", home);
            Assert.Equal(1, refused.Exit);
            Assert.Contains("others than root can write in", refused.Error, StringComparison.Ordinal);
            Assert.False(Exists(housed));
            Assert.Equal(1, (await sentry.Calm("account", "create", housed, "--home", "/srv/a:b")).Exit);

            File.SetUnixFileMode(open, (UnixFileMode)0b111_101_101);
            await sentry.Ok("account", "create", homeless);
            Assert.Contains(
                $"with the home {home}",
                (await sentry.Ok("account", "create", housed, "--home", home)).Output,
                StringComparison.Ordinal
            );
            Assert.Equal((UnixFileMode)0b111_000_000, File.GetUnixFileMode(home));
            var prints = sentry.Script("prints", "#!/bin/sh\ncd && touch settings && pwd -P\nexec sleep 600\n");
            foreach (var (service, account) in ((string, string)[])[("fog-horn", housed), ("tide-bell", homeless)])
                await sentry.Ok("wrap", service, "--account", account, "--proof", "output:^/", "--start", "--", prints);
            Assert.True(File.Exists(Path.Combine(home, "settings")));
            Assert.True(File.Exists(Path.Combine(sentry.Places.StateOf("tide-bell"), "settings")));
            await sentry.Ok("unwrap", "fog-horn", "tide-bell", "--yes");

            // Made here, it is set apart when its account goes: the next one with its number does not come through to it.
            var number = Uid(housed);
            Assert.Contains(home, (await sentry.Ok("account", "remove", housed)).Output, StringComparison.Ordinal);
            Assert.Equal((UnixFileMode)0b111_000_000, File.GetUnixFileMode(home));
            using var asIt = Process.Start(
                new ProcessStartInfo("setpriv", [$"--reuid={number}", "--clear-groups", "cat", $"{home}/settings"])
                {
                    RedirectStandardError = true,
                }
            )!;
            await asIt.WaitForExitAsync();
            Assert.NotEqual(0, asIt.ExitCode);
        }
        finally
        {
            foreach (var name in new[] { homeless, housed }.Where(Exists))
                Process.Start("userdel", name).WaitForExit();
            Directory.Delete(open, recursive: true);
        }
    }

    [Fact]
    public async Task An_account_that_is_gone_is_one_cause_for_all_that_run_as_it()
    {
        await using var sentry = await Sentry.Start();
        var name = Sentry.NewAccount();
        try
        {
            await sentry.Ok("account", "create", name);
            string[] services = ["fog-horn", "gate-counter"];
            foreach (var service in services)
                await sentry.Ok([
                    "wrap",
                    service,
                    "--account",
                    name,
                    .. "--proof up-for:0s --pause 100ms --hold-ends 2 --start -- /bin/sleep".Split(' '),
                    service == "fog-horn" ? "678" : "679",
                ]);
            await Process.Start("userdel", ["--force", name]).WaitForExitAsync();
            foreach (var service in services)
                Sentry.Kill((await sentry.Show(service)).GetProperty("pid").GetInt32());
            var alert = await Telling.TellTests.Alert(sentry, one => one.GetProperty("affected").GetArrayLength() == 2);
            Assert.Equal(
                ("account", name),
                (Telling.TellTests.Text(alert, "cause"), Telling.TellTests.Text(alert, "cause-name"))
            );
            Assert.Contains(
                $"the account {name} cannot be used: 2 services have trouble",
                (await sentry.Ok("tell")).Output,
                StringComparison.Ordinal
            );
        }
        finally
        {
            if (Exists(name))
                Process.Start("userdel", ["--force", name]).WaitForExit();
        }
    }

    [Fact]
    public async Task Only_a_permitted_account_runs_services()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Ok(
            "wrap",
            "counter",
            "--account",
            "daemon",
            "--permit",
            "--at",
            "boot",
            "--start",
            "--",
            "/bin/sleep",
            "600"
        );
        Assert.Contains(
            "counter run as it: what is live goes on, no start follows",
            (await sentry.Ok("account", "forbid", "daemon")).Output,
            StringComparison.Ordinal
        );
        Assert.Equal("running", (await sentry.Show("counter")).GetProperty("state").GetString());
        var pid = (await sentry.Show("counter")).GetProperty("pid").GetInt32();
        Sentry.Kill(pid); // not even by itself
        var after = await sentry.Until(
            "counter",
            view =>
                view.GetProperty("run").GetInt64() == 2
                && view.GetProperty("state").GetString() is "waiting" or "stopped"
        );
        Assert.Contains(
            "is not permitted to run services",
            after.GetProperty("why").GetString(),
            StringComparison.Ordinal
        );
        await sentry.Ok("stop", "counter");
        Assert.Contains(
            "calm account permit daemon",
            (await sentry.Calm("start", "counter")).Error,
            StringComparison.Ordinal
        );
        await sentry.Ok("account", "permit", "daemon");
        await sentry.Ok("start", "counter");
        Assert.Equal(4, (await sentry.Calm("account", "permit", "no-such-account")).Exit);
    }

    private static bool Exists(string account) =>
        File.ReadLines("/etc/passwd").Any(line => line.StartsWith(account + ":", StringComparison.Ordinal));

    private static string Uid(string account) =>
        File.ReadLines("/etc/passwd")
            .Single(line => line.StartsWith(account + ":", StringComparison.Ordinal))
            .Split(':')[2];

    private static async Task<string> Rights(params string[] folders)
    {
        using var process = Process.Start(
            new ProcessStartInfo(
                "sh",
                [
                    "-c",
                    "ls -ldn --time-style=+ \"$@\" | cut -d' ' -f1,3-4; getfacl -cp \"$@\" \"$@\"/* 2>/dev/null",
                    "sh",
                    .. folders,
                ]
            )
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        var said = await process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        return said.Replace("+", "", StringComparison.Ordinal);
    }

    /// <summary>A folder that lets an account in may hold files that are closed to it: each is asked for, before and after.</summary>
    [Fact]
    public async Task What_is_closed_in_an_open_folder_is_opened_and_what_stays_closed_is_named()
    {
        Assert.SkipUnless(Environment.UserName == "root", "needs root to give rights");
        await using var sentry = await Sentry.Start();
        var folder = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "books")).FullName;
        var (own, shared, elsewhere) = (
            File("own", 0b110_000_000),
            File("shared", 0b110_100_000),
            File("twice", 0b110_000_000)
        );
        System.IO.File.Move(elsewhere, elsewhere + ".first");
        Assert.Equal(
            0,
            (await Sentry.As("root", "ln", elsewhere + ".first", Path.Combine(sentry.Places.Root, "other"))).Exit
        );

        var granted = await sentry.Calm("account", "grant", Sentry.Account, folder, "--read");
        Assert.Equal(1, granted.Exit);
        Assert.Contains($"but for {elsewhere}.first (permission denied", granted.Error, StringComparison.Ordinal);
        Assert.Equal("own shared ", (await Sentry.As(Sentry.Account, "cat", own, shared)).Output);
        System.IO.File.Delete(elsewhere + ".first");

        // More than was given is added to it; and what came later and is closed is opened by asking again.
        await sentry.Ok("account", "grant", Sentry.Account, folder);
        var later = File("later", 0b110_000_000);
        Assert.Contains(
            "read and write",
            (await sentry.Ok("account", "grant", Sentry.Account, folder)).Output,
            StringComparison.Ordinal
        );
        Assert.Equal(
            0,
            (await Sentry.As(Sentry.Account, "sh", "-c", $"echo more >>{later.Quoted()}; cat {own.Quoted()}")).Exit
        );
        Assert.Contains(
            "already; nothing was changed",
            (await sentry.Ok("account", "grant", Sentry.Account, folder)).Output,
            StringComparison.Ordinal
        );

        string File(string name, int mode)
        {
            var path = Path.Combine(folder, name);
            System.IO.File.WriteAllText(path, name + " ");
            System.IO.File.SetUnixFileMode(path, (UnixFileMode)mode);
            return path;
        }
    }
}
