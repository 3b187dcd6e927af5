using System.Diagnostics;
using System.Globalization;
using System.Text;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Tests.Campaign;

/// <summary>
/// Those who join the terminal of a program that numbers its lines, and leave it, or are killed: whatever happens meanwhile, what they saw
/// of a run has each line once and in its order, unless it says that some is not shown.
/// </summary>
internal sealed class Viewers(Machine machine)
{
    private readonly List<(string File, Task Over)> joined = [];
    private int joins,
        lines;

    /// <summary>How many joined, and saw what.</summary>
    public string Told => $"{joins} joined a terminal and saw {lines} numbered lines";

    public Task Join(Random random)
    {
        var file = Path.Combine(machine.Witness, $"seen {joins++}");
        var calm =
            $"{CommandLine.Quoted(Path.Combine(machine.Client, "calm"))} --root {CommandLine.Quoted(machine.Places.Root)} terminal {Fleet.AtTerminal}";
        var start = new ProcessStartInfo(
            "script",
            ["-qefc", $"{calm}{(random.Next(2) == 0 ? " --watch" : " --take")}", file]
        )
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        var (stays, kills) = (TimeSpan.FromMilliseconds(random.Next(800, 6000)), random.Next(3) == 0);
        joined.Add(
            (
                file,
                Task.Run(async () =>
                {
                    using var viewer = Process.Start(start)!;
                    _ = viewer.StandardOutput.ReadToEndAsync();
                    await Task.Delay(stays).ConfigureAwait(false);
                    if (kills)
                        viewer.Kill(entireProcessTree: true);
                    else
                        await Press(viewer).ConfigureAwait(false);
                    using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
                    try
                    {
                        // Until it has joined, a terminal takes the keys for its own (XON, termios(3)): they are pressed again.
                        while (!kills && !viewer.HasExited)
                        {
                            await Task.Delay(1000, limit.Token).ConfigureAwait(false);
                            await Press(viewer).ConfigureAwait(false);
                        }

                        await viewer.WaitForExitAsync(limit.Token).ConfigureAwait(false);
                    }
                    catch (OperationCanceledException)
                    {
                        viewer.Kill(entireProcessTree: true);
                        await File.AppendAllTextAsync(file, "\nit did not leave\n", CancellationToken.None)
                            .ConfigureAwait(false);
                    }
                })
            )
        );
        return Task.CompletedTask;
    }

    private static async Task Press(Process viewer)
    {
        try
        {
            await viewer.StandardInput.WriteAsync("\u0011\u0011").ConfigureAwait(false);
            await viewer.StandardInput.FlushAsync().ConfigureAwait(false);
        }
        catch (IOException)
        {
            // It was refused, or has ended.
        }
    }

    /// <summary>What is wrong with what was seen since the last time.</summary>
    public async Task<IReadOnlyList<string>> Look()
    {
        var broken = new List<string>();
        foreach (var (file, over) in joined)
        {
            await over.ConfigureAwait(false);
            if (!File.Exists(file))
                continue;
            if (Wrong(await File.ReadAllTextAsync(file, Encoding.Latin1).ConfigureAwait(false)) is { } wrong)
                broken.Add($"the view {file}: {wrong}");
            else
                File.Delete(file);
        }

        joined.Clear();
        return broken;
    }

    private string? Wrong(string seen)
    {
        (string Run, long Number)? last = null;
        foreach (var line in seen.Split('\n'))
        {
            if (line.Contains("it did not leave", StringComparison.Ordinal))
                return "it did not leave within a minute";
            // Where it begins anew, or says something itself, the next line may be any.
            if (line.Contains('\u001b', StringComparison.Ordinal) || line.Contains("[calm: ", StringComparison.Ordinal))
                last = null;
            var words = line.TrimEnd('\r').Split(' ');
            if (
                words is not [var run, var number]
                || !long.TryParse(number, CultureInfo.InvariantCulture, out var n)
                || !long.TryParse(run, CultureInfo.InvariantCulture, out _)
            )
                continue;
            if (last is { } before && before.Run == run && n != before.Number + 1)
                return $"after line {before.Number} of run {run} comes {n}";
            last = (run, n);
            lines++;
        }

        return null;
    }
}
