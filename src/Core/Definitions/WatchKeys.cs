using System.Collections.Immutable;

namespace CalmSentry.Core.Definitions;

/// <summary>The keys of a watch.</summary>
public static class WatchKeys
{
    public static Form<WatchFollow> Follows { get; } =
        Forms.Choice(
            ("note", WatchFollow.Note),
            ("tell", WatchFollow.Tell),
            ("restart", WatchFollow.Restart),
            ("restart-by-force", WatchFollow.RestartByForce)
        );

    private static readonly ImmutableArray<string> Levels =
    [
        "memory-above",
        "cpu-above",
        "open-files-above",
        "tree-above",
    ];

    public static Union<Watch> Watches { get; } =
        new(
            "{ http: http://127.0.0.1:7411/health } or { silent-for: 10 min }",
            [
                UnionOf<Watch>.Kind(
                    "http",
                    Forms.Url,
                    url => Asking(new HttpProof(url, null, null)),
                    watch => Http(watch)?.Url,
                    "This address answers."
                ) with
                {
                    Of = "URL",
                    Example = "http://127.0.0.1:7411/health",
                },
                UnionOf<Watch>.Kind(
                    "tcp",
                    Forms.Address,
                    address => Asking(new TcpProof(address)),
                    watch => ((watch as AnswerWatch)?.Look as TcpProof)?.Address,
                    "It accepts connections there."
                ) with
                {
                    Of = "HOST:PORT",
                    Example = "127.0.0.1:7411",
                },
                UnionOf<Watch>.Command(
                    "command",
                    command => Asking(new CommandProof(command)),
                    watch => ((watch as AnswerWatch)?.Look as CommandProof)?.Command,
                    "This command, run as the account, exits with code 0; program first."
                ) with
                {
                    Example = "[/usr/bin/ledger-ping]",
                },
                UnionOf<Watch>.Kind(
                    "silent-for",
                    Forms.Length,
                    longest => Sampling(new SilenceWatch(longest) { Beat = Watch.UsualSample }),
                    watch => (watch as SilenceWatch)?.Longest,
                    "It has printed nothing for so long."
                ) with
                {
                    Example = "10 min",
                },
                UnionOf<Watch>.Kind(
                    "file",
                    Forms.Path,
                    path => Sampling(new FreshFileWatch(path, TimeSpan.Zero) { Beat = Watch.UsualSample }),
                    watch => (watch as FreshFileWatch)?.Path,
                    "With fresh-for, a file that must stay fresh."
                ) with
                {
                    Of = "PATH",
                    Example = "/srv/skerry/tides.csv",
                },
                UnionOf<Watch>.Kind(
                    "well-within",
                    Forms.Length,
                    within => Hanging(new WellWatch(within) { Beat = Watch.UsualSample }),
                    watch => (watch as WellWatch)?.Within,
                    "The program says that it is well, with an HTTP call to /well on the Unix socket in CALM_SAY, at "
                        + "least so often."
                ) with
                {
                    Example = "30 s",
                    Was = "alive-within",
                },
                UnionOf<Watch>.Kind(
                    "asks-for",
                    Forms.Length,
                    longest => Sampling(new QuestionWatch(longest) { Beat = Watch.UsualSample }),
                    watch => (watch as QuestionWatch)?.Longest,
                    "It has probably asked somebody for so long: it waits at its terminal after a text without a line end, or a "
                        + "dialog stands on its display, and it uses no processor time."
                ) with
                {
                    Example = "2 min",
                },
                UnionOf<Watch>.Kind(
                    "still-for",
                    Forms.Length,
                    longest => Sampling(new StillWatch(longest) { Beat = Watch.UsualSample }),
                    watch => (watch as StillWatch)?.Longest,
                    "What its display shows has not changed for so long, in no pixel."
                ) with
                {
                    Example = "10 min",
                },
                UnionOf<Watch>.Kind(
                    "memory-above",
                    Forms.Size,
                    bytes => Sampling(new MemoryWatch(bytes) { Beat = Watch.UsualSample }),
                    watch => (watch as MemoryWatch)?.Bytes,
                    "Memory of its own, all its processes together, is above this."
                ) with
                {
                    Example = "400 MiB",
                },
                UnionOf<Watch>.Kind(
                    "cpu-above",
                    Forms.Percent(1, 100_000, " of one processor"),
                    percent => Sampling(new CpuWatch(percent) { Beat = Watch.UsualSample }),
                    watch => (watch as CpuWatch)?.Percent,
                    "Processor time of all its processes together is above this, in percent of one processor."
                ),
                UnionOf<Watch>.Kind(
                    "open-files-above",
                    Forms.Whole(1, 1_048_576),
                    most => Sampling(new OpenFilesWatch(most) { Beat = Watch.UsualSample }),
                    watch => (watch as OpenFilesWatch)?.Most,
                    "More files and sockets are open than this, all its processes together."
                ) with
                {
                    Example = "1000",
                },
                UnionOf<Watch>.Kind(
                    "tree-above",
                    Forms.Whole(0, 4_194_304),
                    most => Sampling(new TreeWatch(most) { Beat = Watch.UsualSample }),
                    watch => (watch as TreeWatch)?.Most,
                    "There are more processes below its main one than this."
                ) with
                {
                    Example = "20",
                    Was = "children-above",
                },
                UnionOf<Watch>.Kind(
                    "ceiling-within",
                    Forms.Length,
                    within => Sampling(new CeilingWatch(within) { Beat = Watch.UsualSample }),
                    watch => (watch as CeilingWatch)?.Within,
                    "At the rate it grows, its memory reaches the limit of resources.memory within this time."
                ) with
                {
                    Default = "1 h where there is a limit",
                    Example = "2 h",
                },
                UnionOf<Watch>.Kind(
                    "paused-for",
                    Forms.Length,
                    longest => Hanging(new PausedWatch(longest) { Beat = Watch.UsualSample }),
                    watch => (watch as PausedWatch)?.Longest,
                    "Its main process has been stopped by a signal (SIGSTOP) for so long."
                ) with
                {
                    Default = "30 s, then restart",
                    Example = "30 s",
                },
            ],
            [
                UnionOf<Watch>.Attribute(
                    "status",
                    BeginKeys.Status,
                    watch => Http(watch)?.Status,
                    (watch, status) => WithHttp(watch, http => http with { Status = status }),
                    "With http, the status it must answer."
                ) with
                {
                    Only = ["http"],
                    Default = "any from 200 to 399",
                },
                UnionOf<Watch>.Attribute(
                    "text",
                    BeginKeys.AnswerText,
                    watch => Http(watch)?.Text,
                    (watch, text) => WithHttp(watch, http => http with { Text = text }),
                    "With http, what must be in the answer."
                ) with
                {
                    Only = ["http"],
                    Default = "anything",
                    IsText = true,
                },
                UnionOf<Watch>.Attribute(
                    "fresh-for",
                    Forms.Length,
                    watch => (watch as FreshFileWatch)?.Oldest,
                    (watch, oldest) => ((FreshFileWatch)watch) with { Oldest = oldest },
                    "With file, how old it may be; until it has been as long since the launch it need not exist."
                ) with
                {
                    Only = ["file"],
                    Needed = true,
                    Default = "must be given with file",
                    Example = "15 min",
                },
                UnionOf<Watch>.Attribute(
                    "lasting",
                    Forms.Length,
                    watch => watch.Lasting > TimeSpan.Zero ? watch.Lasting : null,
                    (watch, lasting) => watch with { Lasting = lasting },
                    "With the kinds that end in -above, how long it must have been above."
                ) with
                {
                    Only = Levels,
                    Default = "0 s",
                    Example = "5 min",
                    Was = "for",
                },
                UnionOf<Watch>.Attribute(
                    "beat",
                    Forms.LengthFrom(TimeSpan.FromMilliseconds(100)),
                    watch => watch.Beat,
                    (watch, beat) => watch with { Beat = beat },
                    "Time between two looks, at least 100 ms."
                ) with
                {
                    Default = "15 s for http, tcp and command, else 10 s or as soon as it is due",
                    Example = "15 s",
                    Was = "every",
                },
                UnionOf<Watch>.Attribute(
                    "patience",
                    Forms.Whole(1, 1000),
                    watch => watch.Patience,
                    (watch, patience) => watch with { Patience = patience },
                    "So many looks in a row must be bad."
                ) with
                {
                    Default = "3 for http, tcp and command, else 1",
                    Example = "3",
                },
                UnionOf<Watch>.Attribute(
                    "follows",
                    Follows,
                    watch => watch.Follows,
                    (watch, follows) => watch with { Follows = follows },
                    "note: an entry in the logbook. tell: raise an alert. restart: stopped cleanly and started again. "
                        + "restart-by-force: killed and started again. Both restarts count as failures."
                ) with
                {
                    Default = "restart for http, tcp, command, well-within and paused-for, else tell",
                    Was = "then",
                },
            ]
        );

