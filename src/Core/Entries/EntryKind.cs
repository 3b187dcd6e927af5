using System.Collections.Frozen;
using System.Collections.Immutable;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Entries;

/// <summary>Fields that do not make an entry of the kind they are to be of.</summary>
public sealed class EntryFieldsException() : FormatException("a field that such an entry has is missing");

/// <summary>A kind of entry: its word for programs, which is the name of its record with dashes, and how it is read back.</summary>
public sealed class EntryKind
{
    private const string Ending = nameof(Entry);

    private readonly Func<EntryFields, Entry> read;

    private EntryKind(Type type, EntrySeverity severity, Func<EntryFields, Entry> read) =>
        (Word, Type, Severity, this.read) = (Words.Dashed(type.Name[..^Ending.Length]), type, severity, read);

    public string Word { get; }

    /// <summary>How bad it is, unless the entry itself says otherwise.</summary>
    internal EntrySeverity Severity { get; }

    internal Type Type { get; }

    internal static EntryKind Of<T>(Func<EntryFields, T> read, EntrySeverity severity = EntrySeverity.Informational)
        where T : Entry => new(typeof(T), severity, read);

    /// <exception cref="EntryFieldsException">One of its fields is missing.</exception>
    /// <exception cref="FormatException">One of them has a value that is none.</exception>
    public Entry Read(EntryFields fields) => read(fields) with { From = fields.From };

    public override string ToString() => Word;
}

/// <summary>Every kind of entry there is in the logbook.</summary>
public static class EntryKinds
{
    /// <summary>Of no kind that is known here: an earlier version kept a sentence alone, a later one may know more.</summary>
    public static EntryKind Other { get; } =
        EntryKind.Of(fields => new OtherEntry(Other!, fields with { From = null }, fields.Seen ?? ""));

    public static ImmutableArray<EntryKind> All { get; } =
    [
        Other,
        .. RequestEntries.Kinds,
        .. MachineEntries.Kinds,
        .. StartEntries.Kinds,
        .. RunningEntries.Kinds,
        .. RhythmEntries.Kinds,
        .. SwapEntries.Kinds,
        .. EndEntries.Kinds,
        .. FilesEntries.Kinds,
        .. RightsEntries.Kinds,
        .. SentryEntries.Kinds,
    ];

    private static readonly FrozenDictionary<string, EntryKind> words = All.ToFrozenDictionary(kind => kind.Word);

    private static readonly FrozenDictionary<Type, EntryKind> types = All.ToFrozenDictionary(kind => kind.Type);

    /// <returns>Null: there is none of that word.</returns>
    public static EntryKind? Find(string word) => words.GetValueOrDefault(word);

    public static EntryKind Of<T>()
        where T : Entry => types[typeof(T)];

    internal static EntryKind Of(Type type) => types[type];
}

/// <summary>One that is told by a sentence: of an earlier version, or one whose fields do not fit its kind.</summary>
/// <param name="Kept">Whatever else there is of its fields.</param>
public sealed record OtherEntry(EntryKind As, EntryFields Kept, string Said) : Entry
{
    public override EntryKind Kind => As;

    protected override EntryFields Own => Kept;

    protected override string Sentence => Said;
}

internal static class FieldExtensions
{
    /// <exception cref="EntryFieldsException">It is missing.</exception>
    public static T Needed<T>(this T? field)
        where T : struct => field ?? throw new EntryFieldsException();

    /// <exception cref="EntryFieldsException">It is missing.</exception>
    public static T Needed<T>(this T? field)
        where T : class => field ?? throw new EntryFieldsException();
}
