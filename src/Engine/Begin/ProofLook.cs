using System.Text.RegularExpressions;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Output;
using CalmSentry.Engine.Probing;
using CalmSentry.Engine.Watching;
using CalmSentry.Linux.Files;
using CalmSentry.Store;

namespace CalmSentry.Engine.Begin;

/// <summary>Looks for a run's proof of readiness until it is there, or nobody waits for it any more.</summary>
internal static class ProofLook
{
    private static readonly TimeSpan FirstBeat = TimeSpan.FromMilliseconds(5),
        LongestBeat = TimeSpan.FromMilliseconds(250);

    public static async Task Go(
        IWatched actor,
        RunNumber run,
        SentryStore store,
        RunTools tools,
        Clocks clocks,
        CancellationToken gone
    )
    {
        var definition = actor.Definition;
        var look = LookOf(actor, run, tools, clocks);
        string? last = null;
        var beats = new Backoff(FirstBeat, LongestBeat, grow: 1.3);
        while (!gone.IsCancellationRequested)
        {
            var beat = beats.Next();
            var (missing, seen) = await look(gone).OrWhyNot();
            if (missing is null)
            {
                await actor.Ask(new Proven(run, seen, store.UsualStart(actor.Id)));
                return;
            }

            if (missing != last)
                await actor.Ask(new ProofMissing(run, missing));
            last = missing;
            var told = definition.Begin.Proof is SaidProof ? actor.NextSaid : null;
            await (
                told is null ? clocks.Delay(beat, gone) : Task.WhenAny(told, clocks.Delay(LongestBeat, gone))
            ).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing | ConfigureAwaitOptions.ContinueOnCapturedContext);
        }
    }

    private static Func<CancellationToken, Task<(string? Missing, string Seen)>> LookOf(
        IWatched actor,
        RunNumber run,
        RunTools tools,
        Clocks clocks
    )
    {
        var definition = actor.Definition;
        switch (definition.Begin.Proof)
        {
            case TcpProof or HttpProof or CommandProof:
                return gone => Answers.Of(definition.Begin.Proof, actor, run, tools, null, gone);
            case FileProof file:
                return _ => Task.FromResult(Written(file.Path, actor.Situation.Run?.Began ?? clocks.Now));
            case OutputProof output:
                var wanted = new Regex(output.Expression, RegexOptions.NonBacktracking);
                var lines = new NewLines(
                    tools.Places.OutputDirectoryOf(definition.Name),
                    actor.OutputBegan,
                    definition.Output.Encoding,
                    (_, text) => wanted.IsMatch(text)
                );
                return _ =>
                    Task.FromResult(
                        lines.Next() is [var line, ..]
                            ? (null, $"it printed '{Answers.Shown(line)}'")
                            : ((string?)$"no line of its output matches '{output.Expression}' yet", "")
                    );
            default:
                return _ =>
                    Task.FromResult(
                        actor.SaidServes == run ? (null, "it said so itself") : ((string?)"it has not said so yet", "")
                    );
        }
    }

    private static (string? Missing, string Seen) Written(string path, DateTimeOffset since)
    {
        var file = new FileInfo(path);
        if (!Path.Exists(path))
            return ($"{path} is not there", "");
        return file.LastWriteTimeUtc < since.UtcDateTime - FileFacts.LongestTick
            ? ($"{path} is older than this run", "")
            : (null, $"it has written {path}");
    }
}
