using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>A directory of definition files in which others have been: read as what it is, or not at all; and nothing of it is run.</summary>
[Needs("acl")]
public sealed class DirectoryTests : IClassFixture<OneSentry>
{
    private readonly OneSentry one;

    public DirectoryTests(OneSentry one)
    {
        this.one = one;
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
    }

    private const string Lamp =
        "name: lamp\nprogram: { path: /bin/sleep, arguments: [600] }\nidentity: { account: nobody }\n";

    private static string Place(Sentry sentry)
    {
        var place = Path.Combine(sentry.Places.Root, "srv", "files");
        if (Directory.Exists(place))
            Directory.Delete(place, recursive: true);
        Directory.CreateDirectory(place);
        File.WriteAllText(Path.Combine(place, "lamp.yaml"), Lamp);
        return place;
    }

    private static async Task Run(params string[] command)
    {
        using var process = Process.Start(command[0], command[1..]);
        await process.WaitForExitAsync().InTime();
        Assert.Equal(0, process.ExitCode);
    }

    [Theory]
    [InlineData("ln -s /etc/shadow \"$1/x.yaml\"", "x.yaml is a link")]
    [InlineData("mkfifo \"$1/x.yaml\"", "x.yaml is no plain file")]
    [InlineData("mknod \"$1/x.yaml\" c 1 5", "x.yaml is no plain file")]
    [InlineData("truncate -s 1G \"$1/x.yaml\"", "x.yaml is longer than the 1048576 bytes allowed")]
    [InlineData("printf '\\377\\376a\\0' > \"$1/x.yaml\"", "x.yaml is not UTF-8")]
    [InlineData("mkdir \"$1/x.yaml\"; printf 'x: [' > \"$1/x.yaml/y.yaml\"", "x.yaml/y.yaml: ")]
    [InlineData(
        "d=$1; for i in 1 2 3 4 5 6 7 8 9; do d=$d/d; done; mkdir -p \"$d\"; cp \"$1/lamp.yaml\" \"$d\"",
        "lies deeper than 8 folders"
    )]
    [InlineData(
        "cd \"$1\"; for i in $(seq 2001); do echo; done | awk '{ f = NR \".yaml\"; print \"\" > f; close(f) }'",
        "more than 2000 names"
    )]
    [InlineData(
        "printf 'name: b\\nfrom: ../../etc/passwd\\n' > \"$1/x.yaml\"",
        "from: '../../etc/passwd'; allowed: the path of a base among these files"
    )]
    [InlineData(
        "printf 'a: &a [1,1]\\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]\\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b,*b]\\nd: &d [*c,*c,*c,*c,*c,*c,*c,*c,*c]\\ne: &e [*d,*d,*d,*d,*d,*d,*d,*d,*d]\\nf: [*e,*e,*e,*e,*e,*e,*e,*e,*e]\\n' > \"$1/x.yaml\"",
        "values in all"
    )]
    public async Task What_is_no_definition_file_is_named_and_nothing_is_changed(string does, string told)
    {
        var sentry = one.Sentry;
        var place = Place(sentry);
        await Run("sh", "-c", does, "sh", place);
        foreach (
            var command in (string[][])
                [
                    ["compare", place],
                    ["settle", place, "--yes"],
                ]
        )
        {
            var said = await sentry.Calm(command);
            Assert.Equal(2, said.Exit);
            Assert.Contains(told, said.Error, StringComparison.Ordinal);
        }

        Assert.Empty((await sentry.Ok("list", "--json")).Json.EnumerateArray());
    }

    [Theory]
    [InlineData("chown daemon \"$1/lamp.yaml\"", "lamp.yaml belongs to another account")]
    [InlineData("chown daemon \"$1\"", "files belongs to another account")]
    [InlineData("chmod o+w \"$1/lamp.yaml\"", "lamp.yaml can be written by others")]
    [InlineData("chgrp daemon \"$1\"; chmod g+w \"$1\"", "files can be written by others")]
    [InlineData("setfacl -m u:daemon:rw \"$1/lamp.yaml\"", "lamp.yaml can be written by others")]
    [InlineData("setfacl -m g:daemon:rwx \"$1\"", "files can be written by others")]
    [InlineData("calm account grant daemon \"$1\"", "files can be written by others")]
    public async Task Whoever_can_write_there_would_decide_what_runs_here(string does, string told)
    {
        var sentry = one.Sentry;
        var place = Place(sentry);
        if (does.StartsWith("calm ", StringComparison.Ordinal))
            Assert.Contains(
                "cannot be settled any more",
                (await sentry.Ok("account", "grant", "daemon", place)).Output,
                StringComparison.Ordinal
            );
        else
            await Run("sh", "-c", does, "sh", place);
        Assert.Equal(1, (await sentry.Calm("compare", place)).Exit); // to look does no harm
        var said = await sentry.Calm("settle", place, "--yes");
        Assert.Equal(1, said.Exit);
        Assert.Contains(told, said.Error, StringComparison.Ordinal);
        Assert.Empty((await sentry.Ok("list", "--json")).Json.EnumerateArray());
        var export = await sentry.Calm("export", "--all", "--to", place);
        Assert.NotEqual(0, export.Exit);
    }

    /// <summary>A right to read, and a mask that holds a right to write back, let nobody decide.</summary>
    [Fact]
    public async Task Whoever_may_only_read_there_takes_nothing_out_of_settling()
    {
        var sentry = one.Sentry;
        var place = Place(sentry);
        await Run("setfacl", "-m", "u:daemon:rwx,m::rx", place);
        await Run("setfacl", "-m", "u:daemon:r", Path.Combine(place, "lamp.yaml"));
        await sentry.Ok("settle", place, "--yes");
        await sentry.Ok("unwrap", "lamp", "--yes");
    }

