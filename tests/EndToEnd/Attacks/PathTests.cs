using System.Diagnostics;
using System.Text;
using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>Completing a path shows what the account may see and nothing else, whatever somebody has laid into its way.</summary>
public sealed class PathTests
{
    public PathTests()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
    }

    private static async Task<(string[] Paths, bool More, string? Trouble)> Of(
        Sentry sentry,
        string beginning,
        string? account = "nobody"
    )
    {
        var query =
            $"paths?beginning={Uri.EscapeDataString(beginning)}" + (account is null ? "" : $"&account={account}");
        var view = await sentry.Call(HttpMethod.Get, query);
        return (
            [
                .. view.GetProperty("paths")
                    .EnumerateArray()
                    .Select(one => $"{one.GetProperty("kind").GetString()} {one.GetProperty("path").GetString()}"),
            ],
            view.GetProperty("more").GetBoolean(),
            view.TryGetProperty("trouble", out var trouble) && trouble.ValueKind != JsonValueKind.Null
                ? trouble.GetString()
                : null
        );
    }

    private static async Task Laid(string place, string does)
    {
        using var process = Process.Start("sh", ["-c", does, "sh", place]);
        await process.WaitForExitAsync().InTime();
        Assert.Equal(0, process.ExitCode);
    }

    [Fact]
    public async Task What_the_account_cannot_see_is_not_told_and_what_is_no_file_is_not_offered()
    {
        await using var sentry = await Sentry.Start();
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "srv", "quay")).FullName;
        await Laid(
            place,
            "cd \"$1\"; mkdir shut open; touch shut/secret open/tide .hidden; chmod 700 shut; mkfifo pipe; mknod null c 1 3; "
                + "ln -s /nowhere lost; ln -s open way; ln -s shut/secret peek; printf '#!/bin/sh\\n' >run; chmod 755 run; "
                + "touch \"$(printf 'two\\nlines')\" \"$(printf 'no\\377text')\""
        );
        Assert.Equal(
            [
                $"directory {place}/open/",
                $"program {place}/run",
                $"directory {place}/shut/",
                $"file {place}/two\nlines",
                $"directory {place}/way/",
            ],
            (await Of(sentry, place + "/")).Paths
        );
        Assert.Equal([$"file {place}/.hidden"], (await Of(sentry, place + "/.h")).Paths);
        Assert.Equal([$"file {place}/way/tide"], (await Of(sentry, place + "/way/t")).Paths);
        foreach (var account in new[] { "nobody", null })
        {
            var (paths, _, trouble) = await Of(sentry, place + "/shut/", account);
            Assert.Empty(paths);
            Assert.Equal(
                $"{place}/shut/ cannot be looked into by {account ?? "everybody"}: permission denied (EACCES).",
                trouble
            );
        }

        Assert.Equal("root is not permitted to run services.", (await Of(sentry, place + "/shut/", "root")).Trouble);
        Assert.Equal("There is no account nobody-knows.", (await Of(sentry, place + "/shut/", "nobody-knows")).Trouble);
        Assert.Contains("ENOENT", (await Of(sentry, place + "/none/x")).Trouble, StringComparison.Ordinal);
        Assert.Contains("ENOTDIR", (await Of(sentry, place + "/run/x")).Trouble, StringComparison.Ordinal);
        Assert.Equal($"Nothing in {place}/ begins with x.", (await Of(sentry, place + "/x")).Trouble);
        foreach (var odd in new[] { "quay", "", "/a%00b" })
        {
            using var http = sentry.Http();
            using var answer = await http.GetAsync($"http://sentry/api/paths?beginning={odd}");
            Assert.Equal(System.Net.HttpStatusCode.BadRequest, answer.StatusCode);
        }

        await Laid(place, "rm -r \"$1\""); // a name that is no text cannot be taken away otherwise
    }

    [Fact]
    public async Task Of_many_and_long_names_the_first_are_shown()
    {
        await using var sentry = await Sentry.Start();
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "srv", "many")).FullName;
        var name = Encoding.UTF8.GetString(Enumerable.Repeat((byte)'n', 250).ToArray());
        for (var i = 0; i < 30_000; i++)
            File.Create(Path.Combine(place, $"{i:00000}{name}")).Dispose();
        var (paths, more, trouble) = await Of(sentry, place + "/");
        Assert.Equal((200, true, null), (paths.Length, more, trouble));
        Assert.Equal($"file {place}/00000{name}", paths[0]);
        Assert.Equal([$"file {place}/29999{name}"], (await Of(sentry, place + "/29999")).Paths);
    }
}
