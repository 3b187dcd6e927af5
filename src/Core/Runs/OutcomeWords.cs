using CalmSentry.Core.Text;

namespace CalmSentry.Core.Runs;

/// <summary>How a run ended, in words that follow "it" or "run 3".</summary>
public static class OutcomeWords
{
    public static string Of(Outcome outcome) =>
        outcome.Kind switch
        {
            OutcomeKind.Exited or OutcomeKind.Signalled when outcome.Detail is { } detail =>
                $"{Of(outcome with { Detail = null })}: {detail}",
            OutcomeKind.Exited when outcome.Code == 0 => "exited with code 0 (success)",
            OutcomeKind.Exited => $"exited with code {outcome.Code}",
            OutcomeKind.Signalled => $"was killed by signal {Signal(outcome.Code)}"
                + (outcome.Core ? " and left a core dump" : ""),
            OutcomeKind.NeverLaunched => $"failed to start: {outcome.Detail}",
            OutcomeKind.NotProven => outcome.Detail ?? "was not ready in time",
            OutcomeKind.Unwell => $"was ended because its health was poor: {outcome.Detail}",
            OutcomeKind.TooLong => $"was ended because it took longer than {outcome.Detail}",
            OutcomeKind.KeeperLost => "lost its keeper; what was left of it was killed",
            _ => "was lost when the machine went down",
        };

    private static string Signal(int number) =>
        number switch
        {
            4 => "ILL (illegal instruction)",
            6 => "ABRT (it gave up on itself)",
            7 => "BUS (bad memory access)",
            8 => "FPE (arithmetic error)",
            11 => "SEGV (bad memory access)",
            13 => "PIPE (nobody read its output)",
            31 => "SYS (forbidden system call)",
            _ => SignalNames.Ends.FirstOrDefault(pair => pair.Value == number).Key ?? $"number {number}",
        };
}
