using System.Text.Json.Serialization;

namespace CalmSentry.Contract.Api;

/// <summary>What came of something asked: a closed list, for programs.</summary>
[JsonConverter(typeof(Worded<AnswerCode>))]
public enum AnswerCode
{
    Wrapped,

    Adjusted,

    Renamed,

    /// <summary>Nothing was done: it was only to be said what would be.</summary>
    WouldDo,

    /// <summary>It was so already.</summary>
    Unchanged,

    Unwrapped,

    Started,

    RunningAlready,

    /// <summary>It was asked to start, and does not run.</summary>
    NotRunning,

    /// <summary>Of several: what its check found stands in its way, and it was not started.</summary>
    Refused,

    Stopped,

    /// <summary>Stopped, but the steps of its wind-down did not suffice.</summary>
    Killed,

    NotRunningBefore,

    /// <summary>It was not running; that it failed is taken as seen.</summary>
    FailureSeen,

    /// <summary>Somebody started it again while it was being stopped.</summary>
    StartedMeanwhile,

    /// <summary>Of a job: its run has ended well.</summary>
    Done,

    /// <summary>Of several: with each of them it came true.</summary>
    AllDone,

    /// <summary>Of several: with some of them it did not.</summary>
    NotAllDone,

    /// <summary>Somebody has said that they look at an alert.</summary>
    Acknowledged,
    AlertClosed,

    MomentSkipped,

    MomentAdvanced,

    Quiet,

    QuietOver,

    NotHeld,

    WatchesPaused,

    WatchesResumed,

    /// <summary>Its program was given a text on its input, or at its terminal.</summary>
    InputGiven,

    /// <summary>The text could not be given.</summary>
    InputNotGiven,

    Reloaded,

    /// <summary>A step failed, or it no longer serves after it.</summary>
    NotReloaded,

    /// <summary>It has the new files.</summary>
    Swapped,

    /// <summary>It keeps the files of before, or does not run with the new ones.</summary>
    NotSwapped,

    AllStopped,

    AccountMade,

    AccountRemoved,

    AccountPermitted,

    AccountForbidden,

    FolderGranted,

    FolderTaken,

    StateHandedOver,

    SecretSet,

    SecretRemoved,

    SessionEnded,
}
