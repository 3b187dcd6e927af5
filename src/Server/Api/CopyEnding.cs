using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Inspection.Checks;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;

namespace CalmSentry.Server.Api;

/// <summary>Ends copies of a program that run outside the sentry, cleanly and only when somebody says so.</summary>
internal static class CopyEnding
{
    private const int Terminate = 15;

    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    /// <summary>Those that are in the way.</summary>
    public static IReadOnlyList<Copy> Of(Definition definition, SentryStore store, Places places) =>
        [
            .. CopyChecks
                .Find(definition, store, places, ProcessLine.All(), Linux.Sockets.Listening.All)
                .Where(copy => copy.Blocks),
        ];

    /// <returns>Null once none is left, else why not: nothing is ever ended by force here.</returns>
    public static async Task<IResult?> End(
        Definition definition,
        Caller caller,
        Record logbook,
        SentryStore store,
        Places places,
        Clocks clocks
    )
    {
        foreach (var copy in Of(definition, store, places))
        {
            using var process = ProcessHandle.Open(copy.Pid);
            if (process is null || ProcessFacts.Started(copy.Pid) != copy.Since)
                continue; // it has ended, and its number may be another's
            logbook.Note(definition.Name, new CopyEndingEntry(copy.Pid, $"{copy}"), caller.Who);
            process.Signal(Terminate);
            var began = clocks.Time.GetTimestamp();
            while (ProcessFacts.Lives(copy.Pid) && clocks.Time.GetElapsedTime(began) < Patience)
                await Task.Delay(20);
            if (ProcessFacts.Lives(copy.Pid))
            {
                return Problems.Of(
                    422,
                    ProblemCode.CopyStays,
                    "The copy stays",
                    $"The copy outside the sentry (pid {copy.Pid}, as {copy.User}) was asked to end and has not "
                        + $"within 10 s; it was not killed, and nothing was started.",
                    $"Look at what it does, end it yourself ('kill -9 {copy.Pid}' loses what it has not written), "
                        + $"and start again."
                );
            }

            logbook.Note(definition.Name, new CopyEndedEntry(copy.Pid));
        }

        return null;
    }
}