    /// <summary>What one reads is one file's, whole: another moves files and links to and fro meanwhile.</summary>
    [Fact]
    public async Task A_file_that_is_moved_about_is_read_whole_or_not_at_all()
    {
        await using var sentry = await Sentry.Start();
        var place = Place(sentry);
        File.WriteAllText(Path.Combine(sentry.Places.Root, "secret"), "name: secret-of-root\n");
        await Run("chown", "daemon", place);
        using var other = Sentry.Began(
            "daemon",
            "sh",
            "-c",
            "cd \"$0\" || exit; while :; do ln -sf ../../secret x.yaml; rm -f x.yaml; cp lamp.yaml y; mv y x.yaml; : > x.yaml; rm -f x.yaml; mkfifo x.yaml; rm -f x.yaml; done",
            place
        );
        using (new Waiting("reading beside somebody who writes"))
            for (var i = 0; i < 40; i++)
            {
                var said = await sentry.Calm("compare", place);
                Assert.DoesNotContain("secret-of-root", said.All, StringComparison.Ordinal);
                Assert.InRange(said.Exit, 1, 2);
            }

        await Sentry.End(other);
    }

    [Fact]
    public async Task The_revision_that_was_settled_is_named_by_reading_and_nothing_is_run()
    {
        const string id = "3fa2b1c04d5e6f708192a3b4c5d6e7f80910a2b3";
        await using var sentry = await Sentry.Start();
        var place = Place(sentry);
        var own = Path.Combine(place, ".git");
        Directory.CreateDirectory(Path.Combine(own, "refs/heads/quay"));
        // What would be run if anybody asked the tool itself.
        File.WriteAllText(
            Path.Combine(own, "config"),
            $"[core]\n\tfsmonitor = \"touch {place}/ran\"\n\tpager = \"touch {place}/ran\"\n"
        );
        File.WriteAllText(Path.Combine(own, "HEAD"), "ref: refs/heads/quay/main\n");
        File.WriteAllText(Path.Combine(own, "refs/heads/quay/main"), id + "\n");
        await sentry.Ok("settle", place, "--yes");
        Assert.Contains($"({"quay/main"} {id[..12]})", (await sentry.Ok("logbook")).Output, StringComparison.Ordinal);
        Assert.False(File.Exists(Path.Combine(place, "ran")));

        // Packed; and what leads elsewhere, or is no id, names nothing.
        File.Delete(Path.Combine(own, "refs/heads/quay/main"));
        File.WriteAllText(
            Path.Combine(own, "packed-refs"),
            $"# pack-refs\n{id.Replace('3', '4')} refs/heads/quay/main\n"
        );
        Assert.Equal($"quay/main {id.Replace('3', '4')[..12]}", await Head());
        foreach (
            var (file, text) in ((string, string)[])
                [
                    ("HEAD", "ref: ../../../etc/shadow"),
                    ("HEAD", "ref: refs/../../x"),
                    ("HEAD", "herring"),
                    ("HEAD", "ref: refs/heads/none"),
                ]
        )
        {
            File.WriteAllText(Path.Combine(own, file), text + "\n");
            Assert.Null(await Head());
        }

        File.Delete(Path.Combine(own, "HEAD"));
        await Run("ln", "-s", "/etc/hostname", Path.Combine(own, "HEAD"));
        Assert.Null(await Head());

        async Task<string?> Head()
        {
            File.AppendAllText(Path.Combine(place, "lamp.yaml"), "# \n");
            await sentry.Ok("adjust", "lamp", "--title", Guid.NewGuid().ToString("N"));
            await sentry.Ok("settle", place, "--yes");
            var last = (await sentry.Ok("settle", "--last", "--json")).Json;
            return last.TryGetProperty("head", out var head) ? head.GetString() : null;
        }
    }

    [Fact]
    public async Task Accounts_and_folders_are_made_under_the_same_refusals_and_taken_back()
    {
        var name = Sentry.NewAccount();
        await using var sentry = await Sentry.Start();
        var place = Place(sentry);
        var folder = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "srv", "books")).FullName;
        File.WriteAllText(
            Path.Combine(place, "around.yaml"),
            $"format: calm-sentry-around/1\naccounts: [{name}]\nfolders: {{ \"{folder}\": {{ write: [{name}] }} }}\n"
        );
        File.WriteAllText(Path.Combine(place, "lamp.yaml"), Lamp.Replace("nobody", name, StringComparison.Ordinal));
        try
        {
            var settled = await sentry.Ok("settle", place, "--yes");
            Assert.Contains($"make the account {name}", settled.Error, StringComparison.Ordinal);
            Assert.Equal(0, (await Sentry.As(name, "sh", "-c", $"touch \"{folder}/a\"")).Exit);
            Assert.Equal(0, (await sentry.Calm("compare", place)).Exit);
            await sentry.Ok("settle", "--back", "--yes");
            Assert.Equal(4, (await sentry.Calm("account", "show", name)).Exit);

            // A folder of the host's own is granted to nobody, by files neither.
            File.WriteAllText(
                Path.Combine(place, "around.yaml"),
                $"format: calm-sentry-around/1\naccounts: [{name}]\nfolders: {{ /etc: {{ write: [{name}] }} }}\n"
            );
            var refused = await sentry.Calm("settle", place, "--yes");
            Assert.Equal(1, refused.Exit);
            Assert.Contains($"let {name} write in /etc: ", refused.Output, StringComparison.Ordinal);
        }
        finally
        {
            await sentry.Calm("settle", "--back", "--yes");
            using var gone = Process.Start("userdel", name);
            await gone.WaitForExitAsync().InTime();
        }
    }
}
