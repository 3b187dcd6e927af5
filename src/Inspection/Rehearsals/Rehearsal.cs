using System.Threading.Channels;
using CalmSentry.Contract.Api;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Output;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Inspection.Rehearsals;

/// <summary>
/// The program run exactly as its service would run it, through the same order to the same keeper, watched, and wound
/// down
/// by the definition's own steps. Nothing is registered; what it printed and where it ran is gone afterwards.
/// </summary>
internal sealed class Rehearsal : IDisposable
{
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(100),
        ForcePatience = TimeSpan.FromSeconds(10);

    private readonly RunTools tools;
    private readonly Record logbook;
    private readonly Clocks clocks;
    private readonly Definition definition;
    private readonly Account account;
    private readonly RunSite site;
    private readonly Channel<RehearsalEvent> events = Channel.CreateUnbounded<RehearsalEvent>(
        new UnboundedChannelOptions { SingleReader = true }
    );
    private readonly CancellationTokenSource ending = new();
    private WindowSigns? shows;
    private readonly Sightings seen;
    private readonly TerminalSigns signs;
    private readonly Tail output,
        error;
    private readonly DateTimeOffset began;
    private int main,
        followed;
    private bool detached,
        launched;
    private Outcome? mainOutcome,
        outcome;
    private long peakKib,
        cpuMicroseconds;
    private int sent;
    private bool stopping;
    private TaskCompletionSource<int>? inputTaken;
    private TimeSpan? stopTook;

    private Rehearsal(RunTools tools, Record logbook, Clocks clocks, Definition definition, Account account, string id)
    {
        (this.tools, this.logbook, this.clocks, this.definition, this.account, Id) = (
            tools,
            logbook,
            clocks,
            definition,
            account,
            id
        );
        var place = Path.Combine(PlaceOfAll(tools), id);
        site = new RunSite(
            $"~{id}",
            new(1),
            place,
            Path.Combine(place, "output", OutputForm.Current),
            Path.Combine(place, "error", OutputForm.Current)
        );
        began = clocks.Now;
        seen = new Sightings(account.Uid, began.UtcDateTime);
        signs = new TerminalSigns(site.Output);
        output = new Tail(site.Output, definition.Output.Encoding);
        error = new Tail(site.ErrorOutput!, definition.Output.Encoding);
    }

    public string Id { get; }

    /// <exception cref="IOException">It cannot be run: its message says why.</exception>
    public static Rehearsal Begin(RunTools tools, Record logbook, Clocks clocks, Definition definition, TimeSpan length)
    {
        var account =
            Account.Named(definition.Account)
            ?? throw new IOException($"this host has no account named {definition.Account}");
        var rehearsal = new Rehearsal(
            tools,
            logbook,
            clocks,
            definition,
            account,
            Convert.ToHexStringLower(System.Security.Cryptography.RandomNumberGenerator.GetBytes(4))
        );
        OwnDirectory.Make(rehearsal.site.Place);
        foreach (var file in (string[])[rehearsal.site.Output, rehearsal.site.ErrorOutput!])
            OwnDirectory.Make(Path.GetDirectoryName(file)!);
        _ = Task.Run(() => rehearsal.Play(length));
        return rehearsal;
    }

    /// <summary>What happens, as it happens; the report is the last.</summary>
    public IAsyncEnumerable<RehearsalEvent> Events(CancellationToken cancellation) =>
        events.Reader.ReadAllAsync(cancellation);

    /// <summary>No longer: wind it down now, and report.</summary>
    public void End() => ending.Cancel();

    public void Dispose() => ending.Dispose();

    private Task EndLooks() => shows?.End() ?? Task.CompletedTask;

    /// <summary>In bytes: a report is one line.</summary>
    private const int LargestPicture = 2 << 20;

    /// <summary>How long it is tried to clear a place: its keeper writes there until it has left.</summary>
    private static readonly TimeSpan ClearPatience = TimeSpan.FromSeconds(20),
        ClearBeat = TimeSpan.FromMilliseconds(50);

