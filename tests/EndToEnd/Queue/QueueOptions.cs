namespace CalmSentry.Tests.EndToEnd.Queue;

/// <summary>What <c>--queue</c> takes: <c>--results DIR</c> (needed), <c>--workers N</c>, <c>--durations</c> and classes.</summary>
/// <param name="Results">Where each class's report and log go; made anew.</param>
/// <param name="Workers">How many run at once; null: as many as the machine carries.</param>
/// <param name="WriteDurations">Whether the file of durations is written anew from this run.</param>
/// <param name="Classes">Only these, by their full names, or by the end of them behind a dot; none: all.</param>
internal sealed record QueueOptions(string Results, int? Workers, bool WriteDurations, IReadOnlyList<string> Classes)
{
    /// <exception cref="ArgumentException">A word that is none of them.</exception>
    public static QueueOptions Read(IReadOnlyList<string> words)
    {
        string? results = null;
        int? workers = null;
        var durations = false;
        List<string> classes = [];
        for (var i = 0; i < words.Count; i++)
            switch (words[i])
            {
                case "--results":
                    results = Path.GetFullPath(words[++i]);
                    break;
                case "--workers":
                    workers = int.Parse(words[++i], System.Globalization.CultureInfo.InvariantCulture);
                    break;
                case "--durations":
                    durations = true;
                    break;
                case var word when word.StartsWith('-'):
                    throw new ArgumentException(
                        $"{word} is unknown; allowed: --results --workers --durations, and classes"
                    );
                case var word:
                    classes.Add(word);
                    break;
            }
        return new(results ?? throw new ArgumentException("--results DIR is needed"), workers, durations, classes);
    }

    public bool Takes(string name) => Classes.Count == 0 || Classes.Any(one => IsCalled(name, one));

    public static bool IsCalled(string name, string one) =>
        name == one || name.EndsWith("." + one, StringComparison.Ordinal);
}
