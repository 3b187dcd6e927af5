using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Rhythms;
using CsCheck;

namespace CalmSentry.Tests.Core.Definitions;

/// <summary>Definitions, and parts of them, as they may be: what laws of every room are tried with.</summary>
internal static class AnyDefinition
{
    internal static readonly Gen<TimeSpan> Lengths = Gen.Long[0, 3_000_000_000]
        .Select(ms => TimeSpan.FromMilliseconds(ms));

    private static readonly Gen<string> Words = Gen.String[
        Gen.Char.Where(c => c is not '\0' and not '\n' && !char.IsSurrogate(c)),
        1,
        20
    ];

    private static readonly Gen<IdentityPart> Identities =
        from account in Words
        from groups in Words.Array[0, 3]
        from umask in Gen.Int[0, 0x1FF]
        from more in Gen.Bool
        select new IdentityPart(account)
        {
            Groups = [.. groups],
            Umask = umask,
            MoreRights = more,
            Rights = more ? [] : [IdentityPart.LowPorts],
        };

    private static readonly Gen<ResourcesPart> Shares =
        from priority in Gen.Enum<PriorityClass>()
        from disk in Gen.Enum<PriorityClass>()
        from processors in Gen.Int[0, 1023].Array[0, 6]
        from memory in Gen.Long[1 << 20, 1L << 44].Select(bytes => bytes / 1000 * 1000)
        from cpu in Gen.Int[1, 100_000]
        from files in Gen.Int[16, 1_048_576]
        from some in Gen.Bool
        select new ResourcesPart
        {
            Priority = priority,
            Disk = disk,
            Processors = [.. processors.Distinct().Order()],
            Memory = some ? Math.Max(memory, 2_000_000) : null,
            Cpu = some ? cpu : null,
            OpenFiles = some ? files : null,
            TreeSize = some ? files : null,
        };

    internal static readonly Gen<Need> Needs =
        from kind in Gen.Int[0, 5]
        from yes in Gen.Bool
        from also in Gen.Bool
        from then in Gen.Enum<NeedFollow>()
        from lost in Gen.Enum<IfLost>()
        from within in Gen.OneOf(Lengths, Gen.Const(Need.UsualWithin))
        select (
            kind switch
            {
                0 => new NetworkNeed(yes ? "eth0" : null),
                1 => new ServiceNeed("tide-store", lost),
                2 => new TcpNeed(yes ? "[::1]:5432" : "db.quay:5432"),
                3 => new PathNeed("/mnt/mani fests", yes, also),
                4 => new AfterBootNeed(within),
                _ => (Need)new TcpNeed("127.0.0.1:1"),
            }
        ) with
        {
            Follows = then,
            Within = within,
        };

    internal static readonly Gen<Proof> Proofs =
        from kind in Gen.Int[0, 6]
        from yes in Gen.Bool
        from text in Words.Where(text => text.Length > 0)
        from within in Gen.OneOf(Lengths, Gen.Const(Proof.UsualWithin))
        select kind switch
        {
            0 => new UpForProof(within),
            1 => new TcpProof("127.0.0.1:7411")
            {
                Within = within,
                OnlyTell = yes,
                KeepLooking = !yes,
            },
            2 => new HttpProof("http://127.0.0.1:7411/health?a=1,2", yes ? 204 : null, yes ? null : text)
            {
                Within = within,
            },
            3 => new OutputProof(System.Text.RegularExpressions.Regex.Escape(text)) { Within = within, OnlyTell = yes },
            4 => new FileProof("/run/relay/ready") { Within = within },
            5 => new CommandProof(["/usr/bin/ledger-ping", text]) { Within = within },
            _ => (Proof)new SaidProof { Within = within },
        };

    internal static readonly Gen<Watch> Watches =
        from which in Gen.Int[0, 13]
        from length in Lengths
        from every in Lengths
        from number in Gen.Int[1, 1000]
        from text in Words
        from then in Gen.Enum<WatchFollow>()
        select (
            which switch
            {
                0 => new AnswerWatch(
                    new HttpProof(
                        "http://127.0.0.1:7411/health?a=1,2",
                        number < 500 ? 204 : null,
                        number < 500 ? null : text
                    )
                )
                {
                    Beat = every,
                },
                1 => new AnswerWatch(new TcpProof("127.0.0.1:7411")) { Beat = every },
                2 => new AnswerWatch(new CommandProof(["/usr/bin/ledger-ping", text])) { Beat = every },
                3 => new SilenceWatch(length) { Beat = every },
                4 => new FreshFileWatch("/srv/skerry/tides.csv", length) { Beat = every },
                5 => new WellWatch(length) { Beat = every },
                6 => new MemoryWatch(number << 20) { Beat = every, Lasting = length },
                7 => new CpuWatch(number) { Beat = every, Lasting = length },
                8 => new OpenFilesWatch(number) { Beat = every },
                9 => new TreeWatch(number) { Beat = every },
                10 => new CeilingWatch(length) { Beat = every },
                11 => new QuestionWatch(length) { Beat = every },
                12 => new StillWatch(length) { Beat = every },
                _ => (Watch)new PausedWatch(length) { Beat = every },
            }
        ) with
        {
            Beat = every < TimeSpan.FromMilliseconds(100) ? Watch.UsualBeat : every,
            Patience = number,
            Follows = then,
        };