    /// <summary>
    /// Ends what a server that was lost in the middle of a rehearsal left behind; nobody waits for it, and it keeps no server
    /// from serving.
    /// </summary>
    public static void Clear(RunTools tools, Record logbook, Clocks clocks)
    {
        if (!Directory.Exists(PlaceOfAll(tools)))
            return;
        foreach (var place in Directory.GetDirectories(PlaceOfAll(tools)))
            _ = clocks.Run(() => Clear(tools, logbook, clocks, place));
    }

    private static async Task Clear(RunTools tools, Record logbook, Clocks clocks, string place)
    {
        var name = $"~{Path.GetFileName(place)}";
        var began = clocks.Time.GetTimestamp();
        while (Directory.Exists(place))
        {
            try
            {
                await Remains
                    .End(new RunSite(name, new(1), place, ""), tools.Places, tools.Groups, tools.Permits.Users())
                    .ConfigureAwait(false);
                tools.SecretFiles.Remove(name);
                tools.Ceilings.Forget(name);
                Directory.Delete(place, recursive: true);
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                if (clocks.Time.GetElapsedTime(began) < ClearPatience)
                {
                    await clocks.Delay(ClearBeat).ConfigureAwait(false);
                    continue;
                }

                logbook.Trouble(
                    $"What a rehearsal left in {place} is not cleared: {error.Message.TrimEnd('.')}. It is tried again at the next start."
                );
                return;
            }
        }
    }

    private static string PlaceOfAll(RunTools tools) => Path.Combine(tools.Places.RunDirectory, "rehearsals");

    private async Task Play(TimeSpan length)
    {
        var state = tools.Places.StateOf(definition.Name);
        var stateIsNew = !Directory.Exists(state);
        KeeperLink? link = null;
        var last = new RehearsalEvent { Kind = "note", Text = "" };
        try
        {
            Ownership.MakeDirectory(state, account);
            link = KeeperLink.Start(tools.Keepers, site.Place);
            Tell(
                new RehearsalEvent
                {
                    Kind = "began",
                    Id = Id,
                    Text = $"{definition.Title} runs as {account.Name} for {Duration.Write(length)}.",
                }
            );
            var (upFor, stop) = await Run(link, length).ConfigureAwait(false);
            var report = Report(upFor, stop);
            if (launched)
                tools.Store.SetRehearsal(
                    definition.Name,
                    clocks.Now,
                    new(
                        report.PeakBytes,
                        [.. report.Ports.Where(port => port.Protocol == "tcp").Select(port => port.Port)]
                    )
                );
            await tools.Store.Flush().ConfigureAwait(false);
            last = new RehearsalEvent { Kind = "report", Report = report };
        }
        catch (Exception error) when (error is IOException or OperationCanceledException)
        {
            last = NotPlayed(error.Message);
        }
        catch (Exception unexpected)
        {
            // Whatever it was, whoever rehearses is told and nothing is left behind.
            last = NotPlayed(Unexpected.InWords(unexpected));
        }
        finally
        {
            if (link is not null)
            {
                link.Send(new Message(KeeperWord.Leave));
                await link.Buried().ConfigureAwait(false);
            }

            await EndLooks().ConfigureAwait(false);
            await tools.Displays.End(site.Name, site.Place, account).ConfigureAwait(false);
            tools.SecretFiles.Remove(site.Name);
            tools.Ceilings.Forget(site.Name);
            Directory.Delete(site.Place, recursive: true);
            if (stateIsNew && Directory.Exists(state) && !Directory.EnumerateFileSystemEntries(state).Any())
                Directory.Delete(state);
            tools.Keepers.ReserveSoon();
            Tell(last); // when it is told, nothing is left
            events.Writer.TryComplete();
        }
    }

    private static RehearsalEvent NotPlayed(string why) =>
        new() { Kind = "note", Text = $"The rehearsal could not be played: {why.TrimEnd('.')}." };

