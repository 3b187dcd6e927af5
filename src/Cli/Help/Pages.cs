namespace CalmSentry.Cli.Help;

/// <summary>When in the order of work a command is used.</summary>
internal enum Stage
{
    Prepare,
    Run,
    Look,
    Plan,
    Machine,
}

/// <param name="Name">The command's.</param>
/// <param name="Summary">One line, at most 62 characters.</param>
/// <param name="Usage">What follows the command's name.</param>
/// <param name="Examples">Two or three lines as typed.</param>
internal sealed record Page(
    string Name,
    Stage Stage,
    string Summary,
    string Usage,
    params IReadOnlyList<string> Examples
)
{
    /// <summary>What else there is to know, in lines; null: nothing.</summary>
    public string? More { get; init; }
}

/// <summary>What help says of each command, in the order of work.</summary>
internal static class Pages
{
    public static IReadOnlyList<Page> All { get; } =
    [
        new(
            "check",
            Stage.Prepare,
            "Find out what would go wrong, before anything is run",
            "NAME | FILE | [NAME] [OPTIONS] -- PROGRAM [ARGUMENT…]",
            "calm check --account skerry -- /srv/skerry/ledger/ledger.py --port 7411",
            "calm check fare-ledger"
        ),
        new(
            "rehearse",
            Stage.Prepare,
            "Run a program as its service would, without registering it",
            "NAME | FILE | [NAME] [OPTIONS] -- PROGRAM [ARGUMENT…]",
            "calm rehearse --for 30s --account skerry -- /srv/skerry/ledger/ledger.py"
        ),
        new(
            "account",
            Stage.Prepare,
            "Accounts that services run as, and their rights on folders",
            "COMMAND",
            "calm account create skerry-ledger",
            "calm account grant skerry-ledger /srv/skerry/ledger"
        ),
        new(
            "secret",
            Stage.Prepare,
            "Secrets of services: sealed, and never shown again",
            "COMMAND",
            "calm secret set fare-ledger LEDGER_KEY",
            "calm secret set --sentry MAIL_PASSWORD"
        ),
        new(
            "wrap",
            Stage.Prepare,
            "Wrap a program as a service; without anything it asks",
            "NAME [OPTIONS] -- PROGRAM [ARGUMENT…]  |  --from FILE",
            "calm wrap fare-ledger --at boot --account skerry -- python3 ledger.py",
            "calm wrap \"Fare ledger\" --need network --start -- /srv/skerry/ledger",
            "calm wrap --from fare-ledger.yaml"
        ),
        new(
            "adjust",
            Stage.Prepare,
            "Change a service's definition",
            "NAME [OPTIONS] [-- PROGRAM [ARGUMENT…]]",
            "calm adjust fare-ledger --memory 256MiB",
            "calm adjust fare-ledger --unset resources.memory"
        ),
        new(
            "history",
            Stage.Prepare,
            "Revisions of a definition, and what each changed",
            "NAME [--from N] [--to N] [--file N]",
            "calm history fare-ledger",
            "calm history fare-ledger --from 3 --to 5"
        ),
        new(
            "revert",
            Stage.Prepare,
            "Make an earlier revision of a definition the newest",
            "NAME REVISION",
            "calm revert fare-ledger 3 --dry",
            "calm revert fare-ledger 3"
        ),
        new(
            "export",
            Stage.Prepare,
            "Write definitions as files that read back to the same services",
            "NAME…|--all [--to DIR]",
            "calm export --all --to /srv/skerry/services",
            "calm export fare-ledger"
        ),
        new(
            "compare",
            Stage.Prepare,
            "Show where files and this machine differ, and what settling does",
            "DIR [DIR] [OPTIONS]",
            "calm compare /srv/skerry/services",
            "calm compare /srv/skerry/services /root/services-of-north"
        ),
        new(
            "settle",
            Stage.Prepare,
            "Bring this machine to files, step by step; --back undoes it",
            "DIR [OPTIONS]",
            "calm settle /srv/skerry/services --dry",
            "calm settle /srv/skerry/services",
            "calm settle --back"
        ),
        new(
            "rename",
            Stage.Prepare,
            "Give a stopped service another name; its record comes along",
            "NAME NEW",
            "calm rename fare-ledger quay-ledger",
            "calm rename fare-ledger \"Quay ledger\" --dry"
        ),
        new(
            "swap",
            Stage.Prepare,
            "Put new program files in; the old ones come back if they fail",
            "NAME [--from DIRECTORY|ARCHIVE | --back [VERSION]] [OPTIONS]",
            "calm swap departure-board --from /root/board-2.1.tar.gz --dry",
            "calm swap departure-board --from /root/board-2.1.tar.gz",
            "calm swap departure-board --back"
        ),
        new(
            "unwrap",
            Stage.Prepare,
            "Stop a service cleanly and remove it; its output stays",
            "NAME…",
            "calm unwrap fare-ledger"
        ),
        new(
            "start",
            Stage.Run,
            "Start services and wait until they are ready",
            "NAME…",
            "calm start fare-ledger",
            "calm start 'till-*'"
        ),
        new(
            "stop",
            Stage.Run,
            "Stop services cleanly, so that no work is lost",
            "NAME…",
            "calm stop fare-ledger",
            "calm stop tide-store --with-dependents",
            "calm stop tide-pull --this-run"
        ),
        new("restart", Stage.Run, "Stop services cleanly and start them again", "NAME…", "calm restart fare-ledger"),
        new(
            "reload",
            Stage.Run,
            "Tell services to read their settings anew",
            "NAME…",
            "calm reload harbour-gate",
            "calm reload --label tills"
        ),
        new(
            "watches",
            Stage.Run,
            "Pause what watches lead to, for a time",
            "NAME…",
            "calm watches fare-ledger --pause 30min",
            "calm watches fare-ledger --resume"
        ),
        new(
            "quiet",
            Stage.Run,
            "Raise no alert of services for a time",
            "NAME…",
            "calm quiet fare-ledger --for 30min --reason \"new printer\"",
            "calm quiet --all --for 2h --no-restarts",
            "calm quiet fare-ledger --end"
        ),
        new("release", Stage.Run, "Let a service that is on hold try again", "NAME…", "calm release gate-counter"),
        new(
            "acknowledge",
            Stage.Run,
            "Say that you look at an alert: nobody is told of it again",
            "ALERT | NAME",
            "calm acknowledge 12 --note \"new paper is on its way\"",
            "calm acknowledge fare-ledger"
        ),
        new(
            "list",
            Stage.Look,
            "All services, and why each is as it is",
            "",
            "calm list",
            "calm list --label tills --state held",
            "calm list --json"
        ),
        new(
            "show",
            Stage.Look,
            "Services: state, effective definition, latest runs",
            "NAME…",
            "calm show fare-ledger",
            "calm show fare-ledger --yaml > fare-ledger.yaml"
        ),
        new(
            "why",
            Stage.Look,
            "Why a service is as it is, and what happens next",
            "NAME",
            "calm why gate-counter",
            "calm why gate-counter --at \"2026-03-01 02:10\""
        ),
        new(
            "runs",
            Stage.Look,
            "A service's runs and how each ended",
            "NAME",
            "calm runs gate-counter --last 20",
            "calm runs gate-counter --run 12"
        ),
        new(
            "output",
            Stage.Look,
            "What a service printed",
            "NAME",
            "calm output fare-ledger --last 50",
            "calm output fare-ledger --follow"
        ),
        new(
            "logbook",
            Stage.Look,
            "What Calm Sentry saw and did, and who asked",
            "[NAME]",
            "calm logbook",
            "calm logbook fare-ledger --since 2h --kind fell --kind held",
            "calm logbook --follow",
            "calm logbook --since 2026-11-01 --csv >november.csv",
            "calm logbook --prove"
        ),
        new(
            "window",
            Stage.Look,
            "Save what a service shows on its own display",
            "NAME --to FILE",
            "calm window ticket-desk --to desk.png",
            "calm window ticket-desk --run 12 --to last.png"
        ),
        new("board", Stage.Look, "What needs attention now, live", "", "calm board", "calm board --once"),
        new("open", Stage.Look, "Print a one-time link to the web console", "", "calm open"),
        new(
            "drill",
            Stage.Plan,
            "Prove a reboot without one: stop all, start as a boot would",
            "[NAME…]",
            "calm drill --dry",
            "calm drill"
        ),
        new(
            "report",
            Stage.Look,
            "What happened while nobody looked; two lines when all was well",
            "",
            "calm report",
            "calm report --for 7d",
            "calm report --html > report.html"
        ),
        new(
            "ahead",
            Stage.Plan,
            "What is planned: runs of jobs and restarts",
            "[NAME…]",
            "calm ahead --for 30d",
            "calm ahead tide-pull --skip",
            "calm ahead --moments 'daily at 01:00' --zone Europe/Oslo"
        ),
        new(
            "tell",
            Stage.Machine,
            "Alerts: who is told of what, and whether it gets there",
            "",
            "calm tell",
            "calm tell --alert 12",
            "calm tell --messages",
            "calm tell --test quay-office",
            "calm tell --replay 7d"
        )
        {
            More = """
                Who is told stands in the sentry's settings, etc/calm-sentry/sentry.yaml:

                  mail: { server: mail.skerry.example:587, from: sentry@skerry.example }
                  tell:
                    - { mail: office@skerry.example, name: quay-office }

                It holds as soon as the file is saved.
                """,
        },
        new(
            "host",
            Stage.Machine,
            "Install Calm Sentry on this machine, and see how it stands",
            "COMMAND",
            "calm host install",
            "calm host status"
        ),
    ];

    public static Page? Of(string command) => All.FirstOrDefault(page => page.Name == command);
}
