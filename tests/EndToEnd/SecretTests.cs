using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>A secret reaches its program and nobody else.</summary>
[Needs("procps")]
public class SecretTests
{
    [Fact]
    public async Task It_is_found_nowhere_but_in_its_program()
    {
        await using var sentry = await Sentry.Start();
        var (first, second) = (
            $"herring-{Guid.NewGuid():N}",
            $"-----BEGIN SEAL-----\n{Guid.NewGuid():N}\n-----END SEAL-----\n"
        );
        var tells = sentry.Script(
            "tells",
            """
            #!/bin/sh
            printf 'key %s\n' "$LEDGER_KEY" >&2
            cat "$SEAL"; stat -c '%a %U' "$SEAL"; stat -f -c %T "$SEAL"
            half=${LEDGER_KEY%????????}; printf %s "$half"; sleep 0.2; printf '%s\n' "${LEDGER_KEY#"$half"}"
            i=0; while [ $i -lt 3000 ]; do echo "line $i: $LEDGER_KEY is the key"; i=$((i + 1)); done
            printf '%s' "$LEDGER_KEY" | sha256sum >"$CALM_STATE/known"; sha256sum <"$SEAL" >>"$CALM_STATE/known"
            echo all told
            exec sleep 600
            """
        );
        await sentry.Wrap("ledger", "--secret", "LEDGER_KEY", "--secret", "SEAL:file", "--", tells);
        Assert.Contains(
            "Its secret LEDGER_KEY has no value yet",
            (await sentry.Calm("start", "ledger")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "is sealed",
            (await sentry.Piped(first + "\n", "secret", "set", "ledger", "LEDGER_KEY")).Output,
            StringComparison.Ordinal
        );
        await sentry.Piped(second, "secret", "set", "ledger", "SEAL");
        await sentry.Ok("start", "ledger");
        var output = sentry.Places.OutputOf("ledger");
        await Sentry.Eventually(async () =>
            (await File.ReadAllTextAsync(output)).Contains("all told\n", StringComparison.Ordinal)
        );

        // The program had both, to the last byte.
        Assert.Equal(
            [Sum(first), Sum(second)],
            (await File.ReadAllLinesAsync(Path.Combine(sentry.Places.StateOf("ledger"), "known"))).Select(line =>
                line.Split(' ')[0]
            )
        );
        var said = await File.ReadAllTextAsync(output);
        // Errors come through a pipe of their own, so their line stands anywhere between the others.
        Assert.Contains("key ****\n", said, StringComparison.Ordinal);
        said = said.Replace("key ****\n", "", StringComparison.Ordinal);
        Assert.Contains("400 nobody\ntmpfs\n****\nline 0: **** is the key\n", said, StringComparison.Ordinal);
        Assert.Contains("line 2999: **** is the key\n", said, StringComparison.Ordinal);

        // Nobody else has either: files of the sentry, the host's own, the process list, every answer.
        var secrets = new[] { first, second.Split('\n')[1] };
        foreach (var secret in secrets)
        {
            Assert.Empty(
                await Found(
                    "grep",
                    "-rlF",
                    "--",
                    secret,
                    sentry.Places.Root,
                    "/var/log",
                    "/var/lib/calm-sentry",
                    "/etc"
                )
            );
            Assert.DoesNotContain(secret, await Found("ps", "-eo", "args"), StringComparison.Ordinal);
            using var client = sentry.Http();
            foreach (
                var call in new[]
                {
                    "services",
                    "services/ledger",
                    "services/ledger/definition",
                    "services/ledger/check",
                    "services/ledger/secrets",
                    "services/ledger/output?last=100000",
                    "services/ledger/runs",
                    "logbook?last=1000",
                    "sentry",
                    "accounts",
                }
            )
                Assert.DoesNotContain(
                    secret,
                    await client.GetStringAsync($"http://sentry/api/{call}"),
                    StringComparison.Ordinal
                );
            foreach (var command in new[] { "show", "output", "logbook", "check" })
                Assert.DoesNotContain(secret, (await sentry.Calm(command, "ledger")).All, StringComparison.Ordinal);
        }

        // Its keys are for the sentry alone; the file is gone with the run; a sentry that comes back still knows the
        // value.
        Assert.Equal((UnixFileMode)0b111_000_000, File.GetUnixFileMode(sentry.Places.Keys));
        Assert.All(
            Directory.GetFiles(sentry.Places.Keys),
            file => Assert.Equal((UnixFileMode)0, File.GetUnixFileMode(file) & (UnixFileMode)0b111_111)
        );
        var kept = (await File.ReadAllTextAsync($"/proc/{(await sentry.Show("ledger")).GetProperty("pid")}/environ"))
            .Split('\0')
            .Single(variable => variable.StartsWith("SEAL=", StringComparison.Ordinal))[5..];
        await sentry.KillServer();
        await sentry.Serve();
        await sentry.Ok("restart", "ledger");
        Assert.True(File.Exists(kept));
        await sentry.Ok("stop", "ledger");
        Assert.False(File.Exists(kept));
        Assert.Contains("LEDGER_KEY", (await sentry.Ok("secret", "list", "ledger")).Output, StringComparison.Ordinal);
        await sentry.Ok("unwrap", "ledger", "--yes");
        Assert.Contains("no secrets", (await sentry.Ok("secret", "list", "ledger")).Output, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("", "No value was given")]
    [InlineData("with \0 NUL", "NUL")]
    public async Task What_is_no_secret_is_refused_without_repeating_it(string value, string words)
    {
        await using var sentry = await Sentry.Start();
        var refused = await sentry.Piped(value, "secret", "set", "ledger", "KEY");
        Assert.Equal((2, true), (refused.Exit, refused.Error.Contains(words, StringComparison.Ordinal)));
        Assert.Equal(2, (await sentry.Piped("x", "secret", "set", "ledger", "NO-KEY")).Exit);
    }

    private static string Sum(string text) =>
        Convert.ToHexStringLower(
            System.Security.Cryptography.SHA256.HashData(System.Text.Encoding.UTF8.GetBytes(text))
        );

    private static async Task<string> Found(string command, params string[] arguments)
    {
        using var process = Process.Start(
            new ProcessStartInfo(command, arguments) { RedirectStandardOutput = true, RedirectStandardError = true }
        )!;
        _ = process.StandardError.ReadToEndAsync();
        var output = await process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        return output;
    }
}