    private async Task<(TimeSpan UpFor, string? Stop)> Run(KeeperLink link, TimeSpan length)
    {
        if (definition.Program.Window is not null)
        {
            await tools
                .Displays.Begin(site.Name, site.Place, site.Run, definition.Program, account, _ => { })
                .ConfigureAwait(false);
            if (tools.Displays.Of(site.Name) is { } display)
            {
                shows = new(
                    display,
                    () => tools.Displays.KeyOf(site.Name),
                    title =>
                        Tell(
                            new RehearsalEvent
                            {
                                Kind = "note",
                                Text = $"It probably {Asked.InWords(title, AskedAt.Window)}; nobody answers.",
                            }
                        )
                );
                shows.Begin();
            }
        }

        link.Send(LaunchOrder.Of(definition, site, account, tools));
        var news = link.Next();
        var since = clocks.Forward;
        var until = since + length;
        var ends = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        await using var ended = ending.Token.Register(() => ends.TrySetResult()).ConfigureAwait(false);
        while (outcome is null && clocks.Forward < until && !ending.IsCancellationRequested)
        {
            await Task.WhenAny(news, Task.Delay(Beat), ends.Task).ConfigureAwait(false);
            while (news.IsCompleted && outcome is null)
                news = await Hear(link, news).ConfigureAwait(false);
            if (
                detached
                && main == 0
                && DetachedMain.Of(definition.Program.PidFile, ProcessFacts.Parent, link.Pid).Pid is { } found
            )
                link.Send(new Message(KeeperWord.Follow).With("pid", found));
            Look(link);
        }

        var upFor = clocks.Forward - since;
        if (outcome is not null)
        {
            if (definition.Program.Kind != ProgramKind.Toggles || !outcome.IsGood)
                return (upFor, null);
            var on = outcome;
            outcome = null;
            link.Send(LaunchOrder.Of(definition, site with { Run = new(2) }, account, tools, switchOff: true));
            await Until(link, news, ServiceLife.SwitchPatience).ConfigureAwait(false);
            (outcome, var off) = (on, outcome);
            return (
                upFor,
                off is null
                    ? "Its stop command did not end within a minute."
                    : $"Its stop command {OutcomeWords.Of(off)}."
            );
        }

        signs.Stopping();
        await EndLooks().ConfigureAwait(false);
        TellQuestion(link.Pid);
        return (upFor, await WindDown(link, news).ConfigureAwait(false));
    }

    /// <summary>What it asks at its terminal as it is asked to end, where it waits there.</summary>
    private void TellQuestion(int keeper)
    {
        if (
            main > 0
            && TerminalWait.HeldBy(keeper) is { } terminal
            && TerminalWait.Is(main, terminal)
            && OpenLine.At(Path.GetDirectoryName(site.Output)!, definition.Output.Encoding, 0) is { } line
        )
            Tell(
                new RehearsalEvent
                {
                    Kind = "note",
                    Text = $"It probably {Asked.InWords(line.Text, AskedAt.Terminal)}; nobody answered.",
                }
            );
    }

    private async Task<string> WindDown(KeeperLink link, Task<(KeeperWord, byte[])?> news)
    {
        var asked = clocks.Forward;
        foreach (var step in definition.WindDown)
        {
            Tell(
                new RehearsalEvent { Kind = "note", Text = $"{char.ToUpperInvariant(step.Taken[0])}{step.Taken[1..]}." }
            );
            stopping = true;
            var taken = clocks.Forward;
            news = await Take(step, link, news).ConfigureAwait(false);
            if (outcome is not null)
            {
                stopTook = clocks.Forward - asked;
                return $"It {OutcomeWords.Of(mainOutcome ?? outcome)} {Length.Tenths(clocks.Forward - taken)} after "
                    + $"{step.Taken}{(step == definition.WindDown[0] ? "" : $", {Length.Tenths(stopTook.Value)} after the first step")}; "
                    + $"nothing of it was left.";
            }
        }

        link.Send(new Message(KeeperWord.EndTree));
        await Until(link, news, ForcePatience).ConfigureAwait(false);
        return $"It had not ended {Length.Tenths(clocks.Forward - asked)} after "
            + $"{(definition.WindDown.IsEmpty ? "it was asked" : string.Join(", ", definition.WindDown.Select(step => step.Taken)))} "
            + $"and was killed: as a service it would lose what it has not written by then.";
    }

