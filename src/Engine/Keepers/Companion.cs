using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Runs;

namespace CalmSentry.Engine.Keepers;

/// <summary>A program of the sentry's own choosing that runs beside a service's run, under a keeper of its own, until either is gone.</summary>
/// <param name="accounts">Whose its processes are, by number; none where the host does not know the account any more.</param>
internal class Companion(KeeperLink link, RunSite site, IReadOnlyCollection<uint> accounts, RunTools tools)
{
    private readonly TaskCompletionSource gone = new(TaskCreationOptions.RunContinuationsAsynchronously),
        begun = new(TaskCreationOptions.RunContinuationsAsynchronously);

    public RunSite Site => site;

    /// <summary>Completes when nothing of it is left.</summary>
    public Task Gone => gone.Task;

    /// <summary>Completes when it was launched, or could not be.</summary>
    public Task Begun => begun.Task;

    /// <summary>How it ended, as a clause; null: it has not.</summary>
    public string? Over { get; private set; }

    /// <summary>Hears of it until it is gone.</summary>
    public async Task Hear(Action fell)
    {
        while (await link.Next() is var (word, body))
        {
            if (word == KeeperWord.Launched)
                begun.TrySetResult();
            if (word is not (KeeperWord.TreeEnded or KeeperWord.NeverLaunched or KeeperWord.MainEnded))
                continue;
            Over ??=
                word == KeeperWord.NeverLaunched
                    ? $"step {(LaunchStep)Message.Number(body, "step")} failed ({Linux.Native.Names.Errno((int)Message.Number(body, "errno"))})"
                    : $"it {OutcomeWords.Of(Remains.Read(body))}{Said()}";
            if (word == KeeperWord.MainEnded)
                link.Send(new Message(KeeperWord.EndTree));
            else
                link.Send(new Message(KeeperWord.Leave));
        }

        Over ??= "its keeper is gone";
        begun.TrySetResult();
        await link.Buried();
        await Remains.End(site, tools.Places, tools.Groups, accounts);
        gone.TrySetResult();
        fell();
    }

    /// <summary>What it said last.</summary>
    private string Said()
    {
        try
        {
            var last = File.ReadLines(site.Output).LastOrDefault(line => line.Trim().Length > 1);
            return last is null ? "" : $" ({Core.Text.Shown.Line(last.Trim())})";
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return "";
        }
    }

    public void End()
    {
        link.Send(new Message(KeeperWord.Signal).With("number", 15).With("to", "tree"));
        link.Send(new Message(KeeperWord.EndTree));
    }
}
