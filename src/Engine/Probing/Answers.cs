using CalmSentry.Core.Definitions;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Accounts;

namespace CalmSentry.Engine.Probing;

/// <summary>What can be asked of a service at any time: tcp, http or a command; for proofs and for watches.</summary>
internal static class Answers
{
    private const int LongestShown = 200;

    /// <summary>A line as evidence shows it.</summary>
    public static string Shown(string line) => line.Length > LongestShown ? line[..LongestShown] + "…" : line;

    /// <summary>Asks what can be asked at any time: tcp, http or a command.</summary>
    /// <param name="limit">How long an answer may take; null: as long as is usual.</param>
    public static async Task<(string? Missing, string Seen)> Of(
        Proof look,
        IRunning actor,
        RunNumber run,
        RunTools tools,
        TimeSpan? limit,
        CancellationToken gone
    ) =>
        look switch
        {
            TcpProof tcp => (await Probes.Tcp(tcp.Address, gone, limit), $"{tcp.Address} accepts connections"),
            HttpProof http => await Probes.Web(http, gone, limit),
            CommandProof command => await Succeeds(command, actor, run, tools, limit ?? AsAccount.Patience, gone),
            _ => throw new ArgumentOutOfRangeException(nameof(look)),
        };

    private static async Task<(string? Missing, string Seen)> Succeeds(
        CommandProof proof,
        IRunning actor,
        RunNumber run,
        RunTools tools,
        TimeSpan limit,
        CancellationToken gone
    )
    {
        var definition = actor.Definition;
        if (Account.Named(definition.Account) is not { } account)
            return ($"there is no account {definition.Account}", "");
        var groups = AccountGroup.IdsOf(definition.Identity.Groups);
        var end = await tools.AsAccount.Run(
            account,
            groups,
            LaunchOrder.DirectoryOf(definition, tools.Places),
            LaunchOrder.EnvironmentOf(definition, account, actor.Id.ToString(), tools.Places),
            proof.Command,
            limit,
            actor.Site(run).Commands(tools),
            cancellation: gone
        );
        var said = (end?.Output + end?.Error).Split('\n').FirstOrDefault(line => line.Length > 0) is { } line
            ? $" ('{Shown(line)}')"
            : "";
        return end switch
        {
            null => ($"{proof.Command[0]} cannot be run, or takes over {Duration.Write(limit)}", ""),
            { ExitCode: 0 } => (null, $"{proof.Command[0]} succeeded{said}"),
            { ExitCode: var code } => ($"{proof.Command[0]} exited with code {code}{said}", ""),
        };
    }
}
