using System.Collections.Immutable;
using System.Text;
using CalmSentry.Contract;
using CalmSentry.Core.Entries;
using CalmSentry.Engine.Logbook;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Store;

namespace CalmSentry.Server.Self;

/// <summary>
/// The settings' file, and what was in it when it had no mistake last: that is kept beside the store, and holds until the mistake is out,
/// over restarts as well.
/// </summary>
internal sealed class SettingsFile(Places places)
{
    private string kept = "",
        read = "";
    private string? wrong;
    private Entry? news;

    /// <summary>That it is not in effect as it is, as a sentence; null: it is.</summary>
    public string? Trouble =>
        Volatile.Read(ref wrong) is { } seen
            ? $"The settings have a mistake, and what was good before holds: {seen.Split('\n')[0].TrimEnd('.')}."
            : null;

    /// <summary>What holds now.</summary>
    public Settings Now => Volatile.Read(ref now);

    private Settings now = new();

    /// <summary>The text of what was good last.</summary>
    public string Good => Volatile.Read(ref kept);

    /// <summary>What holds as the sentry begins: what is in the file, or what was good before.</summary>
    public Settings Load() => now = AtFirst();

    private Settings AtFirst()
    {
        var (settings, text) = Read();
        kept = TextOfKept();
        if (settings is null)
        {
            news = new SettingsWrongEntry(wrong!.ReplaceLineEndings("; "));
            return Settings.Read(kept).Settings ?? new();
        }

        Keep(text, isFirst: !File.Exists(places.SettingsKept));
        return settings;
    }

    /// <summary>Looks again after somebody changed it.</summary>
    /// <returns>What holds from now on; null: what held before.</returns>
    public Settings? Again(Record logbook)
    {
        var (before, last) = (wrong, read);
        var (settings, text) = Read();
        if (read == last && wrong == before)
            return null;
        if (settings is not null)
        {
            Keep(text, isFirst: false, wasWrong: before is not null);
            Volatile.Write(ref now, settings);
        }
        else if (wrong != before)
            news = new SettingsWrongEntry(wrong!.ReplaceLineEndings("; "));
        Tell(logbook);
        return settings;
    }

    /// <summary>Puts on record how they are as the sentry begins; also that a mistake was taken out while it was away.</summary>
    public void TellAtStart(Record logbook, SentryStore store)
    {
        var latest = new LogQuery(1)
        {
            Kinds = [EntryKinds.Of<SettingsWrongEntry>(), EntryKinds.Of<SettingsTakenEntry>()],
        };
        if (news is null && wrong is null && store.Logbook(latest) is [{ Entry: SettingsWrongEntry }])
            news = Taken([]);
        Tell(logbook);
    }

    private void Tell(Record logbook)
    {
        if (news is { } entry)
            logbook.Note(entry, tells: entry is SettingsWrongEntry);
        news = null;
    }

    private SettingsTakenEntry Taken(ImmutableArray<string> changed)
    {
        var later = changed.Intersect(Settings.AtStart).ToList();
        return new(
            FileFacts.Owner(places.Settings) is { } owner ? Account.NameOf(owner) : "nobody",
            changed,
            later.Count > 0 ? string.Join(", ", later) : null
        );
    }

    private (Settings? Settings, string Text) Read()
    {
        var text = "";
        try
        {
            read = text = Settings.TextOf(places.Settings);
            var (settings, errors, _) = Settings.Read(text);
            wrong = settings is null ? string.Join('\n', errors.Select(one => $"{places.Settings}: {one}")) : null;
            return (settings, text);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            wrong = $"{places.Settings}: {error.Message.TrimEnd('.')}";
            return (null, text);
        }
    }

    private string TextOfKept()
    {
        try
        {
            return Settings.TextOf(places.SettingsKept);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return "";
        }
    }

    private void Keep(string text, bool isFirst, bool wasWrong = false)
    {
        var changed = Settings.Changed(kept, text);
        if (!isFirst && (wasWrong || changed.Length > 0))
            news = Taken(changed);

        if (text == kept && File.Exists(places.SettingsKept))
            return;
        try
        {
            var beside = places.SettingsKept + "~";
            OwnFile.Write(beside, Encoding.UTF8.GetBytes(text));
            File.Move(beside, places.SettingsKept, overwrite: true);
            kept = text;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // The next look keeps it; until then what was kept before is what a mistake leads back to.
        }
    }
}
