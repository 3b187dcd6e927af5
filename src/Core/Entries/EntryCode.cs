namespace CalmSentry.Core.Entries;

/// <summary>Every kind of entry there is in the logbook. The words for programs are these names with dashes.</summary>
public enum EntryCode
{
    /// <summary>Of an earlier version, which kept a sentence and no fields.</summary>
    Other,

    // What somebody asked for

    Wrapped,
    Adjusted,
    Renamed,
    Accepted,
    StartAsked,
    StartRefused,
    StopAsked,
    RestartAsked,
    Released,
    ForceAsked,
    UnwrapAsked,
    Unwrapped,
    Rehearsed,
    CopyEnding,
    CopyEnded,

    // What the machine did

    BootBegan,
    BootHeldBack,
    DrillBegan,
    BootNotSettled,
    Lost,
    NumbersPassedOver,

    // On the way to running

    NeedMissing,
    NeedPassedOver,
    Launched,
    NeverLaunched,
    TakenUp,
    Detached,
    NotDetached,
    SwitchedOn,
    Proven,
    NotProven,
    Recovered,

    // While it runs

    Unwell,
    WellAgain,
    NeededLost,
    NeededBack,
    OutputStuck,
    OutputFlows,
    OutputLost,
    OutputDropped,
    OutputLetGo,
    OutputUnkept,
    ReopenFailed,
    SaysTooOften,

    /// <summary>The program itself put it there, or one below it.</summary>
    Noted,

    WatchesPaused,
    WatchesResumed,
    Reloaded,
    ReloadFailed,

    // Its rhythm

    MomentsMissed,
    MomentPassed,
    MomentQueued,
    MomentTakesOver,
    MomentSkipped,
    MomentAdvanced,
    RestartNeedless,
    RestartSpared,
    RestartPutOff,
    RestartDue,
    RestartFailed,

    /// <summary>A run is not done so long after its moment.</summary>
    JobLate,

    /// <summary>No run has succeeded for longer than it may be.</summary>
    JobOverdue,
    QuietBegan,
    QuietOver,

    // New program files

    SwapBegan,
    Swapped,

    /// <summary>The files before have come back.</summary>
    SwapReturned,

    /// <summary>It does not run after a swap, though it was to.</summary>
    SwapDown,

    // How it ends

    TooLong,
    MainEnded,
    StepAnswered,
    StepFailed,
    StepOver,
    WindDownAnew,
    OffFailed,
    StillThere,
    Stopped,
    Ended,
    Fell,
    Held,
    Retried,
    RemainsEnded,

    // Secrets, accounts, sessions

    SecretSet,
    SecretRemoved,
    AccountMade,
    AccountRemoved,
    AccountPermitted,
    AccountForbidden,
    FolderGranted,
    FolderTaken,
    StateSetApart,
    StateHandedOver,
    SignedIn,
    SignedOut,
    SignInRefused,
    SessionEnded,

    /// <summary>Somebody asked for what their account may not.</summary>
    Refused,

    // The sentry itself

    DiskWillFill,
    MemoryWillFill,

    /// <summary>A check finds what it did not find before.</summary>
    Found,

    /// <summary>A copy of a running program, outside the sentry.</summary>
    CopySeen,
    ForwardStuck,
    ForwardedAgain,
    NotForwarded,

    /// <summary>Messages do not get to a recipient.</summary>
    TellStuck,
    ToldAgain,

    /// <summary>A message was refused for good.</summary>
    NotTold,

    /// <summary>The sign of life did not get to its address.</summary>
    SignalMissed,
    SignalArrives,

    /// <summary>Somebody looks at an alert.</summary>
    Acknowledged,
    LogbookCut,
    LogbookBroken,
    Serving,
    Guard,
    Trouble,
    Drill,
    Boot,
    Start,
    WindingDown,
    TimeOver,
    WoundDown,
    NotWoundDown,
    PlanTakenUp,
}
