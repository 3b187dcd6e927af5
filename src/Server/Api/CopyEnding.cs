using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Checks;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;

namespace CalmSentry.Server.Api;

/// <summary>Ends copies of a program that run outside the sentry, cleanly and only when somebody says so.</summary>
internal static class CopyEnding
{
    private const int Terminate = 15,
        GoOn = 18; // SIGCONT

    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10),
        StarterPatience = TimeSpan.FromSeconds(1),
        Beat = TimeSpan.FromMilliseconds(20);

    /// <summary>Those that are in the way.</summary>
    public static IReadOnlyList<Copy> Of(
        Definition definition,
        Askers askers,
        Registry registry,
        SentryStore store,
        Places places
    ) => [.. CopyChecks.Find(definition, Look(registry, store, places), askers.Users).Where(copy => copy.Blocks)];

    private static CopyLook Look(Registry registry, SentryStore store, Places places) =>
        new(ProcessLine.All(), Linux.Sockets.Listening.All, registry.All, store, places);

    /// <returns>Null once none is left, else why not: nothing is ever ended by force here.</returns>
    public static async Task<IResult?> End(
        Definition definition,
        Caller caller,
        Record logbook,
        Registry registry,
        SentryStore store,
        Places places,
        Clocks clocks
    )
    {
        var look = Look(registry, store, places);
        var copies = CopyChecks.Find(definition, look, caller.Askers.Users).Where(copy => copy.Blocks);
        foreach (var copy in copies.ToList())
        {
            // All of it: what is below the topmost need not end with it.
            var tree = look.Below(copy.Pid).Select(pid => (Pid: pid, Began: ProcessFacts.Stat(pid, 22))).ToList();
            if (ProcessFacts.Started(copy.Pid) != copy.Since)
                continue; // it has ended, and its number may be another's
            logbook.Note(definition.Name, new CopyEndingEntry(copy.Pid, $"{copy}"), caller.Who);
            foreach (var one in tree)
            {
                Ask(one.Pid, one.Began);
                if (one.Pid == copy.Pid)
                    await Until(() => !Lives(one), Patience).ConfigureAwait(false);
            }

            await Until(() => !tree.Exists(Lives), Patience).ConfigureAwait(false);
            if (tree.Find(Lives) is { Pid: > 0 } left)
                return Problems.Of(
                    422,
                    ProblemCode.CopyStays,
                    "The copy stays",
                    $"The copy outside the sentry (pid {copy.Pid}, as {copy.User}) was asked to end and has not "
                        + $"within 10 s{(left.Pid == copy.Pid ? "" : $": pid {left.Pid} of it is still there")}; it was not killed, "
                        + $"and nothing was started.",
                    $"Look at what it does, end it yourself ('kill -9 {left.Pid}' loses what it has not written), "
                        + $"and start again."
                );

            logbook.Note(definition.Name, new CopyEndedEntry(copy.Pid));
            if (copy.Starter is { } starter)
            {
                // A script that only waited for it ends with it.
                await Until(() => !starter.Lives, StarterPatience).ConfigureAwait(false);
                if (starter.Lives)
                    return Returns(copy, starter);
            }
        }

        // What begins it again does so at once as a rule: nobody is to be started beside that.
        await clocks.Delay(StarterPatience / 4).ConfigureAwait(false);
        return Of(definition, caller.Askers, registry, store, places) is [{ } again, ..]
            ? Returns(again, again.Starter)
            : null;

        static bool Lives((int Pid, long Began) one) =>
            ProcessFacts.Stat(one.Pid, 22) == one.Began && ProcessFacts.Lives(one.Pid);

        async Task Until(Func<bool> isSo, TimeSpan patience)
        {
            var began = clocks.Time.GetTimestamp();
            while (!isSo() && clocks.Time.GetElapsedTime(began) < patience)
                await clocks.Delay(Beat).ConfigureAwait(false);
        }
    }

    /// <summary>One that somebody has stopped (SIGSTOP) hears nothing before it goes on.</summary>
    private static void Ask(int pid, long began)
    {
        using var process = ProcessHandle.Open(pid);
        if (process is null || ProcessFacts.Stat(pid, 22) != began)
            return;
        process.Signal(Terminate);
        process.Signal(GoOn);
    }

    private static IResult Returns(Copy copy, CopyStarter? starter) =>
        Problems.Of(
            422,
            ProblemCode.CopyStays,
            "The copy comes back",
            starter is null
                ? $"Copies were ended, and another one runs already: {Shown.Line($"{copy}")}. Nothing was started."
                : $"The copy (pid {copy.Pid}, as {copy.User}) was asked to end. The script that started it still runs, and may start it "
                    + $"again: {Shown.Line($"{starter}")}. Nothing was started.",
            starter is null
                ? "Find out what starts it, end that, and start again."
                : $"End that first ('kill {starter.Pid}' asks it to), and start again."
        );
}
