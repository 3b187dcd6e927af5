using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Wording;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Native;
using CalmSentry.Server.Definitions;
using CalmSentry.Server.Keepers;
using CalmSentry.Store;

namespace CalmSentry.Server.Services;

/// <summary>A service as the API shows it.</summary>
internal static class ServiceViews
{
    public static ServiceView Of(ServiceActor actor)
    {
        var (definition, now) = (actor.Definition, actor.Situation);
        return new ServiceView
        {
            Name = definition.Name,
            Title = definition.Title,
            Host = Machine.HostName,
            State = StateOf(now.Phase),
            Health = actor.OutputStuck != 0 || now.Awaited is { Overdue: true } || now.Run is { Overdue: true } ? "poor" : now is { Phase: Phase.Running, Run.Switch: not Switch.On } ? "good" : "unknown",
            Why = Explanation.Of(definition, now, TimeZoneInfo.Local)
                + (actor.OutputStuck != 0 ? $" Its output cannot be written ({Names.Errno(actor.OutputStuck)}): free some space; nothing is dropped, the program waits." : ""),
            Since = now.Since,
            Pid = now.Run?.Pid,
            Run = now.Run?.Number ?? (now.LastRun > 0 ? now.LastRun : null),
            UpSince = now.Run?.Launched,
            Restarts = now.Restarts,
            At = DefinitionWriter.Of(definition.Begin.At),
            Account = definition.Account,
            Command = LaunchOrder.CommandOf(definition.Program),
            Said = actor.Said.Text,
            WaitsFor = WaitsFor(definition, now),
        };
    }

    public static ServiceDetail Detail(ServiceActor actor, House house, Registry registry)
    {
        var view = actor.View;
        using var definition = JsonDocument.Parse(JsonNodes.Write(DefinitionWriter.Write(actor.Definition)));
        return new ServiceDetail
        {
            Name = view.Name,
            Title = view.Title,
            Host = view.Host,
            State = view.State,
            Health = view.Health,
            Why = view.Why,
            Since = view.Since,
            Pid = view.Pid,
            Run = view.Run,
            UpSince = view.UpSince,
            Restarts = view.Restarts,
            At = view.At,
            Account = view.Account,
            Command = view.Command,
            Said = view.Said,
            WaitsFor = view.WaitsFor,
            Needs = [.. actor.Definition.Begin.Needs.Select(need => need.InWords)],
            NeededBy = registry.Graph.DependentsOf(view.Name),
            Proof = ProofOf(actor, house),
            Revision = actor.Revision,
            Definition = definition.RootElement.Clone(),
            Given = [.. actor.Definition.Given.Order(StringComparer.Ordinal)],
            Directory = LaunchOrder.DirectoryOf(actor.Definition, house.Places),
            Output = house.Places.OutputOf(view.Name),
            InForce = Enforcement.Of(actor, house),
            Secrets = SecretsOf(actor.Definition, house),
            StateDirectory = house.Places.StateOf(view.Name),
            Runs = Runs(house, view.Name, 10),
        };
    }

    private static List<WaitView>? WaitsFor(Definition definition, Situation now)
    {
        if (now.Phase != Phase.Waiting) return null;
        return now.Awaited switch
        {
            null => [new("its pause to end", null, now.Since, now.WakeAt, "it is tried again")],
            { Step: AwaitStep.Boot } awaited => [new("all that begins with the machine", null, awaited.Since, now.WakeAt, "it begins all the same")],
            { Step: AwaitStep.Turn } awaited => [new("its turn", null, awaited.Since, null, null)],
            var awaited =>
            [
                .. awaited.Needs.Select((state, i) => (state, need: definition.Begin.Needs[i])).Where(one => one.state.Open).Select(one => new WaitView(
                    one.need.InWords, one.state.Missing, awaited.Since, one.state.Told ? null : one.state.Limit, one.need.Then switch
                    {
                        NeedThen.GoAhead => "it goes ahead without",
                        NeedThen.Hold => "it is put on hold",
                        _ => "it is said, and it waits on",
                    })),
            ],
        };
    }

    public static ProofView ProofOf(ServiceActor actor, House house)
    {
        var run = actor.Situation.Run;
        return new ProofView
        {
            Awaited = actor.Definition.Begin.Proof.InWords,
            Seen = run?.Proof,
            At = run?.Proven,
            TookMs = run is { Proven: { } proven, Launched: { } launched } ? (proven - launched).TotalMilliseconds : null,
            UsualMs = house.Store.UsualStart(actor.Definition.Name)?.TotalMilliseconds,
        };
    }

    public static IReadOnlyList<RunView> Runs(House house, string name, int last) =>
    [
        .. house.Store.Runs(name, last).Select(run => new RunView
        {
            Run = run.Number,
            Cause = run.Cause,
            Began = run.Began,
            Launched = run.Launched,
            Ended = run.Ended,
            Pid = run.Pid,
            Outcome = run.Outcome is { } outcome ? Words.Of(outcome.Kind) : null,
            Code = run.Outcome?.Code,
            Words = run.Outcome is { } words ? OutcomeWords.Of(words) : null,
            PeakKib = run.PeakKib,
            CpuUs = run.CpuMicroseconds,
            Proven = run.Proven,
            Proof = run.Proof,
        }),
    ];

    public static IReadOnlyList<SecretView> SecretsOf(Definition definition, House house)
    {
        var set = house.Secrets.Keys(definition.Name);
        var used = definition.Program.Secrets.Select(secret => secret.Key).ToList();
        return [.. used.Union(set).Select(key => new SecretView(key, set.Contains(key), used.Contains(key)))];
    }

    public static string StateOf(Phase phase) => phase switch
    {
        Phase.Stopped => "stopped",
        Phase.Waiting => "waiting",
        Phase.Starting => "starting",
        Phase.Running => "running",
        Phase.Stopping => "stopping",
        Phase.Resting => "resting",
        _ => "held",
    };
}
