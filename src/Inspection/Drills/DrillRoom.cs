using System.Threading.Channels;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Events;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Plans;
using CalmSentry.Engine.Services;
using CalmSentry.Store;

namespace CalmSentry.Inspection.Drills;

/// <summary>Of which services a drill is.</summary>
/// <param name="Names">With all they need; none: of all there are.</param>
/// <param name="Without">These go on meanwhile, and with them all they need.</param>
internal sealed record DrilledSet(IReadOnlyCollection<string> Names, IReadOnlyCollection<string> Without);

/// <summary>Boots and drills: one at a time, each with a report that is kept.</summary>
internal sealed class DrillRoom : IDisposable
{
    private readonly SentryStore store;
    private readonly Record logbook;
    private readonly EventHub events;
    private readonly Clocks clocks;
    private readonly Registry registry;
    private readonly PlanRoom plans;

    private static readonly TimeSpan LongestBegin = TimeSpan.FromMinutes(10);

    private readonly SemaphoreSlim one = new(1);
    private Beginning? current;

    public DrillRoom(
        SentryStore store,
        Record logbook,
        EventHub events,
        Clocks clocks,
        Registry registry,
        PlanRoom plans
    )
    {
        (this.store, this.logbook, this.events, this.clocks, this.registry) = (
            store,
            logbook,
            events,
            clocks,
            registry
        );
        this.plans = plans;
        plans.Settle = Settle;
    }

    /// <summary>The report of what goes on now, or null.</summary>
    public StartReport? Now => current?.Report(done: false);

    public StartReport? Latest(ReportKind? kind) => store.Report(kind);

    /// <summary>After the sentry's start: follows what begins with the machine.</summary>
    public void FollowBoot(ReportKind kind) =>
        _ = plans.Begin(
            new()
            {
                Kind = kind == ReportKind.Boot ? PlanKind.Boot : PlanKind.Start,
                By = Principal.Drill,
                Began = clocks.Now,
                BegunAt = clocks.Now,
                Step = PlanStep.Settling,
                Begins =
                [
                    .. registry.All.Select(actor => new PlanBegin(
                        actor.Definition.Name,
                        Asked: true,
                        actor.Situation.LastRun
                    )),
                ],
            }
        );

    /// <summary>Waits until all that a boot or drill has begun has come to rest, and keeps the report of it.</summary>
    private async Task Settle(Plan plan, Action<string>? say)
    {
        var asked = playing is { } played && played.Began == plan.Began ? played : null;
        // One of a server before, or a boot: nobody holds the room for it yet.
        if (asked is null)
            await one.WaitAsync().ConfigureAwait(false);
        try
        {
            var kind = plan.Kind switch
            {
                PlanKind.Boot => ReportKind.Boot,
                PlanKind.Start => ReportKind.Start,
                _ => ReportKind.Drill,
            };
            var beginning = new Beginning(
                kind,
                plan.Begins,
                plan.BegunAt ?? plan.Began,
                asked?.Before ?? BeforeThen(),
                kind == ReportKind.Drill ? plan.By : null,
                store,
                clocks,
                registry
            )
            {
                Stops = PlanRoom.StopsOf(plan),
            };
            var report = await Follow(beginning, say is null ? null : text => say(text.TrimEnd('.')))
                .ConfigureAwait(false);
            foreach (var name in plan.Afterwards.Where(name => registry.Named(name)?.Situation.Phase == Phase.Stopped))
                say?.Invoke($"{name} ran before and is started again; a reboot would not have done that");
            asked?.Report.TrySetResult(report);
        }
        finally
        {
            registry.DrillBegan = null;
            if (asked is null)
                one.Release();
        }
    }

    /// <summary>How services were when the report before was made.</summary>
    private Dictionary<string, Before> BeforeThen() =>
        Latest(null)
            ?.Services.ToDictionary(
                view => view.Name,
                view => new Before(null, view.Account, view.Ports, view.Pid is not null),
                StringComparer.Ordinal
            )
        ?? [];

    /// <summary>The drill that somebody plays and listens to.</summary>
    private sealed record Playing(Dictionary<string, Before> Before)
    {
        /// <summary>Which plan it is: no two are begun in one moment, for one is played at a time.</summary>
        public DateTimeOffset Began { get; set; }

        public TaskCompletionSource<StartReport> Report { get; } =
            new(TaskCreationOptions.RunContinuationsAsynchronously);
    }

    private volatile Playing? playing;

