namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>
/// A service's account, inside its own run, tries everything it should not reach: a table of attempts, all refused.
/// </summary>
public class InsideTests
{
    [Fact]
    public async Task A_program_reaches_nothing_private_of_the_sentry_or_of_another_service()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
        await using var sentry = await Sentry.Start();
        var places = sentry.Places;
        // What there is to get at: another service of another account, with a secret as a file, state, output and a
        // socket.
        await sentry.Ok("account", "permit", "daemon");
        await sentry.Piped("herring", "secret", "set", "vault", "VAULT_KEY");
        await sentry.Ok(
            "wrap",
            "vault",
            "--account",
            "daemon",
            "--secret",
            "VAULT_KEY:file",
            "--recover",
            "never",
            "--proof",
            "output:^/",
            "--start",
            "--",
            sentry.Script(
                "vault",
                "#!/bin/sh\numask 077; echo till >\"$CALM_STATE\"/till; echo $VAULT_KEY; exec sleep 600\n"
            )
        );
        var key = (await sentry.Ok("output", "vault")).Output.Trim();
        var pid = (await sentry.Show("vault")).GetProperty("pid").GetInt32();
        var group = File.ReadAllLines($"/proc/{pid}/cgroup")
            .Single(line => line.StartsWith("0::", StringComparison.Ordinal))[3..];
        var mount = File.ReadAllLines("/proc/mounts")
            .Select(line => line.Split(' '))
            .First(part => part[2] == "cgroup2")[1];
        var keeper = File.ReadAllText($"/proc/{pid}/stat").Split(' ')[3];

        var vault = await sentry.Id("vault");
        var inside = $"S{long.Parse(vault[1..], System.Globalization.CultureInfo.InvariantCulture) + 1}"; // the next one that is wrapped
        (string What, string Tries)[] attempts =
        [
            ("the store", $"cat {places.Database.Quoted()}"),
            ("the store's log", $"cat {places.Database.Quoted()}-wal"),
            ("keys of the secrets", $"cat {places.Keys.Quoted()}/*"),
            ("list the keys", $"ls {places.Keys.Quoted()}"),
            ("another's output", $"cat {places.OutputOf("vault").Quoted()}"),
            ("another's state", $"ls {places.StateOf("vault").Quoted()}"),
            ("another's state file", $"cat {places.StateOf("vault").Quoted()}/till"),
            ("another's secret file", $"cat {key.Quoted()}"),
            ("another's secret folder", $"ls {Path.GetDirectoryName(key)!.Quoted()}"),
            ("the folder of all secrets", $"ls {Path.GetDirectoryName(Path.GetDirectoryName(key))!.Quoted()}"),
            ("write into a secrets folder", $"touch {Path.GetDirectoryName(key)!.Quoted()}/new"),
            ("another's keeper", $"curl -s --max-time 2 --unix-socket {places.RunOf(vault).Quoted()}/socket http://x/"),
            ("another's run directory", $"ls {places.RunOf(vault).Quoted()}"),
            ("its own run directory", $"ls {places.RunOf(inside).Quoted()}"),
            ("its own output's place", $"touch {places.OutputDirectoryOf("inside").Quoted()}/new"),
            ("another's socket", $"curl -sf --max-time 2 --unix-socket {places.SayOf(vault).Quoted()} http://x/serves"),
            ("take another's socket away", $"rm {places.SayOf(vault).Quoted()}"),
            ("put something beside the sockets", $"touch {places.SayDirectory.Quoted()}/new"),
            (
                "the client's socket",
                $"curl -sf --max-time 2 --unix-socket {places.ApiSocket.Quoted()} http://x/api/services"
            ),
            ("take the client's socket away", $"rm {places.ApiSocket.Quoted()}"),
            ("the sentry's lock", $"flock -n {places.Lock.Quoted()} true"),
            ("the guard's number", $"(echo 1 >{places.Guard.Quoted()})"),
            ("the held port", $"(echo 1 2 >{places.RunDirectory.Quoted()}/port.held)"),
            ("end the sentry", $"kill -9 {sentry.ServerPid}"),
            ("end its own keeper", "kill -9 $PPID"),
            ("end another's program", $"kill -9 {pid}"),
            ("another's environment", $"cat /proc/{pid}/environ"),
            ("another's memory", $"head -c 1 /proc/{pid}/mem"),
            ("the sentry's memory", $"head -c 1 /proc/{sentry.ServerPid}/mem"),
            ("the sentry's descriptors", $"ls /proc/{sentry.ServerPid}/fd"),
            ("its keeper's descriptors", "ls /proc/$PPID/fd"),
            ("another's keeper's descriptors", $"ls /proc/{keeper}/fd"),
            ("end another's group", $"sh -c 'echo 1 >{mount}{group}/cgroup.kill'"),
            ("leave its own group", $"sh -c 'echo 0 >{mount}/cgroup.procs'"),
            ("freeze another's group", $"sh -c 'echo 1 >{mount}{group}/cgroup.freeze'"),
            ("the settings", $"(echo port: 1 >{places.Settings.Quoted()})"),
            ("a root shell", "setpriv --reuid=0 true"),
            ("more rights by an executable", "su -c true root </dev/null"),
            (
                "inherited descriptors",
                "test -n \"$(ls -l /proc/self/fd | awk '{print $9}' | grep -vE '^(0|1|2|3)?$')\""
            ),
        ];
        var script =
            "#!/bin/sh\n"
            + string.Concat(
                attempts.Select(
                    (attempt, i) =>
                        $"if {attempt.Tries} >/dev/null 2>&1; then echo \"came true: {attempt.What}\"; else echo "
                        + $"'refused {i}'; fi\n"
                )
            )
            + "echo all tried\nexec sleep 600\n";
        await sentry.Wrap(
            "inside",
            "--recover",
            "never",
            "--proof",
            "output:^all tried",
            "--start",
            "--",
            sentry.Script("inside", script)
        );
        var lines = (await sentry.Ok("output", "inside", "--last", "1000")).Output.Split(
            '\n',
            StringSplitOptions.RemoveEmptyEntries
        );
        Assert.DoesNotContain(lines, line => line.StartsWith("came true", StringComparison.Ordinal));
        Assert.Equal(attempts.Length + 1, lines.Length);
        Assert.Equal(pid, (await sentry.Show("vault")).GetProperty("pid").GetInt32());
    }
}
