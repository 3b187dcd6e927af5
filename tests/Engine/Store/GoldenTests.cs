using System.Text.Json;
using System.Text.Json.Nodes;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Telling;
using CalmSentry.Store.Records;
using CalmSentry.Tests.Core.Entries;
using CalmSentry.Tests.Core.Lifecycle;
using CsCheck;

namespace CalmSentry.Tests.Engine.Store;

/// <summary>
/// What is stored has forms of its own. Each form there has been is kept in <c>golden</c>, as the programs of its time
/// wrote it; the form of today is written exactly as it stands there, so that it cannot change unnoticed.
/// </summary>
public class GoldenTests
{
    private static readonly string Golden = Path.Combine(AppContext.BaseDirectory, "Store", "golden");

    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    public static TheoryData<string> OldForms =>
        [
            .. Directory
                .GetFiles(Golden, "*.form-1.json")
                .Select(file => Path.GetFileName(file).Replace(".form-1.json", "", StringComparison.Ordinal))
                .Order(),
        ];

    [Theory]
    [MemberData(nameof(OldForms))]
    public void What_version_5_stored_is_written_in_the_form_of_today(string what)
    {
        var old = File.ReadAllText(Path.Combine(Golden, what + ".form-1.json"));
        Matches(what + ".form-2.json", Written(what, old));
    }

    [Theory]
    [MemberData(nameof(OldForms))]
    public void The_form_of_today_reads_back_as_it_was_written(string what)
    {
        var today = File.ReadAllText(Path.Combine(Golden, what + ".form-2.json"));
        Matches(what + ".form-2.json", Written(what, today));
    }

    [Fact]
    public void A_form_of_a_later_version_is_refused_rather_than_misread() =>
        Assert.Contains(
            "written by a later version",
            Assert.Throws<JsonException>(() => SituationJson.Read("""{"form":3,"phase":"stopped"}""")).Message,
            StringComparison.Ordinal
        );

    [Fact]
    public void An_entry_has_all_its_fields_in_the_form_of_today()
    {
        var fields = new EntryFields
        {
            Run = new(3),
            Pid = 4711,
            Outcome = new(OutcomeKind.Signalled, 11, Core: true, Detail: "its memory reached the limit"),
            FailedStart = true,
            Forced = true,
            Took = TimeSpan.FromSeconds(1.5),
            Usual = TimeSpan.FromSeconds(1),
            Limit = TimeSpan.FromMinutes(10),
            Pause = TimeSpan.FromSeconds(2),
            Count = 4,
            Revision = 7,
            Name = "tide-store",
            Names = ["a", "b"],
            Seen = "it answered 503",
            Changes = [new("program.path", "/srv/a", "/srv/b")],
            Next = EntryNext.Restart,
        };
        var entry = new OtherEntry(EntryKinds.Other, fields, "it answered 503");
        Matches("entry.form-2.json", EntryJson.Write(entry));
        Assert.Equivalent(entry, EntryJson.Read("of a later version", EntryJson.Write(entry), ""), strict: true);
    }

    [Fact]
    public void A_plan_has_all_its_fields_in_the_form_of_today()
    {
        var at = new DateTimeOffset(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);
        var plan = new Plan
        {
            Kind = PlanKind.Drill,
            By = Principal.Drill,
            Began = at,
            Step = PlanStep.Beginning,
            Stops =
            [
                new("departure-board", [])
                {
                    AskedAt = at,
                    Run = new(7),
                    DownAt = at.AddSeconds(2),
                    Forced = true,
                },
                new("tide-store", ["departure-board"]),
            ],
            BegunAt = at.AddSeconds(3),
            Begins = [new("tide-store", Asked: true, new(4)), new("departure-board")],
            Afterwards = ["quay-lamps"],
            ForceAt = at.AddMinutes(1),
            Forced = true,
        };
        var frame = new ClockStamp(at.AddSeconds(4), 5_000);
        Matches("plan.json", PlanJson.Write(plan, frame));
        var read = PlanJson.Read(PlanJson.Write(plan, frame));
        Assert.Equivalent(plan, read.Plan, strict: true);
        Assert.Equal(frame, read.Saved);
    }

