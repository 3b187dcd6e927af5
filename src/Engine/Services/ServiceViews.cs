using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Output;
using CalmSentry.Engine.Secrets;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Native;
using CalmSentry.Store;

namespace CalmSentry.Engine.Services;

/// <summary>A service as the API shows it.</summary>
internal static class ServiceViews
{
    public static ServiceView Of(ServiceActor actor)
    {
        var (definition, now) = (actor.Definition, actor.Situation);
        var health = Health.Of(definition, now);
        if (!actor.Known)
            health = new(HealthLevel.Unknown, NotKnown, null);
        var stuck = actor.OutputStuck == 0 ? null : $"its output cannot be written ({Names.Errno(actor.OutputStuck)})";
        var pending = actor.Pending;
        return new ServiceView
        {
            Id = actor.Id.Number,
            Name = definition.Name,
            Title = definition.Title,
            Host = Machine.HostName,
            State = StateOf(now.Phase),
            Health = stuck is null ? health.Level : HealthLevel.Poor,
            HealthWhy = Shown.Line(stuck ?? health.Evidence),
            HealthSince = health.Since,
            Asks = now.Run?.Asks is var (asked, _) ? Shown.Line(asked.Text) : null,
            AsksAt = now.Run?.Asks?.At,
            Attention = Shown.LineOf(Attention.Of(definition, now) ?? stuck),
            Why =
                (actor.Known ? "" : $"{NotKnown}. Last on record: ")
                + Shown.Line(Explanation.Of(definition, now, TimeZoneInfo.Local))
                + (
                    actor.OutputStuck != 0
                        ? $" Its output cannot be written ({Names.Errno(actor.OutputStuck)}): free some space; "
                            + $"nothing is dropped, the program waits."
                        : ""
                )
                + PendingWords(pending)
                + ApartWords(actor),
            Since = now.Since,
            Pending = pending is [] ? null : pending,
            Pid = now.Run?.Pid,
            Run = now.Run?.Number ?? (now.LastRun > 0 ? now.LastRun : null),
            UpSince = now.Run?.Launched,
            Restarts = now.Restarts,
            At = BeginKeys.At.Write(
                definition is { IsJob: true, BeginsWithMachine: true } ? BeginAt.Boot : definition.Begin.At
            ),
            Account = definition.Account,
            Labels = definition.Labels,
            WatchesPausedUntil = now.WatchesPausedUntil,
            Command = LaunchOrder.CommandOf(definition.Program),
            Said = actor.Said,
            QuietUntil = now.Quiet?.Until,
            Busy = actor.BusyWith,
            NextMoment = now.Rhythm?.Next?.Due,
            Awaits = Awaits(definition, now),
            ApartSince = actor.Apart,
            Files = actor.Files?.Directory,
        };
    }

    private const int MostNamed = 3;

    private static string PendingWords(IReadOnlyList<string> keys) =>
        keys switch
        {
            [] => "",
            [var one] => $" Restart pending: {one} takes effect with the next start.",
            _ => $" Restart pending: {string.Join(", ", keys.Take(MostNamed))}"
                + $"{(keys.Count > MostNamed ? $" and {keys.Count - MostNamed} more" : "")} take effect with the next start.",
        };

    private static string ApartWords(ServiceActor actor) =>
        actor.Apart is { } since
            ? $" It differs from its files{(actor.Files?.Directory is { } place ? $" in {Shown.Line(place)}" : "")} since "
                + $"{TimeZoneInfo.ConvertTime(since, TimeZoneInfo.Local):yyyy-MM-dd HH:mm}."
            : "";

    private const string NotKnown = "What became of it while no sentry served is not known yet";