    internal static readonly Gen<WindDownStep> Steps =
        from which in Gen.Int[0, 8]
        from wait in Lengths
        from text in Words.Where(text => text.Length > 0)
        select which switch
        {
            0 => new SignalStep("INT", wait),
            1 => new SignalStep("TERM", wait, WholeTree: true),
            2 => new SendStep(text, new(SendKind.Tcp, "127.0.0.1:7412"), wait),
            3 => new SendStep($"{text}\n", new(SendKind.Unix, "/run/ledger control"), wait),
            4 => new SendStep(text, new(SendKind.Input, ""), wait),
            5 => new CloseInputStep(wait),
            6 => new HttpStep("PUT", "http://127.0.0.1:7411/close", text, wait),
            7 => new CommandStep(["/usr/bin/ledger-close", text], wait),
            _ => (WindDownStep)new KeyStep(TerminalKey.Quit, wait),
        };

    private static readonly Gen<Rhythm> Moments = OneOf(
            "every 15 min",
            "every 90 s from 16:30",
            "every 2 weeks from 2026-11-30 06:00",
            "daily at 01:00, 13:00:30",
            "on mon-fri, last at 16:30",
            "cron 0,30 6 13 * 5",
            "R5/2026-11-30T06:00+01:00/P1M2DT3H"
        )
        .Select(words => RhythmWords.TryRead(words, out var rhythm) ? rhythm : throw new FormatException(words));

    private static readonly Gen<string?> Zones = OneOf<string?>(null, "Europe/Oslo", "UTC");

    private static readonly Gen<TimeSpan> Waits = Gen.Int[1, 100_000].Select(seconds => TimeSpan.FromSeconds(seconds));

    private static readonly Gen<Planned> Runs =
        from moments in Moments
        from zone in Zones
        from spread in Waits
        from missed in Gen.Enum<IfMissed>()
        from running in Gen.Enum<IfRunning>()
        from again in Gen.Int[0, 100]
        from given in Gen.Bool
        from days in Gen.Int[0, 4000].Array[0, 3]
        from file in OneOf<string?>(null, "/srv/skerry/quiet days", "/srv/skerry/days,of=the harbour")
        select (Planned)
            new PlannedRun(moments)
            {
                Zone = zone,
                Except =
                    days.Length == 0 && file is null
                        ? null
                        : new([.. days.Select(day => new DateOnly(2026, 1, 1).AddDays(day))], file),
                Spread = given ? (spread < TimeSpan.FromSeconds(90) ? spread : TimeSpan.FromSeconds(90)) : null,
                Missed = missed,
                IfRunning = running,
                Longest = given ? spread : null,
                Again = again,
            };

    private static readonly Gen<Planned> Quiets =
        from moments in Moments
        from zone in Zones
        from length in Waits
        from none in Gen.Bool
        select (Planned)
            new PlannedQuiet(moments)
            {
                Zone = zone,
                Spread = TimeSpan.Zero,
                For = length + TimeSpan.FromMinutes(1),
                NoRestarts = none,
            };

    private static readonly Gen<Planned> Restarts =
        from moments in Moments
        from zone in Zones
        from length in Waits
        from missed in Gen.Enum<IfMissed>()
        from busy in OneOf<string?>(null, "said", "http://127.0.0.1:7413/busy", "/srv/skerry/busy 'a b', c")
        from given in Gen.Bool
        select (Planned)
            new PlannedRestart(moments)
            {
                Zone = zone,
                Missed = missed,
                Busy = busy,
                PutOff = length,
                NeedlessWithin = length / 2,
                MemoryAbove = given ? 1 << 20 : null,
            };