    private static string Said(
        int stops,
        int begins,
        TimeSpan total,
        int unknown,
        List<string> notBack,
        IReadOnlyCollection<string> spared
    ) =>
        $"{Count(stops)} would be interrupted and {Count(begins)} started"
        + (
            total > TimeSpan.Zero
                ? $", in about {total.TotalSeconds.ToString("0.0", System.Globalization.CultureInfo.InvariantCulture)} "
                    + $"s by what was usual"
                : ""
        )
        + (
            unknown > 0
                ? $"; {unknown} of them {(unknown == 1 ? "has" : "have")} never been ready yet, so how "
                    + $"long they take is not known."
                : "."
        )
        + (
            notBack.Count == 0
                ? ""
                : $" A boot would not bring back: {string.Join(", ", notBack)}; the drill starts them "
                    + $"again at its end."
        )
        + (
            spared.Count == 0
                ? ""
                : $" Left as they are, with what they need: {string.Join(", ", spared.Order(StringComparer.Ordinal))}."
        );

    public DrillPlan Plan(DrilledSet named)
    {
        var (stop, begin) = Sets(named);
        var spared = registry.Graph.WithNeeds(named.Without);
        var graph = registry.Graph;
        var order = graph.BeginOrder;
        TimeSpan Start(string name) => store.UsualStart(registry.Named(name)!.Id) ?? TimeSpan.Zero;
        var wanted = order
            .Where(name =>
                begin.Contains(name) && registry.Named(name)!.Definition.Begin.At is BeginAt.Boot or BeginAt.BootLate
            )
            .ToHashSet(StringComparer.Ordinal);
        var begun = order.Where(graph.WithNeeds(wanted).Except(spared).Contains).ToList();
        var alone = graph.Expected(name => begun.Contains(name) ? Start(name) : TimeSpan.Zero);
        // What begins late begins when the rest is proven.
        var boot = begun
            .Where(name => registry.Named(name)!.Definition.Begin.At != BeginAt.BootLate)
            .Select(name => alone[name])
            .Append(TimeSpan.Zero)
            .Max();
        var expected = begun.ToDictionary(
            name => name,
            name => registry.Named(name)!.Definition.Begin.At == BeginAt.BootLate ? boot + alone[name] : alone[name],
            StringComparer.Ordinal
        );
        TimeSpan Stop(string name) =>
            stop.Contains(name) ? store.UsualStop(registry.Named(name)!.Id) ?? TimeSpan.Zero : TimeSpan.Zero;
        var stopping = graph.ExpectedStop(Stop);
        var notBack = stop.Where(name => !begun.Contains(name)).Order(StringComparer.Ordinal).ToList();
        var total =
            stop.Select(name => stopping[name]).Append(TimeSpan.Zero).Max()
            + begun.Select(name => expected[name]).Append(TimeSpan.Zero).Max();
        var unknown = begun.Count(name => store.UsualStart(registry.Named(name)!.Id) is null);
        return new DrillPlan
        {
            Stops =
            [
                .. order
                    .Reverse()
                    .Where(stop.Contains)
                    .OrderBy(name => stopping[name] - Stop(name)) // dependents first among those that begin to stop together
                    .Select(name => registry.Named(name)!)
                    .Select(actor => new PlannedStop(
                        actor.Definition.Name,
                        actor.Situation.Run?.Launched is { } launched
                            ? (clocks.Now - launched).TotalMilliseconds
                            : null,
                        store.UsualStop(actor.Id)?.TotalMilliseconds,
                        ServiceLife.LongestStop(actor.Definition).TotalMilliseconds
                    )),
            ],
            Begins =
            [
                .. begun
                    .OrderBy(name => expected[name])
                    .Select(name => registry.Named(name)!.Definition)
                    .Select(definition => new PlannedBegin(
                        definition.Name,
                        BeginKeys.At.Write(definition.Begin.At),
                        [.. definition.Begin.Needs.Select(need => need.InWords)],
                        definition.Begin.Proof.InWords,
                        store.UsualStart(registry.Named(definition.Name)!.Id)?.TotalMilliseconds,
                        expected[definition.Name].TotalMilliseconds
                    )),
            ],
            NotBack = notBack,
            ExpectedMs = total.TotalMilliseconds,
            Said = Said(stop.Count, begun.Count, total, unknown, notBack, [.. spared]),
        };
    }

