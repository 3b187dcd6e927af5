using System.Collections.Immutable;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Definitions;

/// <summary>
/// One step of a clean stop: something is done, then it is waited until the program has ended, but no longer than <see
/// cref="Wait"/>.
/// </summary>
public abstract record WindDownStep(TimeSpan Wait)
{
    /// <summary>The step as a thing: "TERM", "'close-day' to tcp 127.0.0.1:7412".</summary>
    public abstract string What { get; }

    /// <summary>That it was taken, as a clause: "TERM was sent".</summary>
    public abstract string Taken { get; }
}

/// <param name="Signal">Name without SIG, one of <see cref="SignalNames"/>.</param>
/// <param name="WholeTree">To every process of the run, rather than the main one alone.</param>
public sealed record SignalStep(string Signal, TimeSpan Wait, bool WholeTree = false) : WindDownStep(Wait)
{
    public override string What => WholeTree ? $"{Signal} to its tree" : Signal;

    public override string Taken => $"{Signal} was sent{(WholeTree ? " to its tree" : "")}";
}

public enum SendKind
{
    /// <summary>Its standard input.</summary>
    Input,
    Tcp,
    Unix,
}

/// <param name="Address">HOST:PORT, or the path of a Unix socket; empty for its input.</param>
public readonly record struct SendTo(SendKind Kind, string Address)
{
    public const string Allowed = "input, tcp HOST:PORT or unix /PATH";

    public override string ToString() =>
        Kind switch
        {
            SendKind.Tcp => $"tcp {Address}",
            SendKind.Unix => $"unix {Address}",
            _ => "input",
        };

    public static SendTo? Read(string text) =>
        text.Split(' ', 2, StringSplitOptions.TrimEntries) switch
        {
            ["input"] => new(SendKind.Input, ""),
            ["tcp", var address] when NetworkAddress.Read(address) is not null => new(SendKind.Tcp, address),
            ["unix", var path] when Path.IsPathRooted(path) => new(SendKind.Unix, path),
            _ => null,
        };
}

/// <summary>Text sent to the program: what it answers is kept.</summary>
public sealed record SendStep(string Text, SendTo To, TimeSpan Wait) : WindDownStep(Wait)
{
    public override string What => $"'{Text.Trim()}' to {(To.Kind == SendKind.Input ? "its input" : To)}";

    public override string Taken => $"'{Text.Trim()}' was sent to {(To.Kind == SendKind.Input ? "its input" : To)}";
}

/// <summary>Its standard input comes to its end.</summary>
public sealed record CloseInputStep(TimeSpan Wait) : WindDownStep(Wait)
{
    public override string What => "the end of its input";

    public override string Taken => "its input was closed";
}

public enum TerminalKey
{
    /// <summary>Control and C.</summary>
    Interrupt,

    /// <summary>Control and backslash.</summary>
    Quit,
}

/// <summary>A key pressed at its terminal (termios(3)), which whatever is in its foreground gets.</summary>
public sealed record KeyStep(TerminalKey Key, TimeSpan Wait) : WindDownStep(Wait)
{
    public override string What => $"the {Word} key";

    public override string Taken => $"the {Word} key was pressed at its terminal";

    private string Word => Key == TerminalKey.Quit ? "quit" : "interrupt";
}

/// <param name="Body">What is sent with it, or null.</param>
public sealed record HttpStep(string Method, string Url, string? Body, TimeSpan Wait) : WindDownStep(Wait)
{
    public override string What => $"{Method} {Url}";

    public override string Taken => $"{Method} {Url} was asked";
}

/// <summary>A command run as the account, with the process number of the program in CALM_PID.</summary>
public sealed record CommandStep(ImmutableArray<string> Command, TimeSpan Wait) : WindDownStep(Wait)
{
    public override string What => $"'{string.Join(' ', Command)}'";

    public override string Taken => $"'{string.Join(' ', Command)}' was run";

    public bool Equals(CommandStep? other) => base.Equals(other) && Command.SequenceEqual(other.Command);

    public override int GetHashCode() => HashCode.Combine(base.GetHashCode(), Command.Length);
}
