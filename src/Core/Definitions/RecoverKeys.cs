using System.Diagnostics.CodeAnalysis;
using CalmSentry.Core.Text;
using static CalmSentry.Core.Definitions.KeyOf<CalmSentry.Core.Definitions.RecoverPart>;

namespace CalmSentry.Core.Definitions;

/// <summary>The keys of <c>recover</c>.</summary>
public static class RecoverKeys
{
    public static Form<RecoverAfter> After { get; } =
        Forms.Choice(
            ("failure", RecoverAfter.Failure),
            ("any-end", RecoverAfter.AnyEnd),
            ("never", RecoverAfter.Never)
        );

    /// <summary>What may follow an exit code or signal.</summary>
    public static Form<CodeFollow> Code { get; } =
        Forms.Choice(
            ("done", CodeFollow.Done),
            ("again", CodeFollow.Again),
            ("again-at-once", CodeFollow.AgainAtOnce),
            ("hold", CodeFollow.Hold),
            ("stop-dependents", CodeFollow.StopDependents)
        );

    private static readonly Form<string> End = Forms.Text(
        $"an exit code from 0 to 255, or a signal: {string.Join(", ", SignalNames.Ends.Keys.Order(StringComparer.Ordinal))}"
    ) with
    {
        Read = (string text, [MaybeNullWhen(false)] out string end) =>
            SignalNames.Ends.ContainsKey(end = SignalNames.Short(text)) || Forms.WholeOf(end, 0, 255) is not null,
        Pattern = "^([0-9]{1,3}|[A-Z0-9]+)$",
    };

    private static readonly Shape<RecoverPart> Pause = new(
        Value(
            "first",
            Forms.Length,
            part => part.First,
            (part, first) => part with { First = first },
            "Pause before the first restart."
        ) with
        {
            Label = "First pause",
            Default = "1 s",
            Example = "1 s",
            Flag = "pause",
        },
        Value(
            "grow",
            Forms.Number(1, 100),
            part => part.Grow,
            (part, grow) => part with { Grow = grow },
            "Each further pause is so many times as long, 1 to 100."
        ) with
        {
            Label = "Pauses grow by",
            Default = "2",
            Example = "2",
        },
        Value(
            "longest",
            Forms.Length,
            part => part.Longest,
            (part, longest) => part with { Longest = longest },
            "No pause is longer."
        ) with
        {
            Label = "Longest pause",
            Default = "1 min",
            Example = "1 min",
        },
        Value(
            "steady-after",
            Forms.Length,
            part => part.SteadyAfter,
            (part, steady) => part with { SteadyAfter = steady },
            "After a run at least this long, pauses start from the first again."
        ) with
        {
            Default = "10 min",
            Example = "10 min",
        },
        Value(
            "spread",
            Forms.Percent(0, 100),
            part => part.Spread,
            (part, spread) => part with { Spread = spread },
            "Each pause is longer by a random part of itself, up to this, so that what failed together does not "
                + "restart together."
        ) with
        {
            Label = "Random spread",
            Default = "10 %",
            Example = "10 %",
        }
    );

    private static readonly Shape<RecoverPart> Hold = new(
        Value(
            "ends",
            Forms.Whole(0, 1000),
            part => part.HoldEnds,
            (part, ends) => part with { HoldEnds = ends },
            "So many failures put it on hold; 0: never."
        ) with
        {
            Label = "Failures to hold",
            Default = "5",
            Example = "5",
            Flag = "hold-ends",
        },
        Value(
            "within",
            Forms.Length,
            part => part.HoldWithin,
            (part, within) => part with { HoldWithin = within },
            "The time those failures must fall within."
        ) with
        {
            Default = "10 min",
            Example = "10 min",
            Flag = "hold-within",
        },
        Value(
            "retry-every",
            Forms.LengthFrom(TimeSpan.FromSeconds(1)),
            part => part.RetryEvery,
            (part, retry) => part with { RetryEvery = retry },
            "While it is on hold, Calm Sentry tries it again this often; one more failure puts it back on hold."
        ) with
        {
            Label = "On hold, try every",
            Default = "never: only calm release, or a start",
            Example = "30 min",
        }
    );

