namespace CalmSentry.Core.Definitions;

/// <summary>Over how long the answers to a question are counted.</summary>
public enum AnswerSpan
{
    Run,
    Hour,
    Day,
}

/// <summary>A question that a program is known to ask at its terminal.</summary>
/// <param name="Question">What it has written after its last line end, without terminal codes, ends with this.</param>
public sealed record KnownQuestion(string Question)
{
    /// <summary>What it is given, as it is: a line has its end.</summary>
    public string? With { get; init; }

    /// <summary>The secret that it is given as a line, instead.</summary>
    public string? Secret { get; init; }

    /// <summary>So often it is answered in each <see cref="Each"/>.</summary>
    public int Most { get; init; } = 3;

    public AnswerSpan Each { get; init; } = AnswerSpan.Day;

    /// <summary>It is no question: so a program that waits for orders stands when all is well.</summary>
    public bool NeedsNone => With is null && Secret is null;
}

/// <summary>The keys of a known question.</summary>
public static class AnswerKeys
{
    private const int LongestQuestion = 200,
        LongestAnswer = 1000,
        MostAnswers = 1000;

    public static Form<AnswerSpan> Span { get; } =
        Forms.Choice(("run", AnswerSpan.Run), ("hour", AnswerSpan.Hour), ("day", AnswerSpan.Day));

    private static readonly Form<string> Question = Forms.Text(
        "1 to 200 characters without control characters: what stands after the last line end when it asks",
        text => text.Length is > 0 and <= LongestQuestion && !text.Any(char.IsControl)
    );

    private static readonly Form<string> Answer = Forms.Text(
        "1 to 1000 characters, or { secret: KEY }",
        text => text.Length is > 0 and <= LongestAnswer
    );

    private static readonly Shape<KnownQuestion> SecretOnly = new(
        KeyOf<KnownQuestion>.Value(
            "secret",
            ProgramKeys.Variable,
            known => known.Secret,
            (known, key) => known with { Secret = key },
            "The secret that it is given as a line: calm secret set."
        ) with
        {
            Example = "SEAL_PHRASE",
        }
    );

    public static Union<KnownQuestion> Answers { get; } =
        new(
            "{ question: \"Overwrite? [y/N] \", with: \"n\\n\" }",
            [
                UnionOf<KnownQuestion>.Kind(
                    "question",
                    Question,
                    question => new(question),
                    known => known.Question,
                    "What it has written after its last line end, without terminal codes, ends with exactly this when it asks."
                ) with
                {
                    IsText = true,
                    Of = "TEXT",
                    Example = "\"Overwrite? [y/N] \"",
                },
            ],
            [
                new Attribute<KnownQuestion>(
                    "with",
                    "What it is given, with its line end, or { secret: KEY }: that secret as a line."
                )
                {
                    Type = KeyType.Text,
                    Inner = SecretOnly.Keys,
                    IsText = true,
                    IsEscaped = true,
                    Default = "nothing: it is no question, so it stands when all is well",
                    Example = "\"n\\n\"",
                    Set = (map, known) =>
                        map.IsMap("with") ? SecretOnly.Read(map.Map("with")!, known)
                        : map.TryValue("with", Answer, out var text) ? known with { With = text }
                        : known,
                    Give = known =>
                        known.Secret is not null ? SecretOnly.Write(known)
                        : known.With is { } text ? new ScalarNode(text)
                        : null,
                },
                UnionOf<KnownQuestion>.Attribute(
                    "most",
                    Forms.Whole(1, MostAnswers),
                    known => known.Most,
                    (known, most) => known with { Most = most },
                    "So often it is answered; asked more often, it is told."
                ) with
                {
                    Default = "3",
                    Example = "3",
                },
                UnionOf<KnownQuestion>.Attribute(
                    "each",
                    Span,
                    known => known.Each,
                    (known, each) => known with { Each = each },
                    "In how long: within a run, an hour, or 24 hours."
                ) with
                {
                    Default = "day",
                },
            ]
        );
}