    public static ServiceDetail Detail(ServiceActor actor, RunTools tools, Clocks clocks, Registry registry)
    {
        var view = actor.View;
        using var definition = JsonDocument.Parse(JsonNodes.Write(DefinitionWriter.Write(actor.Definition)));
        return new ServiceDetail
        {
            Id = view.Id,
            Name = view.Name,
            Title = view.Title,
            Host = view.Host,
            State = view.State,
            Health = view.Health,
            HealthWhy = view.HealthWhy,
            HealthSince = view.HealthSince,
            Attention = view.Attention,
            Asks = view.Asks,
            AsksAt = view.AsksAt,
            Why = view.Why,
            Since = view.Since,
            Pid = view.Pid,
            Run = view.Run,
            UpSince = view.UpSince,
            Restarts = view.Restarts,
            At = view.At,
            Account = view.Account,
            Labels = view.Labels,
            WatchesPausedUntil = view.WatchesPausedUntil,
            Command = view.Command,
            RunningCommand =
                actor.LaunchedBy is { } launched
                && LaunchOrder.CommandOf(launched.Program) is var running
                && !running.SequenceEqual(view.Command)
                    ? running
                    : null,
            Pending = view.Pending,
            Said = view.Said,
            QuietUntil = view.QuietUntil,
            Busy = view.Busy,
            NextMoment = view.NextMoment,
            Awaits = view.Awaits,
            ApartSince = view.ApartSince,
            Files = view.Files,
            Needs = [.. actor.Definition.Begin.Needs.Select(need => need.InWords)],
            NeededBy = registry.Graph.DependentsOf(view.Name),
            Proof = ProofOf(actor, tools.Store),
            Watches = Watches(actor),
            UsualStopMs = tools.Store.UsualStop(actor.Id)?.TotalMilliseconds,
            WindDownMs = ServiceLife.LongestStop(actor.Definition).TotalMilliseconds,
            Availability = AvailabilityOf(actor.Id, actor.Definition.IsJob, tools.Store, clocks.Time),
            Revision = actor.Revision,
            Definition = definition.RootElement.Clone(),
            Given = [.. actor.Definition.Given.Order(StringComparer.Ordinal)],
            Directory = LaunchOrder.DirectoryOf(actor.Definition, tools.Places),
            Output = new OutputPlace(tools.Places, view.Name).Elsewhere is { } elsewhere
                ? Path.Combine(elsewhere, Path.GetFileName(tools.Places.OutputOf(view.Name)))
                : tools.Places.OutputOf(view.Name),
            InForce = Enforcement.Of(actor, tools.Groups, tools.Ceilings),
            Secrets = SecretsOf(actor.Definition, tools.Secrets),
            StateDirectory = tools.Places.StateOf(view.Name),
            Runs = Runs(tools, actor.Id, 10),
        };
    }

    /// <summary>A turn as it is kept on record.</summary>
    public static StoredMoment Moment(Definition definition, int revision, Situation now, DateTimeOffset at) =>
        new(at, Words.Of(now.Phase), Words.Of(Health.Of(definition, now).Level), ServiceTimes.Of(now), revision, now);

    private static List<WatchView> Watches(ServiceActor actor)
    {
        var watched = actor.Situation.Run?.Watched ?? [];
        return
        [
            .. actor.Definition.Watch.Select(
                (watch, i) =>
                {
                    var state = i < watched.Length ? watched[i] : new WatchState();
                    var look = actor.Situation.Phase == Phase.Running ? actor.Looks.GetValueOrDefault(i) : null;
                    return new WatchView
                    {
                        What = watch.InWords,
                        Health =
                            state.PoorSince is not null ? HealthLevel.Poor
                            : state.Since is null ? HealthLevel.Unknown
                            : HealthLevel.Good,
                        Seen = look?.Seen ?? state.Seen,
                        LookedAt = look?.At,
                        Since = state.PoorSince ?? state.Since,
                        Bad = state.Bad,
                        Patience = watch.Patience,
                        BeatMs = watch.Beat.TotalMilliseconds,
                        Follows = WatchKeys.Follows.Write(watch.Follows),
                        Implied = watch.Implied,
                    };
                }
            ),
        ];
    }

    private static readonly (string Window, TimeSpan Length)[] Windows =
    [
        ("day", TimeSpan.FromDays(1)),
        ("week", TimeSpan.FromDays(7)),
        ("30-days", TimeSpan.FromDays(30)),
        ("12-months", TimeSpan.FromDays(365)),
    ];

    public static IReadOnlyList<AvailabilityView> AvailabilityOf(
        ServiceId service,
        bool isJob,
        SentryStore store,
        TimeProvider clock
    )
    {
        var now = clock.GetUtcNow();
        var turns = store.Turns(service, now - Windows[^1].Length);
        return
        [
            .. Windows.Select(window =>
            {
                var of = ServiceTimes.Over(turns, now - window.Length, now);
                var (falls, stops) = store.EndsSince(service, now - window.Length);
                return new AvailabilityView(
                    window.Window,
                    of.Share * 100,
                    of.Up.TotalMilliseconds,
                    of.Planned.TotalMilliseconds,
                    of.Fallen.TotalMilliseconds,
                    falls,
                    stops,
                    isJob ? FiguresOf(store.JobSince(service, now - window.Length)) : null
                );
            }),
        ];
    }