    private async Task<Task<(KeeperWord, byte[])?>> Take(
        WindDownStep step,
        KeeperLink link,
        Task<(KeeperWord, byte[])?> news
    )
    {
        if (step is SignalStep signal)
        {
            sent = SignalNames.Numbers[signal.Signal];
            link.Send(
                new Message(KeeperWord.Signal)
                    .With("number", sent)
                    .With("to", main == 0 || signal.WholeTree ? "tree" : "main")
            );
            return await Until(link, news, step.Wait).ConfigureAwait(false);
        }

        sent = 0;
        using var over = new CancellationTokenSource();
        var effect = new StepTaker(
            definition,
            tools,
            site,
            main == 0 ? null : main,
            (order, gone) =>
            {
                inputTaken = new(TaskCreationOptions.RunContinuationsAsynchronously);
                link.Send(order);
                return inputTaken.Task.WaitAsync(gone);
            }
        ).Take(step, over.Token);
        news = await Until(
                link,
                news,
                step.Wait,
                () => effect is { IsCompletedSuccessfully: true, Result: { Failed: true } }
            )
            .ConfigureAwait(false);
        await over.CancelAsync().ConfigureAwait(false);
        if (await effect.ConfigureAwait(false) is { } came)
            Tell(new RehearsalEvent { Kind = "note", Text = $"{step.What}: {came.Answer}." });
        return news;
    }

    private async Task<Task<(KeeperWord, byte[])?>> Until(
        KeeperLink link,
        Task<(KeeperWord, byte[])?> news,
        TimeSpan patience,
        Func<bool>? inVain = null
    )
    {
        var limit = clocks.Forward + patience;
        while (outcome is null && clocks.Forward < limit && inVain?.Invoke() != true)
        {
            await Task.WhenAny(news, Task.Delay(Beat)).ConfigureAwait(false);
            while (news.IsCompleted && outcome is null)
                news = await Hear(link, news).ConfigureAwait(false);
            Look(link);
        }

        return news;
    }

    private async Task<Task<(KeeperWord, byte[])?>> Hear(KeeperLink link, Task<(KeeperWord, byte[])?> news)
    {
        if (await news.ConfigureAwait(false) is not var (word, body))
        {
            outcome ??= new(OutcomeKind.KeeperLost);
            return news;
        }

        switch (word)
        {
            case KeeperWord.Launched:
                (launched, main) = (true, (int)Message.Number(body, "pid"));
                break;
            case KeeperWord.Followed:
                main = followed = (int)Message.Number(body, "pid");
                Tell(
                    new RehearsalEvent
                    {
                        Kind = "note",
                        Text = $"It has put itself into the background: pid {main} is the program.",
                    }
                );
                break;
            case KeeperWord.MainEnded:
                mainOutcome = Remains.Read(body);
                detached |= mainOutcome.IsGood && !stopping;
                main = 0;
                // As a service's stop: a wrapper script that ends at once leaves its program behind, and the wish is
                // passed on.
                if (sent != 0)
                    link.Send(new Message(KeeperWord.Signal).With("number", sent).With("to", "tree"));
                break;
            case KeeperWord.InputTaken:
                inputTaken?.TrySetResult((int)Message.Number(body, "errno"));
                break;
            case KeeperWord.TreeEnded:
                outcome = Remains.Read(body);
                peakKib = Math.Max(peakKib, Message.Number(body, "peak-kib"));
                cpuMicroseconds += Message.Number(body, "cpu-us");
                break;
            case KeeperWord.NeverLaunched:
                outcome = new(
                    OutcomeKind.NeverLaunched,
                    Detail: LaunchWords.Of(
                        (LaunchStep)Message.Number(body, "step"),
                        (int)Message.Number(body, "errno"),
                        definition,
                        LaunchOrder.DirectoryOf(definition, tools.Places),
                        site.Output
                    )
                );
                break;
        }

        return link.Next();
    }

    private void Look(KeeperLink link)
    {
        seen.Look(ProcessFacts.Tree(link.Pid).Skip(1).ToList(), [site.Output, site.ErrorOutput!]);
        signs.Look();
        TellLines(outcome is not null);
    }

