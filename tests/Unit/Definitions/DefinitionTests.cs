using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Text;
using CsCheck;

namespace CalmSentry.Tests.Unit.Definitions;

public class DefinitionTests
{
    private static ScalarNode Text(string text) => new(text);

    private static MapNode Map(params (string Key, Node Value)[] entries) =>
        new([.. entries.Select(entry => KeyValuePair.Create(entry.Key, entry.Value))]);

    private static readonly Gen<TimeSpan> Lengths = Gen.Long[0, 3_000_000_000]
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

    [Theory]
    [InlineData("http:http://127.0.0.1:1/,bet=5s", "'bet' is none (did you mean beat?)")]
    [InlineData("tcp:127.0.0.1:1,beat=5s,bet=5s", "'bet' is none (did you mean beat?)")]
    [InlineData("http:http://127.0.0.1:1/a,b=c/d", null)]
    [InlineData("http:http://127.0.0.1:1/,text=open, b=c", null)]
    [InlineData("command:/bin/x a,b=c", null)]
    public void An_attribute_that_is_none_is_not_swallowed_by_what_stands_before_it(string word, string? said)
    {
        if (said is null)
            _ = WatchKeys.Watches.FromWord(word);
        else
            Assert.Contains(
                said,
                Assert.Throws<WordException>(() => WatchKeys.Watches.FromWord(word)).Message,
                StringComparison.Ordinal
            );
    }

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

    /// <summary>Whatever the steps are, TERM comes before the kill, unless it is the kill that was written, or nothing.</summary>
    [Fact]
    public void It_is_always_asked_to_end_before_it_is_killed() =>
        Steps
            .Array[0, 4]
            .Sample(steps =>
            {
                var given = ImmutableArray.Create(steps);
                var asked = WindDownKeys.AtLastAsked(given);
                Assert.Equal(given, asked[..given.Length]);
                Assert.Equal(asked, WindDownKeys.AtLastAsked(asked));
                Assert.True(
                    asked is [] or [.., SignalStep { Signal: "TERM" or "KILL" }]
                        && asked.Length - given.Length is 0 or 1
                );
                Assert.Equal(given.IsEmpty, asked.IsEmpty);
            });

    [Fact]
    public void What_is_written_reads_back_the_same() =>
        Any.Sample(definition =>
        {
            var (read, errors) = DefinitionReader.Read(DefinitionWriter.Write(definition));
            Assert.Empty(errors);
            Assert.Equivalent(definition with { Given = read!.Given }, read, strict: true);
        });

    [Fact]
    public void What_is_trimmed_to_what_was_given_reads_back_the_same() =>
        Any.Sample(definition =>
        {
            var whole = DefinitionReader.Read(DefinitionWriter.Write(definition)).Definition!;
            var (read, errors) = DefinitionReader.Read(DefinitionTrees.Trimmed(DefinitionWriter.Write(whole), whole));
            Assert.Empty(errors);
            Assert.Empty(DefinitionChanges.Between(whole, read!));
        });

    [Fact]
    public void Any_length_of_time_reads_back_the_same() =>
        Lengths.Sample(length =>
        {
            Assert.True(Duration.TryRead(Duration.Write(length), out var read));
            Assert.Equal(length, read);
        });

    [Fact]
    public void Any_set_of_processors_reads_back_the_same() =>
        Gen.Int[0, 1023]
            .Array[1, 40]
            .Sample(some =>
            {
                var set = some.Distinct().Order().ToArray();
                Assert.Equal(set, Processors.Read(Processors.Write(set)));
            });

    [Theory]
    [InlineData("day.book", true)]
    [InlineData("spool/*.t?t", true)]
    [InlineData("../day.book", false)]
    [InlineData("/srv/day.book", false)]
    [InlineData("*/day.book", false)]
    [InlineData("", false)]
    public void Data_is_named_from_the_directory(string path, bool isAllowed)
    {
        var (_, errors) = DefinitionReader.Read(
            Map(
                ("name", Text("x")),
                ("program", Map(("path", Text("/x")))),
                ("files", Map(("data", new ListNode([Text(path)]))))
            )
        );
        Assert.Equal(isAllowed ? [] : ["files.data[0]"], errors.Select(error => error.Key));
    }

    [Fact]
    public void A_restart_before_a_limit_is_reached_needs_a_limit()
    {
        Node Restart(params (string, Node)[] more) =>
            Map([
                ("name", Text("x")),
                ("program", Map(("path", Text("/x")))),
                ("rhythm", new ListNode([Map(("restart", Text("daily at 01:00")), ("ceiling-within", Text("26 h")))])),
                .. more,
            ]);
        Assert.Equal(["rhythm[0].ceiling-within"], DefinitionReader.Read(Restart()).Errors.Select(error => error.Key));
        Assert.Empty(DefinitionReader.Read(Restart(("resources", Map(("memory", Text("512 MiB")))))).Errors);
    }

