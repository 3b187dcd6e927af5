namespace CalmSentry.Core.Lifecycle;

/// <summary>Something that happened to a service: a person's word, the keeper's news, or time passing.</summary>
public abstract record Happening;

public sealed record StartAsked(string By) : Happening;

public sealed record StopAsked(string By) : Happening;

public sealed record RestartAsked(string By) : Happening;

/// <summary>The service is to be removed; a live run is stopped cleanly first.</summary>
public sealed record UnwrapAsked(string By) : Happening;

/// <summary>The machine came up.</summary>
public sealed record MachineBegan : Happening;

public sealed record Launched(long Run, int Pid) : Happening;

/// <summary>The main process ended and others of its tree are left.</summary>
public sealed record MainEnded(long Run, Outcome Outcome) : Happening;

/// <summary>Of a program that put itself into the background: this process is the program.</summary>
public sealed record MainFound(long Run, int Pid) : Happening;

/// <summary>The run is over: its whole tree has ended, or it never came to run.</summary>
public sealed record RunEnded(long Run, Outcome Outcome) : Happening;

/// <summary>A returning server found this run alive under its keeper.</summary>
public sealed record TakenUp(long Run, int Pid) : Happening;

/// <summary>The situation's <see cref="Situation.WakeAt"/> has come.</summary>
public sealed record TimeCame : Happening;
