using System.Globalization;

namespace CalmSentry.Core.Definitions;

/// <summary>
/// Watches and steps of a wind-down as one word on a command line: <c>http:http://127.0.0.1:7411/health,every=15
/// s,then=tell</c>.
/// </summary>
public static class WatchWords
{
    /// <summary>Null: a command with commas in it, which only a file can say.</summary>
    public static string? Of(Watch watch)
    {
        var (word, asks, hangs) = watch switch
        {
            AnswerWatch answer => (
                BeginWords.Of(answer.Look with { Within = Proof.UsualWithin, OnlyTell = false }),
                true,
                true
            ),
            SilenceWatch silence => ($"silent-for:{Duration.Write(silence.Longest)}", false, false),
            FreshFileWatch file => ($"file:{file.Path},fresh-for={Duration.Write(file.Oldest)}", false, false),
            AliveWatch alive => ($"alive-within:{Duration.Write(alive.Within)}", false, true),
            MemoryWatch memory => ($"memory-above:{Size.Write(memory.Bytes)}", false, false),
            CpuWatch cpu => (string.Create(CultureInfo.InvariantCulture, $"cpu-above:{cpu.Percent} %"), false, false),
            OpenFilesWatch files => (
                string.Create(CultureInfo.InvariantCulture, $"open-files-above:{files.Most}"),
                false,
                false
            ),
            ChildrenWatch children => (
                string.Create(CultureInfo.InvariantCulture, $"children-above:{children.Most}"),
                false,
                false
            ),
            CeilingWatch ceiling => ($"ceiling-within:{Duration.Write(ceiling.Within)}", false, false),
            PausedWatch paused => ($"paused-for:{Duration.Write(paused.Longest)}", false, true),
            _ => throw new ArgumentOutOfRangeException(nameof(watch)),
        };
        return word is null
            ? null
            : word
                + (watch.For > TimeSpan.Zero ? $",for={Duration.Write(watch.For)}" : "")
                + (
                    watch.Every == (asks ? Watch.UsualEvery : Watch.UsualSample)
                        ? ""
                        : $",every={Duration.Write(watch.Every)}"
                )
                + (
                    watch.Patience == (asks ? 3 : 1)
                        ? ""
                        : string.Create(CultureInfo.InvariantCulture, $",patience={watch.Patience}")
                )
                + (
                    watch.Then == (hangs ? WatchThen.Restart : WatchThen.Tell)
                        ? ""
                        : $",then={WatchWriter.Of(watch.Then)}"
                );
    }

    /// <summary>Null: a command with commas in it, or text that only a file can say.</summary>
    public static string? Of(WindDownStep step) =>
        step switch
        {
            SignalStep { WholeTree: false } signal => $"{signal.Signal} {Duration.Write(step.Wait)}",
            SignalStep signal => $"signal:{signal.Signal},to=tree,wait={Duration.Write(step.Wait)}",
            SendStep send when Escaped(send.Text) is { } text =>
                $"send:{text},to={send.To},wait={Duration.Write(step.Wait)}",
            CloseInputStep => $"close:input,wait={Duration.Write(step.Wait)}",
            KeyStep key =>
                $"key:{(key.Key == TerminalKey.Quit ? "quit" : "interrupt")},wait={Duration.Write(step.Wait)}",
            HttpStep http =>
                $"http:{http.Url}{(http.Method == "POST" ? "" : $",method={http.Method}")}{(http.Body is { } body ? $",body={body}" : "")},wait={Duration.Write(step.Wait)}",
            CommandStep command when BeginWords.Of(command.Command) is { } word =>
                $"{word},wait={Duration.Write(step.Wait)}",
            _ => null,
        };

    private static string? Escaped(string text)
    {
        var escaped = text.Replace("\\", "\\\\", StringComparison.Ordinal)
            .Replace("\n", "\\n", StringComparison.Ordinal)
            .Replace("\r", "\\r", StringComparison.Ordinal)
            .Replace("\t", "\\t", StringComparison.Ordinal);
        return escaped.Any(char.IsControl) ? null : escaped;
    }
}
