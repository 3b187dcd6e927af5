using CalmSentry.Core.Entries;
using CalmSentry.Core.Telling;
using CsCheck;

namespace CalmSentry.Tests.Core.Telling;

/// <summary>One cause, one message: what is gathered, who is told when, and how much at most.</summary>
public class AlertLifeTests
{
    private static readonly TimeSpan Minute = TimeSpan.FromMinutes(1),
        Hour = TimeSpan.FromHours(1);

    private static IEnumerable<MessageKind> Kinds(Wire wire, string recipient = "office") =>
        wire.All.Where(sent => sent.Recipient == recipient).Select(sent => sent.Kind);

    [Fact]
    public void What_needs_somebody_is_told_at_once_and_its_end_to_whoever_heard_of_its_beginning()
    {
        var wire = new Wire(Wire.Office);
        wire.Raise("fare-ledger", Topic.Held);
        Assert.Equal([MessageKind.Begins], Kinds(wire));
        Assert.Equal(Wire.Start, wire.All[0].At);
        wire.Go(Minute);
        wire.Mend("fare-ledger");
        var well = wire.Now;
        wire.Go(new Pace().Steady - TimeSpan.FromSeconds(1));
        Assert.Single(wire.All);
        wire.Go(TimeSpan.FromSeconds(2));
        Assert.Equal([MessageKind.Begins, MessageKind.Over], Kinds(wire));
        Assert.True(wire.All[1].At - well >= new Pace().Steady);
        Assert.StartsWith("Over: ", wire.All[1].Message.Subject, StringComparison.Ordinal);
    }

    [Fact]
    public void A_service_that_gets_another_name_keeps_its_alert()
    {
        var wire = new Wire(Wire.Office);
        wire.Raise("fare-ledger", Topic.Held);
        wire.Rename("fare-ledger", "fares");
        wire.Go(Hour);
        var alert = Assert.Single(wire.Alerts.All.Values);
        Assert.Null(alert.OverAt);
        Assert.Equal("fares", alert.Affected[0].Service);
        Assert.DoesNotContain(MessageKind.Over, Kinds(wire));
        wire.Raise("fares", Topic.Held);
        Assert.Single(wire.Alerts.All);
        wire.Mend("fares");
        wire.Go(Hour);
        Assert.Contains(MessageKind.Over, Kinds(wire));
    }

    [Fact]
    public void Coming_back_counts_only_once_it_has_stayed_up()
    {
        var wire = new Wire(Wire.Office);
        wire.Raise("fare-ledger", Topic.Poor);
        for (var i = 0; i < 10; i++)
        {
            wire.Mend("fare-ledger");
            wire.Go(new Pace().Steady / 2);
            wire.Raise("fare-ledger", Topic.Poor);
            wire.Go(Minute);
        }

        Assert.Equal([MessageKind.Begins], Kinds(wire));
    }