    [Fact]
    public void An_alert_has_all_its_fields_in_the_form_of_today()
    {
        var at = new DateTimeOffset(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);
        var alert = new Alert
        {
            Number = 12,
            Cause = new(CauseKind.Path, "/mnt/manifests"),
            Began = at,
            Affected =
            [
                new("fare-ledger", "Fare ledger", at, 7, "Run 4 exited with code 3.", Topic.Down)
                {
                    Labels = ["money"],
                    Times = 2,
                    IsWell = true,
                },
                new(null, "quay-host", at, 8, null, Topic.Disk),
            ],
            More = 3,
            Joined = at.AddSeconds(1),
            WellSince = at.AddSeconds(2),
            OverAt = at.AddSeconds(3),
            Returns = 1,
            PartOf = 11,
            Taken = new("anna", at.AddSeconds(4), "I look at it"),
            Heard = [new("office", at, [at, at.AddSeconds(5)], true, 2, Topic.Down, 2)],
        };
        var frame = new ClockStamp(at.AddSeconds(4), 5_000);
        Matches("alert.json", AlertJson.Write(alert, frame));
        var read = AlertJson.Read(AlertJson.Write(alert, frame));
        Assert.Equivalent(alert, read.Alert, strict: true);
        Assert.Equal(frame, read.Saved);
    }

    [Fact]
    public void A_message_has_all_its_fields_in_the_form_of_today()
    {
        var message = new Message
        {
            Kind = MessageKind.Again,
            Alert = 12,
            Host = "quay-host",
            At = new DateTimeOffset(2026, 3, 1, 8, 0, 0, TimeSpan.Zero),
            Urgency = Urgency.Urgent,
            Service = "fare-ledger",
            Topic = Topic.Down,
            Subject = "Again: Fare ledger failed and stays stopped",
            Lead = "It needs attention.",
            Parts = [new("What it printed last", ["paper is out"], Quoted: true), new(null, ["calm why fare-ledger"])],
            InsteadOf = "office",
            Strips = [new("fare-ledger", "Fare ledger", [new(0.25, 0.5, ServiceTime.Fallen)])],
            Scale = ["07:00", "13:00"],
        };
        Matches("message.json", MessageJson.Write(message));
        Assert.Equivalent(message, MessageJson.Read(MessageJson.Write(message)), strict: true);
    }

    /// <summary>Of a question that is asked, and of answers that were given, nothing is lost with the server.</summary>
    [Fact]
    public void What_is_asked_at_a_terminal_is_read_back()
    {
        var at = new DateTimeOffset(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);
        var now = Situation.New(at) with
        {
            DisplayFalls = [at],
            Answers = [new("Overwrite? [y/N] ", new(3), at)],
            Run = new(new(4), Cause.Asked, at)
            {
                Question = new("Which berth? ", 120, at) { Answered = true, Told = "It asks." },
                Dialog = new("Paper", 6291459, at) { Told = "It asks in a window." },
            },
        };
        Assert.Equivalent(now, SituationJson.Read(SituationJson.Write(now)), strict: true);
    }

    [Fact]
    public void A_swap_has_all_its_fields_in_the_form_of_today()
    {
        var at = new DateTimeOffset(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);
        var swap = new Swap
        {
            By = Principal.Rhythm,
            Began = at,
            Directory = "/srv/skerry/board",
            Data = ["day.book"],
            Before = new(2, "1001"),
            Version = new(3, "1002"),
            IsNew = true,
            WatchFor = TimeSpan.FromMinutes(1),
            Dependents = ["quay-lamps"],
            IsJob = true,
            WasUp = true,
            Step = SwapStep.StoppingAgain,
            From = new(4),
            ProvenAt = at.AddSeconds(3),
            Why = "run 5 exited with code 3",
            FailedRun = new(5),
            Down = "it was stopped meanwhile",
            Stuck = true,
            Found = 3,
        };
        var frame = new ClockStamp(at.AddSeconds(4), 5_000);
        Matches("swap.json", SwapJson.Write(swap, frame));
        var read = SwapJson.Read(SwapJson.Write(swap, frame));
        Assert.Equivalent(swap, read.Swap, strict: true);
        Assert.Equal(frame, read.Saved);
    }

    /// <summary>Words are stored, and asked for: none changes, and none goes.</summary>
    [Fact]
    public void Every_kind_of_an_entry_has_its_word() =>
        Matches("entry-kinds.json", $"""["{string.Join("\",\"", EntryKinds.All.Select(kind => kind.Word))}"]""");

    [Fact]
    public void Every_kind_of_an_entry_has_a_sentence_and_reads_back_by_its_word() =>
        Assert.All(
            EntryKinds.All,
            kind =>
            {
                var entry = AnyEntry.Of(kind, "it was seen") with { From = "console" };
                Assert.False(string.IsNullOrWhiteSpace(entry.Text));
                var read = EntryJson.Read(kind.Word, EntryJson.Write(entry), "");
                Assert.Equal((entry.Kind, entry.Text, entry.From), (read.Kind, read.Text, read.From));
                Assert.Equivalent(entry, read, strict: true);
            }
        );

