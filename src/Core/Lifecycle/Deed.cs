using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Lifecycle;

/// <summary>Something the server is to do. Deeds are carried out in order.</summary>
public abstract record Deed;

public sealed record Launch(RunNumber Run, Cause Cause) : Deed;

/// <summary>Look at its needs until they are all met or nobody waits for them any more.</summary>
public sealed record LookAtNeeds(Cause Cause) : Deed;

/// <summary>Say when the machine has room for it to begin.</summary>
public sealed record AskTurn : Deed;

/// <summary>Look for its proof of readiness until it is there or nobody waits for it any more.</summary>
public sealed record LookForProof(RunNumber Run) : Deed;

/// <param name="Signal">Name without SIG.</param>
public sealed record SendSignal(RunNumber Run, string Signal, bool WholeTree) : Deed;

/// <summary>Take a step of the wind-down that is more than a signal, and say what came of it.</summary>
/// <param name="Index">Its place in the definition.</param>
public sealed record PerformStep(RunNumber Run, int Index) : Deed;

/// <summary>Look at its watches for as long as it runs.</summary>
public sealed record LookAfter(RunNumber Run) : Deed;

/// <summary>Keep what its display shows, and look for what it asks there, for as long as it lives.</summary>
public sealed record LookAtWindow(RunNumber Run) : Deed;

/// <summary>Look for what it asks at its terminal for as long as it lives.</summary>
public sealed record LookForQuestion(RunNumber Run) : Deed;

/// <summary>Give a question its answer, once it is on record that it has it: at most once, and not where it is gone by then.</summary>
/// <param name="Place">As <see cref="Question.Place"/>.</param>
public sealed record GiveAnswer(RunNumber Run, KnownQuestion Known, long Place) : Deed;

/// <summary>Stop the services that need it.</summary>
public sealed record StopDependents : Deed;

public sealed record EndTree(RunNumber Run) : Deed;

/// <summary>
/// What was ordered of its keeper does not come about: unless it answers after all, it is ended, and what is left of the
/// run with it.
/// </summary>
public sealed record GiveUpKeeper(RunNumber Run) : Deed;

/// <summary>The process launched has ended well: find the one it left in the background.</summary>
public sealed record FindMain(RunNumber Run) : Deed;

/// <summary>Run the command that switches it off.</summary>
public sealed record SwitchOff(RunNumber Run) : Deed;

/// <summary>It has failed so often: run a command of its definition (<see cref="Definitions.RecoverPart.Then"/>).</summary>
/// <param name="Failures">As its definition counts them.</param>
public sealed record RunFollowUp(RunNumber Run, int Index, int Failures) : Deed;

/// <summary>Read the files with the days that its rhythm leaves out.</summary>
public sealed record ReadDays : Deed;

/// <summary>Look whether its restart that is due can be done, until it is decided.</summary>
public sealed record WeighRestart(DateTimeOffset Moment) : Deed;

/// <summary>Restart it, in order with others that are due and need it or are needed.</summary>
public sealed record RestartInOrder(DateTimeOffset Moment) : Deed;

/// <summary>No run is to come soon: the keeper may leave.</summary>
public sealed record Dismiss : Deed;

/// <summary>Remove the service: nothing of it lives any more.</summary>
public sealed record Forget : Deed;

/// <summary>An entry for the logbook.</summary>
/// <param name="Tells">Somebody is to hear of it.</param>
public sealed record Note(Entry Entry, Principal? By = null, bool Tells = false) : Deed;
