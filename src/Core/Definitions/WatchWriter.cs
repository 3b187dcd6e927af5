using System.Globalization;
using static CalmSentry.Core.Definitions.DefinitionWriter;

namespace CalmSentry.Core.Definitions;

/// <summary>The parts <c>watch</c> and <c>wind-down</c> of a definition, written back.</summary>
public static class WatchWriter
{
    public static MapNode Watch(Watch watch)
    {
        var look = (watch as AnswerWatch)?.Look;
        var http = look as HttpProof;
        return Map(
            ("http", Maybe(http?.Url)),
            ("status", Whole(http?.Status)),
            ("text", Maybe(http?.Text)),
            ("tcp", Maybe((look as TcpProof)?.Address)),
            ("command", look is CommandProof command ? new ListNode([.. command.Command.Select(Text)]) : null),
            ("silent-for", Length((watch as SilenceWatch)?.Longest)),
            ("file", Maybe((watch as FreshFileWatch)?.Path)),
            ("fresh-for", Length((watch as FreshFileWatch)?.Oldest)),
            ("alive-within", Length((watch as AliveWatch)?.Within)),
            ("memory-above", watch is MemoryWatch memory ? Text(Size.Write(memory.Bytes)) : null),
            (
                "cpu-above",
                watch is CpuWatch cpu ? Text(string.Create(CultureInfo.InvariantCulture, $"{cpu.Percent} %")) : null
            ),
            ("open-files-above", Whole((watch as OpenFilesWatch)?.Most)),
            ("children-above", Whole((watch as ChildrenWatch)?.Most)),
            ("ceiling-within", Length((watch as CeilingWatch)?.Within)),
            ("paused-for", Length((watch as PausedWatch)?.Longest)),
            ("for", watch.For > TimeSpan.Zero ? Time(watch.For) : null),
            ("every", Time(watch.Every)),
            ("patience", Whole(watch.Patience)),
            ("then", Text(Of(watch.Then)))
        );
    }

    public static MapNode Step(WindDownStep step) =>
        Map(
            ("signal", Maybe((step as SignalStep)?.Signal)),
            ("send", Maybe((step as SendStep)?.Text)),
            ("close", step is CloseInputStep ? Text("input") : null),
            ("key", step is KeyStep key ? Text(key.Key == TerminalKey.Quit ? "quit" : "interrupt") : null),
            ("http", Maybe((step as HttpStep)?.Url)),
            ("command", step is CommandStep command ? new ListNode([.. command.Command.Select(Text)]) : null),
            (
                "to",
                step switch
                {
                    SignalStep { WholeTree: true } => Text("tree"),
                    SendStep send => Text(send.To.ToString()),
                    _ => null,
                }
            ),
            ("method", Maybe((step as HttpStep)?.Method)),
            ("body", Maybe((step as HttpStep)?.Body)),
            ("wait", Time(step.Wait))
        );

    public static string Of(WatchThen then) =>
        then switch
        {
            WatchThen.Note => "note",
            WatchThen.Tell => "tell",
            WatchThen.Restart => "restart",
            _ => "restart-by-force",
        };

    private static ScalarNode? Whole(int? number) => Maybe(number?.ToString(CultureInfo.InvariantCulture));

    private static ScalarNode? Length(TimeSpan? length) => length is { } some ? Time(some) : null;
}