    internal static readonly Gen<Definition> Any =
        from name in Gen.String[Gen.Char["abcdefghijklmnopqrstuvwxyz0123456789"], 1, 48]
        from title in Words
        from arguments in Words.Array[0, 5]
        from variables in Gen.Select(Gen.String[Gen.Char["ABCXYZ_"], 1, 8], Words).Array[0, 4]
        from pause in Lengths
        from wait in Lengths
        from ends in Gen.Int[0, 1000]
        from after in Gen.Enum<RecoverAfter>()
        from at in Gen.Enum<BeginAt>()
        from needs in Needs.Array[0, 4]
        from proof in Proofs
        from accepted in Gen.String[Gen.Char["abc-"].Where(c => c != '-'), 1, 8].Array[0, 2]
        from identity in Identities
        from resources in Shares
        from secrets in Gen.Select(
            Gen.String[Gen.Char["PQR"], 1, 4],
            Gen.Bool,
            (key, asFile) => new SecretUse(key, asFile)
        ).Array[0, 3]
        from kind in Gen.Enum<ProgramKind>()
        from watches in Watches.Array[0, 4]
        from steps in Steps.Array[0, 4]
        from codes in Gen.Enum<CodeFollow>().Array[0, 4]
        from runs in Runs.Array[1, 3]
        from restarts in Restarts.Array[0, 3]
        from quiets in Quiets.Array[0, 2]
        select new Definition
        {
            Rhythm = kind switch
            {
                ProgramKind.Periodic => [.. runs.DistinctBy(run => run.Of), .. quiets.DistinctBy(quiet => quiet.Of)],
                ProgramKind.Toggles => [.. quiets.DistinctBy(quiet => quiet.Of)],
                _ =>
                [
                    .. restarts
                        .DistinctBy(restart => restart.Of)
                        .Select(restart =>
                            resources.Memory is null
                                ? restart
                                : ((PlannedRestart)restart) with
                                {
                                    CeilingWithin = TimeSpan.FromHours(26),
                                }
                        ),
                    .. quiets.DistinctBy(quiet => quiet.Of),
                ],
            },
            Files = new()
            {
                Directory = accepted.Length > 0 ? "/srv/skerry" : null,
                Data = [.. accepted.Select(word => $"{word}/*.book").Distinct()],
                Versions = (ends % 50) + 1,
                WatchFor = pause,
            },
            Name = name,
            Title = title,
            Identity = identity,
            Resources = resources,
            Accept = [.. accepted],
            Labels = [.. accepted.Distinct()],
            Reload =
            [
                .. kind == ProgramKind.Toggles ? [] : steps.Where(step => step is not (KeyStep or CloseInputStep)),
            ],
            Program = new(
                "/srv/skerry/ledger",
                [.. arguments],
                "/srv/skerry",
                variables
                    .DistinctBy(pair => pair.Item1)
                    .ToImmutableSortedDictionary(pair => pair.Item1, pair => pair.Item2, StringComparer.Ordinal)
            )
            {
                Kind = kind,
                Terminal = kind == ProgramKind.Stays && steps.OfType<KeyStep>().Any(),
                With = kind == ProgramKind.Stays ? "/usr/bin/python3" : null,
                Secrets = [.. secrets.DistinctBy(secret => secret.Key)],
                // A watch of what it asks, or shows, is for one that can.
                Window = kind == ProgramKind.Toggles ? null : new(1280, 800),
                WindowManager = kind == ProgramKind.Detaches ? "/usr/bin/a manager" : null,
                PidFile = kind == ProgramKind.Detaches ? "/run/relay.pid" : null,
                Off = kind == ProgramKind.Toggles ? ["/srv/skerry/off", .. arguments] : [],
            },
            Begin = new()
            {
                At = at,
                AtLatest = at == BeginAt.BootLate ? wait : new BeginPart().AtLatest,
                Needs = [.. needs],
                Proof = proof,
            },
            Recover = new()
            {
                After = after,
                First = pause,
                HoldEnds = ends,
                Spread = ends % 101,
                RetryEvery = pause >= TimeSpan.FromSeconds(1) ? pause : null,
                Codes = codes
                    .Select((then, i) => KeyValuePair.Create(i == 0 ? "SEGV" : $"{i}", then))
                    .ToImmutableSortedDictionary(StringComparer.Ordinal),
            },
            Watch = Watched(
                kind,
                [
                    .. watches.Select(watch =>
                        after == RecoverAfter.Never ? watch with { Follows = WatchFollow.Note } : watch
                    ),
                ],
                proof,
                resources,
                after
            ),
            WindDown =
                kind == ProgramKind.Toggles
                    ? Definition.DefaultWindDown
                    : WindDownKeys.AtLastAsked([
                        .. steps.Where(step => kind == ProgramKind.Stays || step is not KeyStep),
                    ]),
        };

    private static ImmutableArray<Watch> Watched(
        ProgramKind kind,
        ImmutableArray<Watch> watches,
        Proof proof,
        ResourcesPart resources,
        RecoverAfter after
    ) =>
        WatchKeys.WithImplied(
            Definition.Empty with
            {
                Program = Definition.Empty.Program with { Kind = kind },
                Begin = new() { Proof = proof },
                Watch =
                    kind == ProgramKind.Toggles
                        ? [.. watches.Where(watch => watch is AnswerWatch or FreshFileWatch)]
                        : watches,
                Resources = resources,
                Recover = new() { After = after },
            }
        );

    private static Gen<T> OneOf<T>(params T[] values) => Gen.Int[0, values.Length - 1].Select(i => values[i]);
}
