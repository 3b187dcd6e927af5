using System.Text.Json.Serialization;

namespace CalmSentry.Contract.Api;

/// <summary>What came of something asked: a closed list, for programs.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<AnswerCode>))]
public enum AnswerCode
{
    [JsonStringEnumMemberName("wrapped")]
    Wrapped,

    [JsonStringEnumMemberName("adjusted")]
    Adjusted,

    [JsonStringEnumMemberName("renamed")]
    Renamed,

    /// <summary>Nothing was done: it was only to be said what would be.</summary>
    [JsonStringEnumMemberName("would-do")]
    WouldDo,

    /// <summary>It was so already.</summary>
    [JsonStringEnumMemberName("unchanged")]
    Unchanged,

    [JsonStringEnumMemberName("unwrapped")]
    Unwrapped,

    [JsonStringEnumMemberName("started")]
    Started,

    [JsonStringEnumMemberName("running-already")]
    RunningAlready,

    /// <summary>It was asked to start, and does not run.</summary>
    [JsonStringEnumMemberName("not-running")]
    NotRunning,

    [JsonStringEnumMemberName("stopped")]
    Stopped,

    /// <summary>Stopped, but the steps of its wind-down did not suffice.</summary>
    [JsonStringEnumMemberName("killed")]
    Killed,

    [JsonStringEnumMemberName("not-running-before")]
    NotRunningBefore,

    /// <summary>It was not running; that it failed is taken as seen.</summary>
    [JsonStringEnumMemberName("failure-seen")]
    FailureSeen,

    /// <summary>Somebody started it again while it was being stopped.</summary>
    [JsonStringEnumMemberName("started-meanwhile")]
    StartedMeanwhile,

    /// <summary>Of a job: its run has ended well.</summary>
    [JsonStringEnumMemberName("done")]
    Done,

    /// <summary>Somebody has said that they look at an alert.</summary>
    [JsonStringEnumMemberName("acknowledged")]
    Acknowledged,

    [JsonStringEnumMemberName("moment-skipped")]
    MomentSkipped,

    [JsonStringEnumMemberName("moment-advanced")]
    MomentAdvanced,

    [JsonStringEnumMemberName("quiet")]
    Quiet,

    [JsonStringEnumMemberName("quiet-over")]
    QuietOver,

    [JsonStringEnumMemberName("not-held")]
    NotHeld,

    [JsonStringEnumMemberName("watches-paused")]
    WatchesPaused,

    [JsonStringEnumMemberName("watches-resumed")]
    WatchesResumed,

    [JsonStringEnumMemberName("reloaded")]
    Reloaded,

    /// <summary>A step failed, or it no longer serves after it.</summary>
    [JsonStringEnumMemberName("not-reloaded")]
    NotReloaded,

    /// <summary>It has the new files.</summary>
    [JsonStringEnumMemberName("swapped")]
    Swapped,

    /// <summary>It keeps the files of before, or does not run with the new ones.</summary>
    [JsonStringEnumMemberName("not-swapped")]
    NotSwapped,

    [JsonStringEnumMemberName("all-stopped")]
    AllStopped,

    [JsonStringEnumMemberName("account-made")]
    AccountMade,

    [JsonStringEnumMemberName("account-removed")]
    AccountRemoved,

    [JsonStringEnumMemberName("account-permitted")]
    AccountPermitted,

    [JsonStringEnumMemberName("account-forbidden")]
    AccountForbidden,

    [JsonStringEnumMemberName("folder-granted")]
    FolderGranted,

    [JsonStringEnumMemberName("folder-taken")]
    FolderTaken,

    [JsonStringEnumMemberName("state-handed-over")]
    StateHandedOver,

    [JsonStringEnumMemberName("secret-set")]
    SecretSet,

    [JsonStringEnumMemberName("secret-removed")]
    SecretRemoved,

    [JsonStringEnumMemberName("session-ended")]
    SessionEnded,
}