    [Theory]
    [InlineData("program.pid-file", "stays", "pid-file", "/run/x.pid")]
    [InlineData("program.off", "detaches", "off", "[/bin/off]")]
    [InlineData("program.off", "toggles", "with", "/bin/sh")]
    [InlineData("program.secrets", "stays", "secrets", "[TIDE]")]
    public void What_contradicts_itself_is_named_with_its_place(string named, string kind, string key, string value)
    {
        Node given = value.StartsWith('[')
            ? new ListNode([new ScalarNode(value.Trim('[', ']'))], new Place(7, 9))
            : new ScalarNode(value, new Place(7, 9));
        var (_, errors) = DefinitionReader.Read(
            Map(
                ("name", Text("x")),
                (
                    "program",
                    new MapNode(
                        [
                            new("kind", Text(kind)),
                            new("path", Text("/x")),
                            new("environment", Map(("TIDE", Text("high")))),
                            new(key, given),
                        ],
                        new Place(2, 1)
                    )
                )
            )
        );
        var error = Assert.Single(errors);
        Assert.Equal(named, error.Key);
        Assert.NotNull(error.Place);
    }

    [Theory]
    [InlineData("10 s", 10)]
    [InlineData("1min", 60)]
    [InlineData("250 ms", 0.25)]
    [InlineData("1.5 h", 5400)]
    [InlineData("0", 0)]
    public void Lengths_are_read_with_and_without_a_space(string text, double seconds)
    {
        Assert.True(Duration.TryRead(text, out var length));
        Assert.Equal(seconds, length.TotalSeconds, 6);
    }

    [Theory]
    [InlineData("10")]
    [InlineData("ten s")]
    [InlineData("5 fortnights")]
    [InlineData("")]
    [InlineData("99999999 d")]
    public void What_is_no_length_is_refused(string text) => Assert.False(Duration.TryRead(text, out _));

    [Fact]
    public void Every_error_is_named_at_once_with_what_is_allowed_and_the_nearest_key()
    {
        var (definition, errors) = DefinitionReader.Read(
            Map(
                ("name", Text("Fare Ledger")),
                ("progam", Map(("path", Text("/srv/x")))),
                ("begin", Map(("at", Text("dawn")))),
                ("recover", Map(("pause", Map(("first", Text("soon")))))),
                ("wind-down", new ListNode([Map(("signal", Text("STOPP")))]))
            )
        );
        Assert.Null(definition);
        Assert.Equal(
            ["begin.at", "name", "progam", "program", "recover.pause.first", "wind-down[0].signal"],
            errors.Select(error => error.Key).Order()
        );
        Assert.Contains(
            "progam: not a key of this place; allowed: format, name,",
            errors.Single(error => error.Key == "progam").ToString(),
            StringComparison.Ordinal
        );
        Assert.Equal("program", errors.Single(error => error.Key == "progam").Nearest);
        Assert.Equal(
            "begin.at: 'dawn'; allowed: boot | boot-late | request | never",
            errors.Single(error => error.Key == "begin.at").ToString()
        );
    }

    [Fact]
    public void An_error_names_its_line_and_column_where_the_form_has_them()
    {
        var (_, errors) = DefinitionReader.Read(
            Map(("name", new ScalarNode("-x", new Place(3, 7))), ("program", Map(("path", Text("/x")))))
        );
        Assert.StartsWith(
            "line 3, column 7: name: '-x'; allowed: lower-case letters",
            Assert.Single(errors).ToString(),
            StringComparison.Ordinal
        );
    }

    [Theory]
    [InlineData("Fare ledger", "fare-ledger")]
    [InlineData("  Ærø – Gate № 3  ", "aero-gate-3")]
    [InlineData("Straße/Köln", "strasse-koln")]
    [InlineData("!!!", "")]
    public void Titles_become_short_names(string title, string name) => Assert.Equal(name, ServiceName.From(title));

    [Fact]
    public void A_made_name_is_valid_or_empty_and_stays_as_it_is() =>
        Gen.String.Sample(title =>
        {
            var name = ServiceName.From(title);
            Assert.True(name.Length == 0 || ServiceName.IsValid(name));
            Assert.Equal(name, ServiceName.From(name));
        });

    private static Gen<T> OneOf<T>(params T[] values) => Gen.Int[0, values.Length - 1].Select(i => values[i]);
}