    private void TellLines(bool all)
    {
        foreach (var line in output.More(all))
        {
            signs.Line(line, stopping);
            Tell(new RehearsalEvent { Kind = "output", Text = line });
        }

        foreach (var line in error.More(all))
        {
            signs.Line(line, stopping: false);
            Tell(new RehearsalEvent { Kind = "error", Text = line });
        }
    }

    private RehearsalReport Report(TimeSpan upFor, string? stop)
    {
        TellLines(all: true);
        var places = tools.Places;
        var directory = LaunchOrder.DirectoryOf(definition, places);
        var home = account.Home is "/" or "/root" or "/nonexistent" ? directory : account.Home;
        var files = seen.Files(
            [
                directory,
                Path.GetDirectoryName(definition.Program.Path)!,
                places.StateOf(definition.Name),
                home,
                "/tmp",
                "/var/tmp",
                "/var/log",
                "/run",
            ],
            path => path.StartsWith(places.RunDirectory + "/", StringComparison.Ordinal)
        );
        var stayed = stop is not null;
        var end = mainOutcome is { IsGood: false } ? mainOutcome : outcome ?? new(OutcomeKind.KeeperLost);
        var said = (stayed, definition.Program.Kind, launched) switch
        {
            (_, _, false) => $"It was never launched: {end.Detail}.",
            (true, ProgramKind.Toggles, _) => "Its start command succeeded.",
            (true, _, _) => $"It stayed up for {Length.Tenths(upFor)}, until it was asked to end.",
            _ => $"It did not stay up: it {OutcomeWords.Of(end)} after {Length.Tenths(upFor)}.",
        };
        var report = new RehearsalReport
        {
            StayedUp = stayed,
            Said = said,
            UpMs = (long)upFor.TotalMilliseconds,
            Detached = detached,
            Errors = error.Last,
            Ports =
            [
                .. seen.Ports.Select(port => new PortView(
                    port.Protocol,
                    port.Address.ToString(),
                    port.Port,
                    Reach(port.Address)
                )),
            ],
            Files = files,
            PeakBytes = Math.Max(
                seen.PeakBytes,
                Math.Max(
                    peakKib * 1024,
                    tools.Ceilings.PeakMemory(site.Name, site.Group(tools.Groups)) is { } counted
                    && definition.Resources.Memory is not null
                        ? counted
                        : 0
                )
            ),
            CpuUs = cpuMicroseconds,
            Children = Math.Max(0, seen.MostProcesses - 1),
            Stop = stop,
            Dialogs = shows?.Dialogs ?? [],
            Picture = shows?.Picture is { Length: <= LargestPicture } picture ? picture : null,
            Proposals = [],
            File = "",
            Surroundings = new SurroundingsView
            {
                Account = account.Name,
                Groups = [.. LaunchOrder.GroupsOf(definition, account).Select(AccountGroup.NameOf)],
                Directory = directory,
                Umask = IdentityKeys.Umask.Write(definition.Identity.Umask),
                Environment = LaunchOrder.EnvironmentOf(definition, account, site.Name, places),
            },
        };
        return Proposals.Add(report, definition, stopTook, followed, end, signs);
    }

    private static string Reach(System.Net.IPAddress address) =>
        System.Net.IPAddress.IsLoopback(address) ? "this host"
        : address.Equals(System.Net.IPAddress.Any) || address.Equals(System.Net.IPAddress.IPv6Any) ? "every network"
        : "one address";

    private void Tell(RehearsalEvent what) => events.Writer.TryWrite(what);

    /// <summary>Whole lines of a growing file, as they come.</summary>
    private sealed class Tail(string file, string encoding)
    {
        private readonly NewLines lines = new(Path.GetDirectoryName(file)!, 0, encoding);

        private const int Kept = 10;

        public List<string> Last { get; } = [];

        public List<string> More(bool all)
        {
            var more = lines.Next();
            if (all)
                more.AddRange(lines.Rest());
            Last.AddRange(more.TakeLast(Kept));
            if (Last.Count > Kept)
                Last.RemoveRange(0, Last.Count - Kept);
            return more;
        }
    }
}
