using System.Collections.Immutable;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Settling;

/// <summary>What settling does with a service, an account or a folder.</summary>
public enum SettleDeed
{
    /// <summary>An account of the host is made.</summary>
    MakeAccount,

    /// <summary>An account is permitted to run services.</summary>
    Permit,

    /// <summary>An account is given rights on a folder.</summary>
    Grant,
    Unwrap,
    Rename,
    Wrap,
    Adjust,
    Start,
    Restart,

    /// <summary>An account that a settling made is removed again.</summary>
    RemoveAccount,

    /// <summary>An account is no longer permitted.</summary>
    Forbid,

    /// <summary>Rights on a folder are taken back.</summary>
    TakeBack,
    Stop,
}

public enum SettleState
{
    Waiting,

    /// <summary>It was begun; whether it was done, nobody knows before it has said so.</summary>
    Begun,
    Done,
    Failed,
}

/// <param name="Name">Of the service or the account.</param>
/// <param name="To">The new name, or the folder.</param>
public sealed record SettleStep(SettleDeed Deed, string Name, string? To = null)
{
    /// <summary>The definition, as JSON.</summary>
    public string? Document { get; init; }

    /// <summary>The files it was made from.</summary>
    public string? Source { get; init; }

    /// <summary>Of a right on a folder: files can be written, too.</summary>
    public bool Write { get; init; }

    /// <summary>The revision that the list was made from; 0: there was none.</summary>
    public int Seen { get; init; }

    /// <summary>The definition that was in effect before, as JSON.</summary>
    public string? Before { get; init; }

    /// <summary>The latest run there was before.</summary>
    public RunNumber LastRun { get; init; }

    /// <summary>It ran before.</summary>
    public bool Ran { get; init; }

    public SettleState State { get; init; }

    /// <summary>What came of it.</summary>
    public string? Said { get; init; }

    /// <summary>What it does, as a clause.</summary>
    public string What =>
        Deed switch
        {
            SettleDeed.MakeAccount => $"make the account {Name}",
            SettleDeed.Permit => $"permit {Name} to run services",
            SettleDeed.Grant => $"let {Name} {(Write ? "write" : "read")} in {To}",
            SettleDeed.Unwrap => $"unwrap {Name}",
            SettleDeed.Rename => $"rename {Name} to {To}",
            SettleDeed.Wrap => $"wrap {Name}",
            SettleDeed.Adjust => $"adjust {Name}",
            SettleDeed.Start => $"start {Name}",
            SettleDeed.Restart => $"restart {Name}",
            SettleDeed.RemoveAccount => $"remove the account {Name}",
            SettleDeed.Forbid => $"forbid {Name} to run services",
            SettleDeed.TakeBack => $"take back what {Name} was given in {To}",
            _ => $"stop {Name}",
        };
}

/// <summary>
/// Bringing a machine to files, step by step, from the first to the last. It is on record, so a returning server goes on exactly where it
/// was; what it did can be undone.
/// </summary>
public sealed record Settlement
{
    public required int Number { get; init; }

    public required Principal By { get; init; }

    public required DateTimeOffset Began { get; init; }

    public DateTimeOffset? Ended { get; init; }

    public string? Directory { get; init; }

    public string? Head { get; init; }

    /// <summary>The number of the one that it undoes.</summary>
    public int? Back { get; init; }

    public ImmutableArray<SettleStep> Steps { get; init; } = [];

    /// <summary>Services that are as the files say when it has ended.</summary>
    public ImmutableArray<string> Settled { get; init; } = [];

    /// <summary>What to do after a step has failed.</summary>
    public string? Next { get; init; }

    public bool CameTrue => Ended is not null && Steps.All(step => step.State == SettleState.Done);

    /// <summary>The step that is to be done next, or again; -1: none is.</summary>
    public int Turn =>
        Steps.Any(step => step.State == SettleState.Failed)
            ? -1
            : Enumerable
                .Range(0, Steps.Length)
                .FirstOrDefault(i => Steps[i].State is SettleState.Waiting or SettleState.Begun, -1);

    public Settlement With(int step, SettleStep now) => this with { Steps = Steps.SetItem(step, now) };

    /// <summary>
    /// What undoes it: of each step that was done its opposite, in the opposite order. What was refused was not done; what was started
    /// in vain was. Whoever carries it out does nothing where it is so already.
    /// </summary>
    public ImmutableArray<SettleStep> Undone()
    {
        var back = ImmutableArray.CreateBuilder<SettleStep>();
        foreach (var step in Steps.Reverse())
            if (
                step.State is SettleState.Done or SettleState.Begun
                || (step is { State: SettleState.Failed, Deed: SettleDeed.Start or SettleDeed.Restart })
            )
                foreach (var undone in Undone(step))
                    if (undone.Deed != SettleDeed.Stop || back.Count == 0 || back[^1] != undone) // it is stopped already
                        back.Add(undone);
        return back.ToImmutable();
    }

    private bool WasRestarted(string name) =>
        Steps.Any(step => step.Deed == SettleDeed.Restart && step.Name == name && step.State != SettleState.Waiting);

    private IEnumerable<SettleStep> Undone(SettleStep step)
    {
        switch (step.Deed)
        {
            case SettleDeed.MakeAccount:
                yield return new(SettleDeed.RemoveAccount, step.Name);
                break;
            case SettleDeed.Permit:
                yield return new(SettleDeed.Forbid, step.Name);
                break;
            case SettleDeed.Grant:
                yield return new(SettleDeed.TakeBack, step.Name, step.To) { Write = step.Write };
                break;
            case SettleDeed.Rename:
                yield return new(SettleDeed.Rename, step.To!, step.Name);
                break;
            case SettleDeed.Wrap:
                yield return new(SettleDeed.Stop, step.Name);
                yield return new(SettleDeed.Unwrap, step.Name);
                break;
            case SettleDeed.Adjust when step.Before is { } before:
                yield return new(SettleDeed.Adjust, step.Name) { Document = before };
                if (WasRestarted(step.Name))
                    yield return new(SettleDeed.Restart, step.Name);
                break;
            case SettleDeed.Unwrap when step.Before is { } before:
                yield return new(SettleDeed.Wrap, step.Name) { Document = before };
                if (step.Ran)
                    yield return new(SettleDeed.Start, step.Name);
                break;
            case SettleDeed.Start when !step.Ran:
                yield return new(SettleDeed.Stop, step.Name);
                break;
            case SettleDeed.Stop when step.Ran:
                yield return new(SettleDeed.Start, step.Name);
                break;
        }
    }
}

/// <summary>When a service was as its files said, and which.</summary>
/// <param name="Revision">Of its definition then.</param>
/// <param name="Directory">Where the files lie; null: nobody said.</param>
/// <param name="Head">Their revision under version control; null: none was found.</param>
public sealed record SettledAs(int Revision, DateTimeOffset At, string? Directory, string? Head);
