using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Settling;
using CsCheck;

namespace CalmSentry.Tests.Core.Settling;

/// <summary>What brings a machine to files: whatever both are, the steps end there, and their opposites end where it began.</summary>
public class SettlementTests
{
    private static readonly string[] Names = ["bell", "gate", "horn", "lamp"];

    /// <summary>A machine as far as settling goes: of each service its definition, and whether it runs.</summary>
    private sealed record Machine(ImmutableSortedDictionary<string, (Definition Definition, bool Runs)> Services)
    {
        public Machine With(string name, Definition definition, bool runs) =>
            new(Services.SetItem(name, (definition with { Name = name, Title = name }, runs)));

        public bool Same(Machine other) =>
            Services.Keys.SequenceEqual(other.Services.Keys)
            && Services.All(one =>
                one.Value.Runs == other.Services[one.Key].Runs
                && DefinitionChanges.Between(one.Value.Definition, other.Services[one.Key].Definition).Count == 0
            );
    }

    private static Gen<T> One<T>(params T[] all) => Gen.Int[0, all.Length - 1].Select(i => all[i]);

    private static readonly Gen<Definition> Some = Gen.Select(
            One(Names),
            One("/bin/a", "/bin/b"),
            One(BeginAt.Boot, BeginAt.Request),
            One(ProgramKind.Stays, ProgramKind.Detaches)
        )
        .Select(
            (name, path, at, kind) =>
                Definition.Empty with
                {
                    Name = name,
                    Title = name,
                    Program = Definition.Empty.Program with { Path = path, Kind = kind },
                    Begin = Definition.Empty.Begin with { At = at },
                }
        );

    private static readonly Gen<Machine> Machines = Gen.Select(Some, Gen.Bool)
        .Array[0, 4]
        .Select(all =>
            all.Aggregate(
                new Machine(ImmutableSortedDictionary<string, (Definition, bool)>.Empty),
                (machine, one) => machine.With(one.Item1.Name, one.Item1, one.Item2)
            )
        );

    private static readonly Gen<(Definition Definition, string? Was)[]> Files = Gen.Select(
            Some,
            One([(string?)null, null, .. Names])
        )
        .Array[0, 4]
        .Select(all =>
            all.DistinctBy(one => one.Item1.Name).DistinctBy(one => one.Item2 ?? one.Item1.Name + "?").ToArray()
        );

    private static Comparison Of(
        Machine machine,
        (Definition Definition, string? Was)[] files,
        bool takeAway,
        Settlement? latest = null,
        Func<string, string?>? calledHere = null
    ) =>
        Comparison.Of(
            [],
            [
                .. files.Select(one => new FileService(
                    $"{one.Definition.Name}.yaml",
                    one.Definition,
                    one.Was,
                    Key(one.Definition),
                    ""
                )),
            ],
            [
                .. machine.Services.Values.Select(one => new MachineService(
                    one.Definition,
                    1,
                    one.Runs,
                    latest?.Steps.Any(step =>
                        step.Name == one.Definition.Name
                        && step.Deed is SettleDeed.Start or SettleDeed.Restart
                        && step.State != SettleState.Done
                    ) == true
                )),
            ],
            Names,
            takeAway,
            calledHere ?? (_ => null)
        );

    private static readonly Dictionary<string, Definition> Documents = new(StringComparer.Ordinal);

    private static string Key(Definition definition)
    {
        var key = $"{definition.Name} {definition.Program.Path} {definition.Begin.At} {definition.Program.Kind}";
        lock (Documents)
            Documents[key] = definition;
        return key;
    }

    /// <summary>One step on a machine; null: it is refused there.</summary>
    private static Machine? Done(Machine machine, SettleStep step)
    {
        var there = machine.Services.TryGetValue(step.Name, out var one);
        lock (Documents)
            switch (step.Deed)
            {
                case SettleDeed.Wrap:
                    return there ? null : machine.With(step.Name, Documents[step.Document!], runs: false);
                case SettleDeed.Adjust:
                {
                    var now = Documents[step.Document!];
                    return !there || (one.Runs && now.Program.Kind != one.Definition.Program.Kind)
                        ? null
                        : machine.With(step.Name, now, one.Runs);
                }
                case SettleDeed.Rename:
                    return !there || one.Runs || machine.Services.ContainsKey(step.To!)
                        ? null
                        : new Machine(machine.Services.Remove(step.Name)).With(step.To!, one.Definition, runs: false);
                case SettleDeed.Unwrap:
                    return new(machine.Services.Remove(step.Name));
                case SettleDeed.Stop:
                    return there ? machine.With(step.Name, one.Definition, runs: false) : machine;
                case SettleDeed.Start or SettleDeed.Restart:
                    return there ? machine.With(step.Name, one.Definition, runs: true) : null;
                default:
                    return null;
            }
    }