    [Fact]
    public void A_thousand_that_fail_from_one_missing_share_make_one_message_and_one_more_that_names_them_all()
    {
        var wire = new Wire(Wire.Office);
        var share = new AlertCause(CauseKind.Path, "/mnt/manifests");
        for (var i = 0; i < 1000; i++)
        {
            wire.Raise($"export-{i}", Topic.Down, share);
            if (i == 0)
                Assert.Single(wire.All);
            if (i % 170 == 0)
                wire.Go(TimeSpan.FromSeconds(1));
        }

        wire.Go(Hour);
        Assert.Equal([MessageKind.Begins, MessageKind.Grows], Kinds(wire));
        var text = MessageText.Plain(wire.All[1].Message);
        Assert.All(Enumerable.Range(0, 1000), i => Assert.Contains($"export-{i}", text, StringComparison.Ordinal));
        Assert.Contains("/mnt/manifests", wire.All[1].Message.Subject, StringComparison.Ordinal);
        Assert.Contains("1000 services", wire.All[1].Message.Subject, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData(10)]
    [InlineData(40)]
    [InlineData(90)]
    public void One_that_comes_and_goes_for_a_day_makes_five_messages_at_most(int minutes)
    {
        var wire = new Wire(Wire.Office);
        while (wire.Now < Wire.Start.AddDays(1))
        {
            wire.Raise("gate-counter", Topic.Poor);
            wire.Go(TimeSpan.FromSeconds(30), TimeSpan.FromSeconds(10));
            wire.Mend("gate-counter");
            wire.Go(TimeSpan.FromMinutes(minutes), TimeSpan.FromSeconds(10));
        }

        Assert.InRange(wire.All.Count, 2, AlertLife.MostADay);
    }

    [Fact]
    public void What_needs_a_service_in_trouble_is_named_inside_its_alert()
    {
        var graph = Wire.Needs("fare-ledger", "departure-board:fare-ledger", "ticket-spooler:fare-ledger");
        var wire = new Wire(Wire.Office) { Graph = graph };
        wire.Raise("fare-ledger", Topic.Held);
        wire.Raise("departure-board", Topic.NeedMissing, AlertCause.Of("fare-ledger"));
        wire.Raise("ticket-spooler", Topic.NeedMissing, AlertCause.Of("fare-ledger"));
        wire.Go(Minute);
        Assert.Equal([MessageKind.Begins, MessageKind.Grows], Kinds(wire));
        Assert.Contains("and 2 more services are affected", wire.All[1].Message.Subject, StringComparison.Ordinal);
        Assert.StartsWith("fare-ledger is on hold", wire.All[1].Message.Subject, StringComparison.Ordinal);
    }

    [Fact]
    public void A_cause_that_shows_later_takes_those_in_that_failed_because_of_it()
    {
        var graph = Wire.Needs("fare-ledger", "departure-board:fare-ledger", "ticket-spooler:fare-ledger");
        var wire = new Wire(Wire.Office) { Graph = graph };
        wire.Raise("departure-board", Topic.Poor);
        wire.Go(TimeSpan.FromSeconds(30));
        wire.Raise("ticket-spooler", Topic.Down);
        wire.Go(TimeSpan.FromSeconds(30));
        wire.Raise("fare-ledger", Topic.Held);
        wire.Go(Hour);
        var open = wire.Alerts.All.Values.Where(alert => alert.OverAt is null).ToList();
        var one = Assert.Single(open);
        Assert.Equal(
            ["departure-board", "fare-ledger", "ticket-spooler"],
            one.Affected.Select(affected => affected.Service).Order()
        );
        Assert.Equal(AlertCause.Of("fare-ledger"), one.Cause);
        // The first of the two has it all; of the other nobody hears that it is over, for it is not.
        Assert.Equal(1, wire.Alerts.All[2].PartOf);
        Assert.DoesNotContain(MessageKind.Over, Kinds(wire));
        wire.Mend("departure-board", "ticket-spooler", "fare-ledger");
        wire.Go(Hour);
        Assert.Equal(1, Kinds(wire).Count(kind => kind == MessageKind.Over));
    }

    [Fact]
    public void Services_to_which_the_same_happens_together_are_one_alert_others_are_not()
    {
        var wire = new Wire(Wire.Office);
        foreach (var service in (string[])["a", "b", "c", "d"])
            wire.Raise(service, Topic.Down);
        wire.Raise("e", Topic.Poor);
        wire.Go(Minute);
        wire.Raise("f", Topic.Down);
        // Two may be chance; of more the first alert has all.
        Assert.Equal(
            [
                ["a", "b", "c", "d"],
                ["e"],
                ["f"],
            ],
            Standing(wire)
        );
    }

    /// <summary>Which services stand in one alert.</summary>
    private static IEnumerable<IEnumerable<string?>> Standing(Wire wire) =>
        wire
            .Alerts.All.Values.Where(alert => alert is { OverAt: null, PartOf: null })
            .Select(alert => alert.Affected.Select(one => one.Service).Order());

    [Fact]
    public void In_whatever_order_it_is_known_what_happened_within_ten_seconds_is_one_alert() =>
        Gen.Int[0, 10_000]
            .Array[3, 12]
            .Array[1, 3]
            .Select(Gen.Int[0, int.MaxValue])
            .Sample(
                (moments, seed) =>
                {
                    var wire = new Wire(Wire.Office);
                    wire.Go(Minute);
                    var all = moments
                        .SelectMany(
                            (moment, i) =>
                                moment.Select(
                                    (at, j) => ($"m{i}-{j:00}", Wire.Start.AddSeconds(i * 21).AddMilliseconds(at))
                                )
                        )
                        .ToArray();
                    new Random(seed).Shuffle(all);
                    foreach (var (service, at) in all)
                        wire.Raise(service, Topic.Down, at);
                    Assert.Equal(
                        moments.Select((moment, i) => moment.Select((_, j) => $"m{i}-{j:00}")).Order(new ByFirst()),
                        Standing(wire).Order(new ByFirst())
                    );
                },
                iter: 300
            );

    private sealed class ByFirst : IComparer<IEnumerable<string?>>
    {
        public int Compare(IEnumerable<string?>? one, IEnumerable<string?>? other) =>
            string.CompareOrdinal(one?.First(), other?.First());
    }

    [Fact]
    public void What_happens_to_six_at_once_three_times_over_is_one_alert_each_time()
    {
        var wire = new Wire(Wire.Office);
        string[] six = ["z1", "z2", "z3", "z4", "z5", "z6"];
        for (var time = 1; time <= 3; time++)
        {
            foreach (var one in time == 2 ? six.Reverse() : six)
                wire.Raise(one, Topic.Down);
            Assert.Equal([six], Standing(wire));
            wire.Go(Minute);
            wire.Mend(six);
            wire.Go(time == 1 ? Minute : Hour); // over, or not yet
        }
    }

    /// <summary>However one failure follows another, nobody waits for the next to be told of the last.</summary>
    [Fact]
    public void Whoever_fails_is_named_within_the_time_to_gather_and_ten_seconds_more() =>
        Gen.Int[0, 14_000]
            .Array[2, 40]
            .Sample(
                gaps =>
                {
                    var wire = new Wire(Wire.Office);
                    var raised = new Dictionary<string, DateTimeOffset>();
                    foreach (var gap in gaps)
                    {
                        wire.Go(TimeSpan.FromMilliseconds(gap), TimeSpan.FromMilliseconds(500));
                        var name = $"service-{raised.Count:00}";
                        raised[name] = wire.Now;
                        wire.Raise(name, Topic.StartFailed);
                    }

                    wire.Go(Minute);
                    foreach (var (name, at) in raised)
                    {
                        var told = wire
                            .All.Where(sent => MessageText.Plain(sent.Message).Contains(name, StringComparison.Ordinal))
                            .Select(sent => sent.At - at)
                            .DefaultIfEmpty(TimeSpan.MaxValue)
                            .Min();
                        Assert.True(
                            told <= wire.Pace.Gather + AlertLife.Together + TimeSpan.FromSeconds(1),
                            $"{name} was told after {told}"
                        );
                    }
                },
                iter: 100
            );

    [Fact]
    public void What_happens_to_another_at_the_same_time_is_not_drawn_into_its_cause()
    {
        var graph = Wire.Needs("fare-ledger", "departure-board:fare-ledger", "tide-alarm");
        var wire = new Wire(Wire.Office) { Graph = graph };
        wire.Raise("departure-board", Topic.Held);
        wire.Raise("tide-alarm", Topic.Held);
        wire.Go(TimeSpan.FromSeconds(3));
        wire.Raise("fare-ledger", Topic.Held);
        Assert.Null(wire.Alerts.All[2].PartOf);
        Assert.Equal(["tide-alarm"], wire.Alerts.All[2].Affected.Select(one => one.Service));
        Assert.Equal(AlertCause.Of("fare-ledger"), wire.Alerts.All[1].Cause);
    }

    [Fact]
    public void What_has_happened_and_is_past_is_told_once_and_has_no_end()
    {
        var wire = new Wire(Wire.Office);
        wire.Raise("departure-board", Topic.SwapFailed);
        wire.Raise("spooler", Topic.Expiring);
        wire.Go(2 * Hour);
        Assert.Equal([MessageKind.Begins, MessageKind.Begins], Kinds(wire));
        // Again within the day: the same thread.
        wire.Raise("spooler", Topic.Expiring);
        Assert.Equal(MessageKind.Again, wire.All[^1].Kind);
        Assert.Equal(2, wire.Alerts.Last);
        // Somebody may say that it is done with; of a trouble that goes on nobody can.
        wire.Close(2);
        Assert.NotNull(wire.Alerts.All[2].OverAt);
        wire.Raise("spooler", Topic.Held);
        wire.Close(3);
        Assert.Null(wire.Alerts.All[3].OverAt);
    }

    [Fact]
    public void What_asks_for_somebody_goes_on_until_one_has_seen_it_or_it_says_that_it_needs_nobody()
    {
        var wire = new Wire(Wire.Office);
        wire.Raise("spooler", Topic.Held);
        wire.Raise("spooler", Topic.Asks);
        wire.Go(2 * Hour);
        Assert.Null(wire.Alerts.All[2].WellSince);
        // Another question is not lost in the one before.
        wire.Raise("spooler", Topic.Asks);
        wire.Go(Minute);
        Assert.Equal([MessageKind.Begins, MessageKind.Begins, MessageKind.Grows], Kinds(wire));
        wire.Acknowledge(2);
        Assert.NotNull(wire.Alerts.All[2].OverAt);
        wire.Go(Hour);
        Assert.Equal(3, wire.All.Count);

        wire.Raise("turnstile", Topic.Asks);
        wire.Hear("turnstile", new AnsweredEntry(null, "the paper is in"));
        wire.Go(Hour);
        Assert.Equal(
            [MessageKind.Begins, MessageKind.Over],
            wire.All.Where(sent => sent.Alert == 3).Select(sent => sent.Kind)
        );
        Assert.Null(wire.Alerts.All[1].OverAt);
    }

    /// <summary>What a program asks at its terminal, and what it says itself, are two things, and end each by themselves.</summary>
    [Fact]
    public void What_it_asks_at_its_terminal_is_an_alert_of_its_own_until_the_question_is_gone()
    {
        var wire = new Wire(Wire.Office);
        wire.Raise("spooler", Topic.Asks);
        wire.Hear("spooler", new QuestionEntry(new(1), "Overwrite? [y/N] ", 3), tells: true);
        wire.Go(Minute);
        Assert.Equal(AlertCause.Of("spooler"), wire.Alerts.All[1].Cause);
        Assert.Equal(new(CauseKind.Terminal, "spooler"), wire.Alerts.All[2].Cause);
        Assert.Equal("spooler probably asks for somebody at its terminal", wire.All[^1].Message.Subject);
        wire.Hear("spooler", new QuestionOverEntry(new(1), Minute));
        wire.Go(Hour);
        Assert.Equal((null, true), (wire.Alerts.All[1].OverAt, wire.Alerts.All[2].OverAt is not null));
        wire.Hear("spooler", new AnsweredEntry(null, null));
        wire.Go(Hour);
        Assert.NotNull(wire.Alerts.All[1].OverAt);
    }

    [Fact]
    public void A_run_that_is_late_is_an_alert_of_its_own_until_it_is_not()
    {
        var wire = new Wire(Wire.Office);
        wire.Raise("tide-pull", Topic.FailsOften);
        wire.Raise("tide-pull", Topic.JobLate);
        wire.Go(2 * Hour);
        Assert.Equal((2L, null), (wire.Alerts.Last, wire.Alerts.All[2].OverAt));
        wire.Mend("tide-pull");
        wire.Go(Hour);
        Assert.Equal(
            [MessageKind.Begins, MessageKind.Over],
            wire.All.Where(sent => sent.Alert == 2).Select(sent => sent.Kind)
        );
    }

    [Fact]
    public void What_is_put_aside_is_told_again_at_its_time_if_it_is_still_so()
    {
        var wire = new Wire(Wire.Office);
        wire.Raise("fare-ledger", Topic.Held);
        wire.Raise("tide-alarm", Topic.Poor);
        wire.Go(Minute);
        wire.Acknowledge(1, wire.Now + 2 * Hour);
        wire.Acknowledge(2, wire.Now + 2 * Hour);
        wire.Go(Hour);
        wire.Mend("tide-alarm");
        wire.Go(Hour - Minute);
        Assert.DoesNotContain(wire.All, sent => sent.Kind == MessageKind.Stays);
        wire.Go(2 * Minute);
        var again = Assert.Single(wire.All, sent => sent.Kind == MessageKind.Stays);
        Assert.Equal((1L, null), (again.Alert, wire.Alerts.All[1].Taken));
        wire.Go(Hour);
        Assert.Single(wire.All, sent => sent.Kind == MessageKind.Stays);
    }

    [Fact]
    public void What_is_over_has_the_title_by_which_it_was_told()
    {
        var wire = new Wire(Wire.Office);
        wire.Raise("quay-bell", Topic.Held);
        wire.Go(Minute);
        wire.Mend("quay-bell");
        wire.Go(Minute);
        wire.Raise("quay-bell", Topic.FailsOften);
        wire.Go(Minute);
        wire.Mend("quay-bell");
        wire.Go(Hour);
        Assert.Equal("Over: quay-bell is on hold", wire.All[^1].Message.Subject);
    }

    [Fact]
    public void While_somebody_looks_at_it_nobody_is_told_again_and_nobody_else_in_their_place()
    {
        var master = new Recipient(new MailWay("master@skerry.example")) { Name = "master", Services = ["none"] };
        var office = Wire.Office with { Next = "master", After = 30 * Minute };
        var wire = new Wire(office, master);
        wire.Raise("fare-ledger", Topic.Held);
        wire.Go(29 * Minute);
        Assert.Empty(Kinds(wire, "master"));
        wire.Go(2 * Minute);
        Assert.Equal([MessageKind.Begins], Kinds(wire, "master"));
        wire.Go(TimeSpan.FromDays(1), Minute);
        Assert.Equal([MessageKind.Begins, MessageKind.Stays], Kinds(wire));

        var calm = new Wire(office, master);
        calm.Raise("fare-ledger", Topic.Held);
        calm.Go(Minute);
        calm.Acknowledge(1);
        calm.Raise("gate-counter", Topic.Held, AlertCause.Of("fare-ledger"));
        calm.Go(TimeSpan.FromDays(2), Minute);
        Assert.Equal([MessageKind.Begins], Kinds(calm));
        Assert.Empty(Kinds(calm, "master"));
        calm.Mend("fare-ledger", "gate-counter");
        calm.Go(10 * Minute);
        Assert.Equal([MessageKind.Begins, MessageKind.Over], Kinds(calm));
    }

    [Fact]
    public void What_can_wait_waits_for_the_recipients_hours_what_cannot_does_not()
    {
        Assert.True(RecipientKeys.HoursOfDay.Read("mon-fri 09:00-17:00", out var hours));
        var wire = new Wire(Wire.Office with { Hours = hours });
        wire.Raise("departure-board", Topic.SwapFailed);
        Assert.Empty(wire.All);
        wire.Raise("fare-ledger", Topic.Held);
        Assert.Single(wire.All);
        wire.Go(2 * Hour);
        var kept = Assert.Single(wire.All, sent => sent.Alert == 1);
        Assert.Equal(Wire.Start.Date.AddHours(9), kept.At.UtcDateTime);
    }

    [Fact]
    public void A_recipient_hears_of_its_services_labels_and_topics_alone()
    {
        var money = new Recipient(new MailWay("money@skerry.example")) { Name = "money", Labels = ["money"] };
        var one = new Recipient(new MailWay("one@skerry.example")) { Name = "one", Services = ["gate-counter"] };
        var each = new Recipient(new MailWay("each@skerry.example")) { Name = "each", About = ["restarted"] };
        var wire = new Wire(money, one, each);
        wire.Raise("fare-ledger", Topic.Held, null, "money", "quay");
        wire.Raise("gate-counter", Topic.Restarted);
        wire.Go(Minute);
        Assert.Equal([MessageKind.Begins], Kinds(wire, "money"));
        Assert.Empty(Kinds(wire, "one"));
        Assert.Equal("gate-counter", Assert.Single(wire.All, sent => sent.Recipient == "each").Message.Service);
        wire.Raise("gate-counter", Topic.Held);
        wire.Go(Minute);
        Assert.Equal([MessageKind.Begins], Kinds(wire, "one"));
        Assert.Single(Kinds(wire, "money"));
    }

    [Fact]
    public void Something_worse_is_told_before_its_time()
    {
        var wire = new Wire(Wire.Office);
        wire.Raise("gate-counter", Topic.Poor);
        wire.Go(Minute);
        wire.Raise("gate-counter", Topic.Held);
        Assert.Equal([MessageKind.Begins, MessageKind.Worse], Kinds(wire));
    }

    private enum Act
    {
        Raise,
        Mend,
        Wait,
        WaitLong,
        Acknowledge,
    }

    /// <summary>Whatever happens in whatever order, on whatever clock.</summary>
    [Fact]
    public void Laws()
    {
        var graph = Wire.Needs("a", "b:a", "c:b", "d", "e:d:a");
        var topics = Enum.GetValues<Topic>();
        Gen.Select(Gen.Enum<Act>(), Gen.Int[0, 4], Gen.Int[0, topics.Length - 1], Gen.Int[1, 400])
            .Array[1, 60]
            .Sample(
                acts =>
                {
                    var next = new Recipient(new MailWay("next@skerry.example"))
                    {
                        Name = "next",
                        UrgentOnly = true,
                        Services = ["e"],
                    };
                    var wire = new Wire(Wire.Office with { Next = "next", After = Minute }, next) { Graph = graph };
                    var highest = 0L;
                    foreach (var (act, service, topic, length) in acts)
                    {
                        var (name, before) = ($"{(char)('a' + service)}", wire.All.Count);
                        switch (act)
                        {
                            case Act.Raise:
                                wire.Raise(name, topics[topic]);
                                Assert.True(
                                    !Topics.IsUsual(topics[topic]) || IsKnown(wire, name, topics[topic]),
                                    $"{name} {topics[topic]} is in no alert"
                                );
                                break;
                            case Act.Mend:
                                wire.Mend(name);
                                break;
                            case Act.Wait:
                                wire.Go(TimeSpan.FromSeconds(length), TimeSpan.FromSeconds(5));
                                break;
                            case Act.WaitLong:
                                wire.Go(TimeSpan.FromMinutes(length), Minute);
                                break;
                            case Act.Acknowledge when wire.Alerts.All.Values.FirstOrDefault(IsOpen) is { } open:
                                wire.Acknowledge(open.Number);
                                break;
                        }

                        Assert.True(wire.Alerts.Last >= highest);
                        highest = wire.Alerts.Last;
                    }

                    foreach (var thread in wire.All.GroupBy(sent => (sent.Recipient, sent.Alert)))
                        Holds([.. thread], wire.TookOver.Contains(thread.Key.Alert));
                    foreach (var alert in wire.Alerts.All.Values)
                        Assert.Equal(
                            alert.Affected.Length,
                            alert.Affected.Select(one => one.Service).Distinct().Count()
                        );
                },
                iter: 300
            );

        static bool IsOpen(Alert alert) => alert is { OverAt: null, PartOf: null };

        static bool IsKnown(Wire wire, string service, Topic topic) =>
            wire.Alerts.All.Values.Any(alert =>
                alert.PartOf is null && alert.Affected.Any(one => one.Service == service && one.Worst <= topic)
            );
    }

    /// <summary>What one recipient hears of one alert.</summary>
    /// <param name="tookOver">It took another one in, of which that recipient may have heard.</param>
    private static void Holds(List<Wire.Sent> thread, bool tookOver)
    {
        Assert.True(tookOver || thread[0].Kind == MessageKind.Begins, $"{thread[0].Kind} comes first");
        for (var i = 1; i < thread.Count; i++)
        {
            var (before, kind) = (thread[i - 1].Kind, thread[i].Kind);
            Assert.NotEqual(MessageKind.Begins, kind);
            // After its end only a return, and a return only after its end; what is past has none that is told, nor has what somebody has seen.
            var lasting = Topics.Of(thread[i].Message.Topic!.Value).Lasting;
            if (before == MessageKind.Over || lasting is not (Lasting.No or Lasting.UntilSeen))
                Assert.Equal(before == MessageKind.Over, kind == MessageKind.Again);
            else if (lasting == Lasting.No)
                Assert.NotEqual(MessageKind.Over, kind);
            if (i >= AlertLife.MostADay)
                Assert.True(
                    thread[i].At - thread[i - AlertLife.MostADay].At >= TimeSpan.FromDays(1),
                    "more than five within a day"
                );
        }
    }
}