    /// <summary>
    /// What holds in every definition unless it says otherwise: what was proven is still so, a stopped program is found,
    /// and a limit is seen coming.
    /// </summary>
    public static ImmutableArray<Watch> WithImplied(Definition definition)
    {
        var (watches, resources, recover) = (definition.Watch, definition.Resources, definition.Recover);
        if (Asked(definition.Begin.Proof) is { KeepLooking: true } proof && !watches.Any(watch => Same(watch, proof)))
        {
            watches = watches.Add(
                Asking(proof with { Within = Proof.UsualWithin, OnlyTell = false }) with
                {
                    Follows = WatchFollow.Tell,
                    Implied = true,
                }
            );
        }

        if (definition.Program.Kind == ProgramKind.Toggles)
            return watches;
        if (!watches.Any(watch => watch is PausedWatch))
        {
            watches = watches.Add(
                new PausedWatch(PausedWatch.Default)
                {
                    Beat = Watch.QuietSample,
                    Follows = recover.After == RecoverAfter.Never ? WatchFollow.Tell : WatchFollow.Restart,
                    Implied = true,
                }
            );
        }

        if (resources.Memory is not null && !watches.Any(watch => watch is CeilingWatch))
        {
            watches = watches.Add(
                new CeilingWatch(CeilingWatch.Default)
                {
                    Beat = Watch.UsualSample,
                    Follows = WatchFollow.Tell,
                    Implied = true,
                }
            );
        }

        return watches;
    }

    private static Proof? Asked(Proof proof) => proof is TcpProof or HttpProof ? proof : null;

    /// <summary>Whether a watch asks the same place already.</summary>
    private static bool Same(Watch watch, Proof proof) =>
        (watch as AnswerWatch)?.Look switch
        {
            TcpProof tcp => proof is TcpProof asked && asked.Address == tcp.Address,
            HttpProof http => proof is HttpProof asked && asked.Url == http.Url,
            _ => false,
        };

    // What hangs is restarted, what is over a level is told: a restart cures the one and hides the other.

    private static AnswerWatch Asking(Proof look) =>
        new(look)
        {
            Beat = Watch.UsualBeat,
            Patience = 3,
            Follows = WatchFollow.Restart,
        };

    private static Watch Hanging(Watch watch) => watch with { Follows = WatchFollow.Restart };

    private static Watch Sampling(Watch watch) => watch with { Follows = WatchFollow.Tell };

    private static HttpProof? Http(Watch watch) => (watch as AnswerWatch)?.Look as HttpProof;

    private static AnswerWatch WithHttp(Watch watch, Func<HttpProof, HttpProof> change) =>
        ((AnswerWatch)watch) with
        {
            Look = change(Http(watch)!),
        };
}
