using System.Diagnostics;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace CalmSentry.Tests.EndToEnd.Terminals;

/// <summary>What a screen shows.</summary>
public sealed record Shown(IReadOnlyList<string> Lines, int Column, int Row)
{
    public string All => string.Join('\n', Lines.Select(line => line.TrimEnd()));
}

/// <summary>A command at a terminal of its own, whose screen is drawn by an emulator that is not ours (screens.py, with pyte).</summary>
internal sealed class Screens : IDisposable
{
    private readonly Process process;

    private Screens(Process process) => this.process = process;

    public static Screens Of(string size, params string[] command)
    {
        var start = new ProcessStartInfo(
            "/usr/bin/python3",
            [Path.Combine(Sentry.Repository, "tests/EndToEnd/Terminals/screens.py"), size, .. command]
        )
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
        };
        return new(Process.Start(start)!);
    }

    /// <summary>The client, joining.</summary>
    public static Screens Joining(Sentry sentry, string size, string service, params string[] flags) =>
        Of(size, [sentry.Program("calm"), "--root", sentry.Places.Root, "terminal", service, .. flags]);

    public int Client => int.Parse(Ask(new() { ["pid"] = true }).GetProperty("pid").ToString(), null);

    public void Keys(string keys) => Say(new() { ["keys"] = keys });

    /// <summary>Ctrl-Q twice.</summary>
    public void Leave()
    {
        Keys("\u0011\u0011");
        Until("Left the terminal");
    }

    /// <summary>
    /// Waits until the screen has a text and comes to rest with it: what was there before passes by, too, when one joins.
    /// </summary>
    public void Until(string text)
    {
        var wait = Stopwatch.StartNew();
        string shown;
        do
        {
            Say(new() { ["until"] = text });
            shown = Now().All;
        } while (!shown.Contains(text, StringComparison.Ordinal) && wait.Elapsed < Sentry.Limit / 3);
        Assert.Contains(text, shown, StringComparison.Ordinal);
    }

    public Shown Now()
    {
        var shown = Ask(new() { ["wait"] = 0.05, ["show"] = true });
        return new(
            [.. shown.GetProperty("lines").EnumerateArray().Select(line => line.GetString()!)],
            shown.GetProperty("cursor")[0].GetInt32(),
            shown.GetProperty("cursor")[1].GetInt32()
        );
    }

    /// <summary>Waits until two screens show the same, each cell of them, and the cursor at the same place.</summary>
    /// <param name="still">Of a line, what does not differ from one moment to the next; null: all of it.</param>
    public static void AreSame(Screens one, Screens other, Func<string, string>? still = null)
    {
        if (still is not null)
        {
            AreAlike(one, other, still);
            return;
        }

        var (wait, last) = (Stopwatch.StartNew(), (one.Now(), other.Now()));
        while (wait.Elapsed < Sentry.Limit / 6)
        {
            last = (one.Now(), other.Now());
            if (
                last.Item1.Lines.SequenceEqual(last.Item2.Lines)
                && last.Item1.Column == last.Item2.Column
                && last.Item1.Row == last.Item2.Row
            )
                return;
        }

        Assert.Equal(last.Item1.All, last.Item2.All);
        Assert.Equal((last.Item1.Column, last.Item1.Row), (last.Item2.Column, last.Item2.Row));
    }

    private static void AreAlike(Screens one, Screens other, Func<string, string> still)
    {
        var wait = Stopwatch.StartNew();
        string[] last;
        do last = [.. new[] { one, other }.Select(screen => string.Join('\n', screen.Now().Lines.Select(still)))];
        while (last[0] != last[1] && wait.Elapsed < Sentry.Limit / 6);
        Assert.Equal(last[0], last[1]);
    }

    private void Say(JsonObject order)
    {
        process.StandardInput.WriteLine(order.ToJsonString());
        process.StandardInput.Flush();
    }

    private JsonElement Ask(JsonObject order)
    {
        Say(order);
        var line = process.StandardOutput.ReadLine();
        Assert.NotNull(line);
        return JsonDocument.Parse(line).RootElement;
    }

    public void Dispose()
    {
        process.StandardInput.Close();
        process.WaitForExit(Sentry.Limit);
        process.Dispose();
    }
}