    /// <summary>
    /// Plays a drill. Goes on to its end whether or not somebody still listens. Null while another one goes on.
    /// </summary>
    public ChannelReader<DrillEvent>? Play(DrilledSet named, Principal by)
    {
        if (!one.Wait(0))
            return null;
        var channel = Channel.CreateUnbounded<DrillEvent>();
        _ = Task.Run(async () =>
        {
            try
            {
                void Say(string text) => channel.Writer.TryWrite(new(text, null));
                var report = await Play(named, by, Say).ConfigureAwait(false);
                channel.Writer.TryWrite(new(null, ReportViews.Of(report)));
            }
            catch (BusyException busy)
            {
                // Somebody else was first, in the moment since it was asked: the answer has no report.
                channel.Writer.TryWrite(
                    new($"{busy.Service} is in somebody else's hand: {busy.With.What}. Nothing was stopped.", null)
                );
            }
            catch (Exception unexpected)
            {
                logbook.Failed("a drill, which was broken off", unexpected);
            }
            finally
            {
                registry.DrillBegan = null;
                current = null;
                playing = null;
                one.Release();
                channel.Writer.TryComplete();
            }
        });
        return channel.Reader;
    }

    private async Task<StartReport> Play(DrilledSet named, Principal by, Action<string> say)
    {
        var (stop, begin) = Sets(named);
        var ports = new OpenPorts();
        var now = playing = new(
            begin
                .Select(name => registry.Named(name)!)
                .ToDictionary(actor => actor.Definition.Name, actor => Before.Of(actor, ports), StringComparer.Ordinal)
        );
        logbook.Note(new DrillEntry(stop.Count), by);
        say($"Stopping {Count(stop.Count)}, dependents first.");
        var plan = plans.Of(PlanKind.Drill, stop, by);
        now.Began = plan.Began;
        await plans
            .Begin(
                plan with
                {
                    Begins = [.. registry.Graph.BeginOrder.Where(begin.Contains).Select(name => new PlanBegin(name))],
                    Afterwards =
                    [
                        .. stop.Where(name => registry.Named(name)?.Definition.Begin.At == BeginAt.Request)
                            .Order(StringComparer.Ordinal),
                    ],
                },
                text => say($"{text}.")
            )
            .ConfigureAwait(false);
        return now.Report.Task.IsCompleted
            ? await now.Report.Task.ConfigureAwait(false)
            : throw new InvalidOperationException("it did not come to its report");
    }

    public void Dispose() => one.Dispose();

    private async Task<StartReport> Follow(Beginning beginning, Action<string>? say)
    {
        current = beginning;
        await beginning.Settle(LongestBegin, say).ConfigureAwait(false);
        var report = beginning.Report(done: true);
        current = null;
        store.SetReport(report);
        logbook.Note(
            report.Kind switch
            {
                ReportKind.Boot => new BootEntry(ReportWords.Of(report)),
                ReportKind.Drill => new DrillEntry(Said: ReportWords.Of(report)),
                _ => new StartEntry(ReportWords.Of(report)),
            },
            report.By
        );
        await store.Flush().ConfigureAwait(false);
        events.Began(Words.Of(report.Kind));
        return report;
    }

    /// <summary>
    /// What is stopped: of all or of those named with what they need, whatever is live, and whatever needs it. What is
    /// begun: these, and all that was named.
    /// </summary>
    /// <summary>All that a drill would stop or start.</summary>
    public IReadOnlyCollection<string> Concerned(DrilledSet named)
    {
        var (stop, begin) = Sets(named);
        return [.. stop.Union(begin)];
    }

    private (IReadOnlySet<string> Stop, IReadOnlySet<string> Begin) Sets(DrilledSet named)
    {
        var graph = registry.Graph;
        // What is left as it is needs what it needs: no other of those can then be stopped.
        var chosen = (
            named.Names.Count == 0 ? registry.All.Select(actor => actor.Definition.Name) : graph.WithNeeds(named.Names)
        )
            .Except(graph.WithNeeds(named.Without))
            .ToHashSet(StringComparer.Ordinal);
        var stop = graph
            .WithDependents(chosen)
            .Where(name =>
                registry.Named(name)?.Situation is { } now && (now.Run is not null || now.Phase == Phase.Waiting)
            )
            .ToHashSet(StringComparer.Ordinal);
        return (
            stop,
            stop.Union(chosen).Where(name => registry.Named(name) is not null).ToHashSet(StringComparer.Ordinal)
        );
    }

    private static string Count(int number) => number == 1 ? "1 service" : $"{number} services";
}