    /// <summary>Carries steps out, with what each finds, up to so many.</summary>
    private static (Machine Machine, Settlement Settlement) Carried(
        Machine machine,
        ImmutableArray<SettleStep> steps,
        int most
    )
    {
        var settlement = new Settlement
        {
            Number = 1,
            By = new("anna"),
            Began = default,
            Steps = steps,
        };
        while (settlement.Turn is >= 0 and var turn && turn < most)
        {
            var step = settlement.Steps[turn];
            var there = machine.Services.TryGetValue(step.Name, out var one);
            step = step with { Before = there ? Key(one.Definition) : null, Ran = there && one.Runs };
            machine = Done(machine, step) ?? throw new InvalidOperationException($"{step.What} is refused");
            settlement = settlement.With(turn, step with { State = SettleState.Done });
        }

        return (machine, settlement);
    }

    [Fact]
    public void Settled_nothing_differs_any_more_and_nothing_is_done_twice() =>
        Gen.Select(Machines, Files, Gen.Bool)
            .Sample(
                (machine, files, takeAway) =>
                {
                    var comparison = Of(machine, files, takeAway);
                    var (after, settlement) = Carried(machine, comparison.Steps, int.MaxValue);
                    var again = Of(after, files, takeAway, settlement);
                    Assert.Empty(again.Differences);
                    Assert.Equal(comparison.Left, again.Left);
                    // Nothing that runs and is named has come to rest by it.
                    Assert.All(
                        machine.Services.Values.Where(one =>
                            one.Runs && after.Services.ContainsKey(one.Definition.Name)
                        ),
                        one => Assert.True(after.Services[one.Definition.Name].Runs)
                    );
                }
            );

    [Fact]
    public void Stopped_anywhere_it_ends_in_the_same_place_and_goes_back_to_where_it_was() =>
        Gen.Select(Machines, Files, Gen.Bool, Gen.Int[0, 12])
            .Sample(
                (machine, files, takeAway, at) =>
                {
                    var steps = Of(machine, files, takeAway).Steps;
                    var (whole, _) = Carried(machine, steps, int.MaxValue);
                    var (part, settlement) = Carried(machine, steps, at);
                    var (back, _) = Carried(part, settlement.Undone(), int.MaxValue);
                    Assert.True(machine.Same(back));
                    // Whoever settles again from where it stopped comes to the same end.
                    var (on, _) = Carried(part, Of(part, files, takeAway, settlement).Steps, int.MaxValue);
                    Assert.Equal(
                        whole.Services.Values.Select(one => one.Definition.Name + one.Definition.Program.Path),
                        on.Services.Values.Select(one => one.Definition.Name + one.Definition.Program.Path)
                    );
                }
            );

    /// <summary>Files of before a rename: a name that its service does not have any more wraps nothing, and takes nothing away.</summary>
    [Fact]
    public void An_old_name_is_no_new_service() =>
        Gen.Select(Some, Gen.Bool)
            .Sample(
                (definition, takeAway) =>
                {
                    var here = Names.First(name => name != definition.Name);
                    var machine = new Machine(ImmutableSortedDictionary<string, (Definition, bool)>.Empty).With(
                        here,
                        definition,
                        runs: true
                    );
                    string? Called(string name) => name == definition.Name ? here : null;
                    var old = Of(machine, [(definition, null)], takeAway, calledHere: Called);
                    Assert.Equal(here, Assert.Single(old.Renamed).CalledHere);
                    Assert.Empty(old.Steps);
                    // With its name of today in the files, or said to be renamed, it is what the files say.
                    Assert.Empty(Of(machine, [(definition, here)], takeAway, calledHere: Called).Renamed);
                    Assert.Empty(
                        Of(
                            machine,
                            [(definition, null), (definition with { Name = here }, null)],
                            takeAway,
                            calledHere: Called
                        ).Renamed
                    );
                }
            );
}
