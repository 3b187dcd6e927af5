using System.Collections.Immutable;
using System.Diagnostics.CodeAnalysis;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Definitions;

/// <summary>The keys of a step of a wind-down.</summary>
public static class WindDownKeys
{
    private static readonly TimeSpan UsualWait = TimeSpan.FromSeconds(10);

    /// <summary>
    /// Whatever a program was told in its own way, and whether or not that could be told, it is asked to end before it is
    /// killed; only who writes KILL, or no step at all, wants it otherwise.
    /// </summary>
    public static ImmutableArray<WindDownStep> AtLastAsked(ImmutableArray<WindDownStep> steps) =>
        steps is [] or [.., SignalStep { Signal: "TERM" or "KILL" }]
            ? steps
            : steps.Add(new SignalStep("TERM", UsualWait));

    private static readonly Form<string> Signal = Forms.OneOf([
        .. SignalNames.Numbers.Keys.Order(StringComparer.Ordinal),
    ]) with
    {
        Read = (string text, [MaybeNullWhen(false)] out string name) =>
            SignalNames.Numbers.ContainsKey(name = SignalNames.Short(text)),
    };

    private static readonly Form<SendTo> To = Forms.Of(SendTo.Allowed, SendTo.Read, to => to.ToString());

    private const string ToAbout =
        "With signal, main or tree: which processes get it. With send, input, tcp HOST:PORT or unix /PATH.";

    public static Union<WindDownStep> Steps { get; } =
        new(
            "{ signal: TERM, wait: 10 s }",
            [
                UnionOf<WindDownStep>.Kind(
                    "signal",
                    Signal,
                    signal => new SignalStep(signal, UsualWait),
                    step => (step as SignalStep)?.Signal,
                    "A signal, to the main process unless to says otherwise."
                ) with
                {
                    Of = "TERM",
                },
                UnionOf<WindDownStep>.Kind(
                    "send",
                    Forms.Text("text of 1 to 4000 characters", text => text.Length is > 0 and <= 4000),
                    text => new SendStep(text, default, UsualWait),
                    step => (step as SendStep)?.Text,
                    "Text that is sent to where to says; what comes back is kept."
                ) with
                {
                    Of = "TEXT",
                    Example = "\"close-day\\n\"",
                    IsEscaped = true,
                },
                UnionOf<WindDownStep>.Kind(
                    "close",
                    Forms.OneOf("input"),
                    _ => new CloseInputStep(UsualWait),
                    step => step is CloseInputStep ? "input" : null,
                    "input: its standard input is closed."
                ) with
                {
                    Of = "input",
                },
                UnionOf<WindDownStep>.Kind(
                    "key",
                    Forms.Choice(("interrupt", TerminalKey.Interrupt), ("quit", TerminalKey.Quit)),
                    key => new KeyStep(key, UsualWait),
                    step => (step as KeyStep)?.Key,
                    "A key pressed at its terminal (program.terminal)."
                ) with
                {
                    Of = "interrupt|quit",
                },
                UnionOf<WindDownStep>.Kind(
                    "http",
                    Forms.Url,
                    url => new HttpStep("POST", url, null, UsualWait),
                    step => (step as HttpStep)?.Url,
                    "A request is sent to this address; the answer is kept."
                ) with
                {
                    Of = "URL",
                    Example = "http://127.0.0.1:7411/close",
                },
                UnionOf<WindDownStep>.Command(
                    "command",
                    command => new CommandStep(command, UsualWait),
                    step => (step as CommandStep)?.Command,
                    "A command run as the account, program first, with the pid of the main process in CALM_PID."
                ) with
                {
                    Example = "[/usr/bin/ledger-close, --now]",
                },
            ],
            [
                UnionOf<WindDownStep>.Attribute(
                    "to",
                    Forms.Choice(("main", false), ("tree", true)),
                    step => step is SignalStep { WholeTree: true } ? true : null,
                    (step, tree) => ((SignalStep)step) with { WholeTree = tree },
                    ToAbout
                ) with
                {
                    Only = ["signal"],
                    Type = KeyType.Text,
                    Choices = null,
                    Default = "main; must be given with send",
                    Example = "tcp 127.0.0.1:7412",
                },
                UnionOf<WindDownStep>.Attribute(
                    "to",
                    To,
                    step => (step as SendStep)?.To,
                    (step, to) => ((SendStep)step) with { To = to },
                    SendTo.Allowed
                ) with
                {
                    Only = ["send"],
                    Needed = true,
                    Default = "must be given with send",
                    Example = "tcp HOST:PORT",
                },
                UnionOf<WindDownStep>.Attribute(
                    "method",
                    Forms.OneOf("GET", "POST", "PUT", "DELETE"),
                    step => (step as HttpStep)?.Method,
                    (step, method) => ((HttpStep)step) with { Method = method },
                    "With http."
                ) with
                {
                    Only = ["http"],
                    Default = "POST",
                },
                UnionOf<WindDownStep>.Attribute(
                    "body",
                    Forms.Text("text of at most 4000 characters", text => text.Length <= 4000),
                    step => (step as HttpStep)?.Body,
                    (step, body) => ((HttpStep)step) with { Body = body },
                    "With http, what is sent with it."
                ) with
                {
                    Only = ["http"],
                    Default = "nothing",
                    IsNothingLeftOut = true,
                    IsText = true,
                },
                UnionOf<WindDownStep>.Attribute(
                    "wait",
                    Forms.Length,
                    step => step.Wait,
                    (step, wait) => step with { Wait = wait },
                    "How long it may take; it is over as soon as the program has ended. After a step that fails, the next "
                        + "follows at once."
                ) with
                {
                    Default = "10 s",
                    Example = "10 s",
                },
            ]
        )
        {
            ToShort = step =>
                step is SignalStep { WholeTree: false } signal ? $"{signal.Signal} {Duration.Write(step.Wait)}" : null,
            FromShort = Short,
        };

    /// <summary><c>TERM 10s</c></summary>
    private static MapNode? Short(string word)
    {
        var words = word.Split(' ', 2, StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        if (words.Length == 0 || words[0].Contains(':', StringComparison.Ordinal))
            return null;
        var signal = KeyValuePair.Create("signal", (Node)new ScalarNode(words[0]));
        return words.Length == 1
            ? new([signal])
            : new([signal, KeyValuePair.Create("wait", (Node)new ScalarNode(words[1]))]);
    }
}
