using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Output;
using CalmSentry.Store;

namespace CalmSentry.Server.Services;

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
        var output = OutputFile.FirstLines(places.OutputOf(actor.Definition.Name), actor.OutputBegan, Lines);
        if (situation.Run is not { Pid: { } pid } run || ProcessFacts.EffectiveUser(pid) is not { } uid)
            return new Evidence { Output = output };
        return new Evidence
        {
            Pid = pid,
            Account = Account.NameOf(uid),
            CommandLine = ProcessFacts.CommandLine(pid),
            UpMs = run.Launched is { } since ? (long)(clock.GetUtcNow() - since).TotalMilliseconds : null,
            Output = output,
            Proof = run.Proven is null ? null : ServiceViews.ProofOf(actor, store),
        };
    }
}
