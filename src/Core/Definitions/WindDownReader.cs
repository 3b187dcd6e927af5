using System.Collections.Immutable;

namespace CalmSentry.Core.Definitions;

/// <summary>The part <c>wind-down</c> of a definition.</summary>
internal static class WindDownReader
{
    public static readonly string[] Kinds = ["signal", "send", "close", "key", "http", "command"];

    private static readonly TimeSpan UsualWait = TimeSpan.FromSeconds(10);

    /// <returns>Null when nothing is said of it.</returns>
    public static ImmutableArray<WindDownStep>? Read(MapReader top, bool hasTerminal)
    {
        if (top.Items("wind-down") is not { } items)
            return null;
        var steps = ImmutableArray.CreateBuilder<WindDownStep>();
        foreach (var (item, at) in items)
            if (
                top.Inner(item, at, "a step such as { signal: TERM, wait: 10 s }") is { } map
                && ReadOne(map, hasTerminal) is { } step
            )
                steps.Add(step);
        return steps.ToImmutable();
    }

    private static WindDownStep? ReadOne(MapReader map, bool hasTerminal)
    {
        var signal = map.Text(
            "signal",
            string.Join(", ", SignalNames.Numbers.Keys.Order(StringComparer.Ordinal)),
            SignalNames.Numbers.ContainsKey
        );
        var send = map.Text("send", "text of 1 to 4000 characters", text => text.Length is > 0 and <= 4000);
        var to = map.Text("to", $"with signal: main or tree; with send: {SendTo.Allowed}");
        var close = map.Text("close", "input", text => text == "input");
        var key = map.Value<TerminalKey>(
            "key",
            "interrupt | quit",
            text =>
                text switch
                {
                    "interrupt" => TerminalKey.Interrupt,
                    "quit" => TerminalKey.Quit,
                    _ => null,
                }
        );
        var http = map.Text("http", "an address such as http://127.0.0.1:7411/close", WatchReader.IsWebAddress);
        var method = map.Text(
            "method",
            "GET, POST, PUT or DELETE",
            text => text is "GET" or "POST" or "PUT" or "DELETE"
        );
        var body = map.Text("body", "text of at most 4000 characters", text => text.Length <= 4000);
        var command = WatchReader.ReadCommand(map);
        var wait = map.Time("wait", UsualWait);
        SendTo? target = null;
        if (signal is not null && to is not (null or "main" or "tree"))
            map.Contradicts("to", $"'{to}'", "main or tree: which processes get the signal");
        else if (send is not null && (target = SendTo.Read(to ?? "")) is null)
            map.Contradicts("to", to is null ? "missing" : $"'{to}'", SendTo.Allowed);
        else if (to is not null && signal is null && send is null)
            map.Contradicts("to", "a receiver", "only with signal or send");
        if ((method is not null || body is not null) && http is null)
            map.Contradicts(method is not null ? "method" : "body", "part of a request", "only with http");
        if (key is not null && !hasTerminal)
            map.Contradicts(
                "key",
                "a key at a terminal",
                "only for a program that has one: set program.terminal to true"
            );
        map.OneOf(Kinds);
        map.Done();
        if (signal is not null)
            return new SignalStep(signal, wait, to == "tree");
        if (send is not null)
            return target is { } receiver ? new SendStep(send, receiver, wait) : null;
        if (close is not null)
            return new CloseInputStep(wait);
        if (key is { } pressed)
            return new KeyStep(pressed, wait);
        if (http is not null)
            return new HttpStep(method ?? "POST", http, body, wait);
        return command.IsEmpty ? null : new CommandStep(command, wait);
    }
}
