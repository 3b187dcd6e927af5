using CalmSentry.Core.Settling;

namespace CalmSentry.Contract.Api;

/// <summary>A directory of files that say which services there are to be, as one document.</summary>
/// <param name="Files">Texts by their paths from the directory, with slashes.</param>
public sealed record FilesDocument(IReadOnlyDictionary<string, string> Files)
{
    /// <summary>The media type of a call's body that is one of these.</summary>
    public const string MediaType = "application/vnd.calm-sentry.files+json";

    /// <summary>Files in it, characters of one and of all.</summary>
    public const int MostFiles = 2000,
        LongestFile = 1 << 20,
        LongestInAll = 16 << 20;

    /// <summary>Where it lies on the host that it was read on.</summary>
    public string? Directory { get; init; }

    /// <summary>Its revision under version control, as its own files name it: <c>main 3fa2b1c…</c>.</summary>
    public string? Head { get; init; }

    /// <summary>Of these the definition that is meant, where one is asked for.</summary>
    public string? Take { get; init; }
}

/// <summary>Files to be compared.</summary>
/// <param name="With">Another directory; null: this machine.</param>
/// <param name="TakeAway">Services that no file names are to be unwrapped.</param>
public sealed record CompareOrder(FilesDocument Files, FilesDocument? With = null, bool TakeAway = false);

/// <summary>Files that the machine is to be brought to.</summary>
/// <param name="Seen">The tag of the list that was looked at: where another would be carried out, nothing is done. Null: whatever it is.</param>
/// <param name="TakeAway">Services that no file names are unwrapped.</param>
public sealed record SettleOrder(FilesDocument Files, string? Seen = null, bool TakeAway = false);

/// <summary>Where files and a machine, or two directories, differ.</summary>
/// <param name="Same">They do not, and nothing would be done.</param>
/// <param name="Tag">Of this list; the same as long as nothing else is to be done.</param>
/// <param name="Files">How many files it was read from.</param>
/// <param name="Services">How many services they define.</param>
/// <param name="Left">Services of the machine that no file names, and that are left.</param>
public sealed record ComparisonView(
    bool Same,
    string Tag,
    int Files,
    int Services,
    IReadOnlyList<DifferenceView> Differences,
    IReadOnlyList<string> Left
)
{
    /// <summary>What to know before, a sentence each.</summary>
    public required IReadOnlyList<string> Notes { get; init; }
}

/// <summary>One service, account or folder that differs.</summary>
/// <param name="Name">Of a service or an account.</param>
/// <param name="File">The file that says so; null: none does.</param>
/// <param name="Changes">From the machine to the files, as clauses; what looks like a secret is masked.</param>
/// <param name="Steps">What settling would do, in its order.</param>
/// <param name="Said">The same as clauses.</param>
public sealed record DifferenceView(
    string Name,
    string? File,
    IReadOnlyList<string> Changes,
    IReadOnlyList<SettleDeed> Steps,
    IReadOnlyList<string> Said
)
{
    /// <summary>The name its service has on this machine, where it was renamed: settling is refused. Null: it was not.</summary>
    public string? CalledHere { get; init; }
}

/// <summary>A settling, at work or as it ended.</summary>
/// <param name="Number">From 1 on.</param>
/// <param name="Back">It undid the one of this number; null: it brought the machine to files.</param>
/// <param name="CameTrue">All of it is done.</param>
/// <param name="CanGoBack">'back' would undo what it did.</param>
public sealed record SettlementView(
    int Number,
    string By,
    DateTimeOffset Began,
    DateTimeOffset? Ended,
    string? Directory,
    string? Head,
    int? Back,
    bool CameTrue,
    bool CanGoBack,
    string Said,
    string? Next,
    IReadOnlyList<SettleStepView> Steps
);

/// <param name="Said">What came of it; null: it was not done yet.</param>
public sealed record SettleStepView(SettleDeed Deed, string Name, string What, SettleState State, string? Said);

/// <summary>One line of a settling's live answer (newline-delimited JSON): a note, or at the end what came of it.</summary>
public sealed record SettleEvent(string? Text, SettlementView? Over);
