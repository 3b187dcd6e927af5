using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Output;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Processes;
using CalmSentry.Store;

namespace CalmSentry.Engine.Services;

/// <summary>
/// What shows that a run is there, or why it is not: asked of the kernel and of the output file, not of our own record.
/// </summary>
internal static class EvidenceFinder
{
    private const int Lines = 10;

    public static Evidence Of(
        ServiceActor actor,
        Situation situation,
        SentryStore store,
        Places places,
        TimeProvider clock
    )
    {
        var output = OutputOf(actor, situation, places.OutputDirectoryOf(actor.Definition.Name));
        if (situation.Run is not { Pid: { } pid } run || ProcessFacts.EffectiveUser(pid) is not { } uid)
            return new Evidence { Output = output };
        return new Evidence
        {
            Pid = pid,
            Account = Account.NameOf(uid),
            CommandLine = CommandOf(pid, actor),
            UpMs = run.Launched is { } since ? (long)(clock.GetUtcNow() - since).TotalMilliseconds : null,
            Output = output,
            Proof = run.Proven is null ? null : ServiceViews.ProofOf(actor, store),
        };
    }

    /// <summary>
    /// A program that writes a title over its arguments leaves the rest of their room empty: that is no argument.
    /// </summary>
    private static IReadOnlyList<string> CommandOf(int pid, ServiceActor actor)
    {
        var command = ProcessFacts.CommandLine(pid);
        if (command.SequenceEqual(LaunchOrder.CommandOf(actor.Definition.Program)))
            return command;
        var last = command.ToList().FindLastIndex(word => word.Length > 0);
        return [.. command.Take(last + 1)];
    }

    /// <summary>
    /// How a run that serves began, or what one that does not said last. Of one that was never launched there is nothing:
    /// what is in the file is of a run before it.
    /// </summary>
    private static IReadOnlyList<string> OutputOf(ServiceActor actor, Situation situation, string folder) =>
        situation switch
        {
            { Run: { Launched: not null, Proven: not null } } => OutputFile.FirstLines(
                folder,
                actor.Definition.Output.Encoding,
                actor.OutputBegan,
                Lines
            ),
            { Run.Launched: not null }
            or { Run: null, Awaited: null, LastEnd.Outcome.Kind: not OutcomeKind.NeverLaunched } =>
                OutputFile.LastLines(
                    folder,
                    actor.Definition.Output.Encoding,
                    actor.OutputBegan,
                    Segments.End(folder),
                    Lines
                ),
            _ => [],
        };
}
