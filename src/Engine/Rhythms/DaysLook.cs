using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Rhythms;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Watching;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Native;

namespace CalmSentry.Engine.Rhythms;

/// <summary>Files with days that a rhythm leaves out, read as the service's account.</summary>
internal static class DaysLook
{
    /// <summary>Reads those of a service, and tells it what is in them.</summary>
    public static async Task Go(IWatched actor, RunTools tools, CancellationToken gone)
    {
        foreach (var file in FilesOf(actor.Definition))
            await actor.Ask(await Read(file, actor.Definition, tools.AsAccount, gone));
    }

    public static IEnumerable<string> FilesOf(Definition definition) =>
        definition.Rhythm.Select(planned => planned.Except?.File).OfType<string>().Distinct();

    /// <summary>The same definition, with the days of its files as they are now.</summary>
    public static async Task<Definition> Known(Definition definition, AsAccount asAccount, CancellationToken gone)
    {
        foreach (var file in FilesOf(definition))
        {
            var read = await Read(file, definition, asAccount, gone).ConfigureAwait(false);
            definition = definition with
            {
                Rhythm =
                [
                    .. definition.Rhythm.Select(planned =>
                        planned.Except is { } except && except.File == file
                            ? planned with
                            {
                                Except = except with { OfFile = read.Days },
                            }
                            : planned
                    ),
                ],
            };
        }

        return definition;
    }

    public static async Task<DaysRead> Read(
        string file,
        Definition definition,
        AsAccount asAccount,
        CancellationToken gone
    )
    {
        if (Account.Named(definition.Account) is not { } account)
            return Not($"there is no account {definition.Account}");
        var end = await asAccount
            .Read(account, AccountGroup.IdsOf(definition.Identity.Groups), file, gone)
            .ConfigureAwait(false);
        if (end is not ({ } text, var errno))
            return Not("it could not be read in time");
        if (errno != 0)
            return Not(
                errno == AsAccount.IsTooLong
                    ? "it is longer than 64 KiB"
                    : $"{definition.Account} cannot read it ({Names.Errno(errno)})"
            );
        var days = Excepted.OfLines(text, out var wrong);
        return wrong is null ? new(file, days, null) : Not(wrong);

        DaysRead Not(string why) => new(file, [], why);
    }
}
