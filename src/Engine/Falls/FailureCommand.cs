using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Accounts;

namespace CalmSentry.Engine.Falls;

/// <summary>A command that a definition has run after so many failures (<c>recover.then</c>).</summary>
internal static class FailureCommand
{
    private const int LongestSaid = 200;

    /// <summary>
    /// Runs it to its end, or its limit's, as the service's account, with its environment, and with <c>CALM_FAILURES</c> and
    /// <c>CALM_FAILED_RUN</c> beside that.
    /// </summary>
    /// <param name="label">As its run directory and sockets have it.</param>
    /// <returns>What came of it, as a clause.</returns>
    public static async Task<string> Run(
        Definition definition,
        string label,
        RunNumber run,
        int failures,
        FollowUp then,
        RunTools tools
    )
    {
        if (Account.Named(definition.Account) is not { } account)
            return $"there is no account {definition.Account}";
        var environment = LaunchOrder.EnvironmentOf(definition, account, label, tools.Places);
        environment["CALM_FAILURES"] = failures.ToString(CultureInfo.InvariantCulture);
        environment["CALM_FAILED_RUN"] = run.ToString();
        var end = await tools.AsAccount.Run(
            account,
            AccountGroup.IdsOf(definition.Identity.Groups),
            LaunchOrder.DirectoryOf(definition, tools.Places),
            environment,
            then.Command,
            then.Limit
        );
        if (end is not var (code, output, error))
            return $"it cannot be run, or had not ended after {Duration.Write(then.Limit)} and was killed";
        var said = (output + error).Split('\n').Select(line => line.Trim()).FirstOrDefault(line => line.Length > 0);
        return $"it exited with code {code}"
            + (
                said is null ? ""
                : said.Length > LongestSaid ? $", and said '{said[..LongestSaid]}…'"
                : $", and said '{said}'"
            );
    }
}