    [Fact]
    public void An_entry_that_somebody_changed_keeps_nobody_from_reading_the_rest()
    {
        Assert.Equal("An entry 'fell' whose fields do not fit it.", EntryJson.Read("fell", """{"form":2}""", "").Text);
        Assert.Equal(
            "An entry 'fell' whose fields do not fit it.",
            EntryJson.Read("fell", """{"form":2,"run":1,"outcome":{"kind":"exited"},"next":"restart"}""", "").Text
        );
        Assert.Equal("An entry 'fell' whose fields cannot be read.", EntryJson.Read("fell", "{", "").Text);
    }

    [Theory]
    [InlineData(
        "then",
        """{"begin":{"needs":[{"network":"up","then":"hold"}]}}""",
        """{"begin":{"needs":[{"network":"up","follows":"hold"}]}}"""
    )]
    [InlineData(
        "told",
        """{"begin":{"proof":{"told":"ready","within":"5s"}}}""",
        """{"begin":{"proof":{"said":"serves","within":"5s"}}}"""
    )]
    [InlineData("tasks", """{"resources":{"tasks":"5"}}""", """{"resources":{"tree-size":"5"}}""")]
    [InlineData(
        "stop",
        """{"program":{"path":"/x","stop":["/y","off"],"with":"/z"}}""",
        """{"program":{"path":"/x","off":["/y","off"],"with":"/z"}}"""
    )]
    [InlineData(
        "watches",
        """{"watch":[{"alive-within":"1s","every":"2s"},{"children-above":"3","for":"4s","then":"note"}]}""",
        """{"watch":[{"well-within":"1s","beat":"2s"},{"tree-above":"3","lasting":"4s","follows":"note"}]}"""
    )]
    public void A_definition_in_old_words_is_brought_up_in_place(string _, string old, string today) =>
        Assert.Equal(today, DocumentForms.From1(old));

    /// <summary>A key that was renamed is brought up wherever the stored words of before know it.</summary>
    [Fact]
    public void Every_renamed_key_is_brought_up()
    {
        var renamed = Renamed(DefinitionKeys.All).Distinct().ToList();
        Assert.NotEmpty(renamed);
        Assert.All(
            renamed,
            key =>
            {
                var given = new JsonObject
                {
                    ["program"] = Holder(key),
                    ["resources"] = Holder(key),
                    ["begin"] = new JsonObject { ["proof"] = Holder(key), ["needs"] = new JsonArray(Holder(key)) },
                    ["watch"] = new JsonArray(Holder(key)),
                };
                Assert.Contains($"\"{key.Now}\"", DocumentForms.From1(given.ToJsonString()), StringComparison.Ordinal);
            }
        );
    }

    [Fact]
    public void Any_situation_reads_back_as_it_was_written() =>
        AnyLife.Situations.Sample(
            situation => Assert.Equivalent(situation, SituationJson.Read(SituationJson.Write(situation)), strict: true),
            iter: 300
        );

    private static JsonObject Holder((string Was, string Now) key) => new() { [key.Was] = "x" };

    private static IEnumerable<(string Was, string Now)> Renamed(IEnumerable<Key> keys) =>
        keys.SelectMany(key =>
            (key.Was is { } was ? [(was, key.Name)] : Array.Empty<(string, string)>()).Concat(Renamed(key.Inner))
        );

    /// <summary>Read in whatever form it has, and written in today's.</summary>
    private static string Written(string what, string json) =>
        what.Split('.')[0] switch
        {
            "situation" => SituationJson.Write(SituationJson.Read(json)),
            "steps" => StepsJson.Write(StepsJson.Read(json))!,
            "evidence" => EvidenceJson.Write(EvidenceJson.Read(json)),
            "report" => ReportJson.Write(ReportJson.Read(json)),
            "origin" => OriginJson.Write(OriginJson.Read(json))!,
            var other => throw new InvalidOperationException(other),
        };

    private static void Matches(string name, string json)
    {
        var indented = JsonNode.Parse(json)!.ToJsonString(Indented) + "\n";
        var file = Path.Combine(Golden, name);
        if (Environment.GetEnvironmentVariable("CALM_GOLDEN") is { Length: > 0 } folder)
            File.WriteAllText(Path.Combine(folder, name), indented); // a new form: read it before it is kept
        else
            Assert.Equal(File.ReadAllText(file), indented);
    }
}