    public static Union<FollowUp> FollowUps { get; } =
        new(
            "{ command: [/srv/app/clear-cache], after: 3 }",
            [
                UnionOf<FollowUp>.Command(
                    "command",
                    command => new(command),
                    then => then.Command,
                    "A program's absolute path, and its arguments."
                ),
            ],
            [
                UnionOf<FollowUp>.Attribute(
                    "after",
                    Forms.Whole(1, 1000),
                    then => then.After,
                    (then, after) => then with { After = after },
                    "After so many failures, as recover.hold counts them."
                ) with
                {
                    Needed = true,
                    Example = "3",
                },
                UnionOf<FollowUp>.Attribute(
                    "limit",
                    Forms.LengthFrom(TimeSpan.FromSeconds(1)),
                    then => then.Limit,
                    (then, limit) => then with { Limit = limit },
                    "It is ended when it takes longer."
                ) with
                {
                    Default = "1 min",
                    Example = "1 min",
                },
            ]
        );

    internal static void Check(MapReader map, Definition definition)
    {
        var part = definition.Recover;
        if (part.Then.IsEmpty)
            return;
        if (definition.IsJob)
            map.Contradicts(
                "recover.then",
                "with kind: periodic, where failures are not counted",
                "with a program that stays; of a job, 'again' of its rhythm, and an alert"
            );
        for (var i = 0; i < part.Then.Length; i++)
        {
            if (part.HoldEnds > 0 && part.Then[i].After > part.HoldEnds)
                map.Contradicts(
                    $"recover.then[{i}].after",
                    $"'{part.Then[i].After}', and it is on hold before",
                    $"at most recover.hold.ends, which is {part.HoldEnds}"
                );
            if (part.Then.Take(i).Any(other => other.After == part.Then[i].After))
                map.Contradicts($"recover.then[{i}].after", $"'{part.Then[i].After}' once more", "each number once");
        }
    }

    internal static Shape<RecoverPart> Shape { get; } =
        new(
            Value(
                "after",
                After,
                part => part.After,
                (part, after) => part with { After = after },
                "After which ends it is restarted."
            ) with
            {
                Label = "Restarted after",
                Default = "failure",
                Flag = "recover",
            },
            Map("pause", Pause, part => part, (_, part) => part, "How long it waits before it is restarted."),
            Map("hold", Hold, part => part, (_, part) => part, "When Calm Sentry gives up for now."),
            Pairs(
                "codes",
                End,
                Code,
                part => part.Codes,
                (part, codes) => part with { Codes = codes },
                "What follows particular ends, by exit code or signal. done: a success, it stays stopped. again: "
                    + "restarted after the pause. again-at-once: restarted without a pause, and no failure. hold: put on "
                    + "hold. stop-dependents: it stays stopped, and what needs it is stopped."
            ) with
            {
                Label = "Codes and signals that mean something",
                Default = "none",
                IsNothingLeftOut = true,
                Example = "{ 0: done, 3: hold, 75: again, SEGV: hold }",
                Flag = "code",
                WordForm = "an exit code or signal with what follows, such as 75=again, 3=hold, SEGV=stop-dependents",
            },
            Many(
                "then",
                FollowUps,
                part => part.Then.IsEmpty ? null : part.Then,
                (part, then) => part with { Then = then },
                "Commands that are run as the account after so many failures, each once until a run has lasted steady-after; the "
                    + "next start does not wait for them."
            ) with
            {
                Label = "Commands after failures",
                Default = "none",
                IsNothingLeftOut = true,
                Example = "[{ command: [/srv/app/clear-cache], after: 3, limit: 1 min }]",
            }
        );
}