    private static JobFiguresView FiguresOf(JobFigures job) =>
        new(job.Done, job.Failed, job.Missed, job.Late, job.Usual?.TotalMilliseconds, job.Longest?.TotalMilliseconds);

    private static List<WaitView>? Awaits(Definition definition, Situation now)
    {
        if (now.Phase != Phase.Waiting)
            return null;
        return now.Awaited switch
        {
            null => [new("its pause to end", null, now.Since, now.WakeAt, "it is restarted")],
            { Step: AwaitStep.Boot } awaited =>
            [
                new("everything that starts at boot", null, awaited.Since, now.WakeAt, "it starts anyway"),
            ],
            { Step: AwaitStep.Turn } awaited => [new("its turn", null, awaited.Since, null, null)],
            var awaited =>
            [
                .. awaited
                    .Needs.Select((state, i) => (state, need: definition.Begin.Needs[i]))
                    .Where(one => one.state.Open)
                    .Select(one => new WaitView(
                        one.need.InWords,
                        one.state.Missing,
                        awaited.Since,
                        one.state.Told ? null : one.state.Limit,
                        Outlook.Follows(one.need)
                    )),
            ],
        };
    }

    public static ProofView ProofOf(ServiceActor actor, SentryStore store)
    {
        var run = actor.Situation.Run;
        return new ProofView
        {
            Awaited = actor.Definition.Begin.Proof.InWords,
            Seen = run?.Proof,
            At = run?.Proven,
            TookMs = run is { Proven: { } proven, Launched: { } launched }
                ? (proven - launched).TotalMilliseconds
                : null,
            UsualMs = store.UsualStart(actor.Id, run?.Number)?.TotalMilliseconds,
        };
    }

    public static IReadOnlyList<RunView> Runs(
        RunTools tools,
        ServiceId service,
        int last,
        DateTimeOffset? before = null
    )
    {
        var pictures = tools.Pictures.Kept(service.ToString());
        return
        [
            .. tools
                .Store.Runs(service, last, before)
                .Select(run => new RunView
                {
                    Version = run.Version,
                    Run = run.Number,
                    Cause = Words.To<Cause>(run.Cause),
                    Began = run.Began,
                    Launched = run.Launched,
                    Ended = run.Ended,
                    Pid = run.Pid,
                    Outcome = run.Outcome?.Kind,
                    Code = run.Outcome?.Code,
                    Words = run.Outcome is { } words ? OutcomeWords.Of(words) : null,
                    PeakKib = run.PeakKib,
                    CpuUs = run.CpuMicroseconds,
                    Proven = run.Proven,
                    Proof = run.Proof,
                    BegunBy = run.BegunBy,
                    EndedBy = run.EndedBy,
                    Bad = run.Bad,
                    Forced = run.Forced,
                    OutputBytes = run.OutputBytes,
                    StopMs = run.Stopping?.TotalMilliseconds,
                    Steps =
                    [
                        .. run.Steps.Select(step => new StepView(
                            step.What,
                            step.At,
                            step.Answer,
                            step.Failed,
                            step.EndedAfter?.TotalMilliseconds
                        )),
                    ],
                    Evidence = run.Evidence is { } left
                        ? new(
                            left.LastLines,
                            left.Memory,
                            left.Cpu,
                            left.SampledAt,
                            left.CoreDump,
                            left.WellRun,
                            left.Changes
                        )
                        : null,
                    PictureAt = pictures.TryGetValue(run.Number, out var taken) ? taken : null,
                }),
        ];
    }

    public static IReadOnlyList<SecretView> SecretsOf(Definition definition, SecretBox secrets)
    {
        var set = secrets.Keys(definition.Name);
        var used = definition.Program.SecretKeys.ToList();
        return [.. used.Union(set).Select(key => new SecretView(key, set.Contains(key), used.Contains(key)))];
    }

    /// <summary>A phase by its own name: every one there is has a state.</summary>
    public static ServiceState StateOf(Phase phase) => Words.To<ServiceState>(Words.Of(phase));
}
