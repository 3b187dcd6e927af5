namespace CalmSentry.Core.Entries;

/// <summary>How bad what happened is (RFC 5424, section 6.2.1).</summary>
public enum EntrySeverity
{
    Emergency,
    Alert,
    Critical,
    Error,
    Warning,
    Notice,
    Informational,
    Debug,
}

/// <summary>How bad each kind of entry is.</summary>
public static class Severities
{
    public static EntrySeverity Of(Entry entry, bool tells) =>
        entry.Code switch
        {
            _ when tells => EntrySeverity.Alert,
            EntryCode.LogbookBroken or EntryCode.Held => EntrySeverity.Critical,
            EntryCode.Trouble
            or EntryCode.Fell
            or EntryCode.Lost
            or EntryCode.NeverLaunched
            or EntryCode.OutputLost
            or EntryCode.OutputStuck
            or EntryCode.OutputDropped
            or EntryCode.ReloadFailed
            or EntryCode.SwapReturned
            or EntryCode.SwapDown => EntrySeverity.Error,
            EntryCode.NotProven
            or EntryCode.NeedMissing
            or EntryCode.NeededLost
            or EntryCode.Unwell
            or EntryCode.StepFailed
            or EntryCode.StepOver
            or EntryCode.TooLong
            or EntryCode.MomentsMissed
            or EntryCode.StillThere
            or EntryCode.TimeOver
            or EntryCode.NotWoundDown
            or EntryCode.RemainsEnded
            or EntryCode.SaysTooOften
            or EntryCode.OutputUnkept
            or EntryCode.ReopenFailed
            or EntryCode.DiskWillFill
            or EntryCode.MemoryWillFill
            or EntryCode.Found
            or EntryCode.CopySeen
            or EntryCode.JobLate
            or EntryCode.JobOverdue
            or EntryCode.RestartFailed
            or EntryCode.TellStuck
            or EntryCode.SignalMissed
            or EntryCode.NotTold
            or EntryCode.Refused
            or EntryCode.SignInRefused
            or EntryCode.BootNotSettled => EntrySeverity.Warning,
            EntryCode.Noted => entry.Name == "warns" ? EntrySeverity.Warning : EntrySeverity.Notice,
            EntryCode.Wrapped
            or EntryCode.Adjusted
            or EntryCode.Renamed
            or EntryCode.Unwrapped
            or EntryCode.SwapBegan
            or EntryCode.Swapped
            or EntryCode.SecretSet
            or EntryCode.SecretRemoved
            or EntryCode.AccountMade
            or EntryCode.AccountRemoved
            or EntryCode.AccountPermitted
            or EntryCode.AccountForbidden
            or EntryCode.SignedIn
            or EntryCode.SignedOut
            or EntryCode.SessionEnded
            or EntryCode.LogbookCut => EntrySeverity.Notice,
            _ => EntrySeverity.Informational,
        };
}
