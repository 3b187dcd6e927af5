namespace CalmSentry.Core.Lifecycle;

/// <summary>Something the server is to do. Deeds are carried out in order.</summary>
public abstract record Deed;

public sealed record Launch(long Run, Cause Cause) : Deed;

/// <summary>Look at its needs until they are all met or nobody waits for them any more.</summary>
public sealed record LookAtNeeds(Cause Cause) : Deed;

/// <summary>Say when the machine has room for it to begin.</summary>
public sealed record AskTurn : Deed;

/// <summary>Look for its proof of readiness until it is there or nobody waits for it any more.</summary>
public sealed record LookForProof(long Run) : Deed;

/// <param name="Signal">Name without SIG.</param>
public sealed record SendSignal(long Run, string Signal, bool WholeTree) : Deed;

public sealed record EndTree(long Run) : Deed;

/// <summary>The process launched has ended well: find the one it left in the background.</summary>
public sealed record FindMain(long Run) : Deed;

/// <summary>Run the command that switches it off.</summary>
public sealed record SwitchOff(long Run) : Deed;

/// <summary>No run is to come soon: the keeper may leave.</summary>
public sealed record Dismiss : Deed;

/// <summary>Remove the service: nothing of it lives any more.</summary>
public sealed record Forget : Deed;

/// <summary>An entry for the logbook.</summary>
public sealed record Note(string What, string Text, string? By = null) : Deed;
