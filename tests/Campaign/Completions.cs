using System.Text.Json;

namespace CalmSentry.Tests.Campaign;

/// <summary>
/// Those who complete a path in a folder whose files come and go: whatever happens meanwhile, what they are told has each file that stays,
/// no other than ever was there, and nothing of what the account may not look into; or it says what is wrong, and names none.
/// </summary>
internal sealed class Completions : IDisposable
{
    private const int Staying = 40;

    private readonly Machine machine;
    private readonly string folder;
    private readonly HttpClient asker;
    private readonly List<string> broken = [];
    private int asked,
        told,
        troubles;

    public Completions(Machine machine)
    {
        this.machine = machine;
        folder = Path.Combine(machine.Places.Root, "berths");
        asker = machine.Http(TimeSpan.FromMinutes(1));
    }

    /// <summary>How many asked, and what they were told.</summary>
    public string Told => $"{asked} completed a path: {told} were told all of it, {troubles} what was wrong";

    public async Task Complete(Random random)
    {
        var (comes, beyond) = ($"comes-{random.Next(5)}", random.Next(4) == 0);
        lock (broken)
            Lay();
        var place = Path.Combine(folder, comes);
        if (!File.Exists(place))
            await File.WriteAllTextAsync(place, "").ConfigureAwait(false);
        else
            File.Delete(place);
        var beginning = beyond ? $"{folder}/shut/" : $"{folder}/";
        JsonElement view;
        try
        {
            using var answer = await asker
                .GetAsync($"/api/paths?beginning={Uri.EscapeDataString(beginning)}&account={machine.Account}")
                .ConfigureAwait(false);
            if (!answer.IsSuccessStatusCode)
                return; // there was no server whole enough to answer
            using var document = JsonDocument.Parse(await answer.Content.ReadAsStringAsync().ConfigureAwait(false));
            view = document.RootElement.Clone();
        }
        catch (HttpRequestException)
        {
            return; // it was killed meanwhile
        }
        catch (TaskCanceledException)
        {
            Break($"{beginning} was not answered within {asker.Timeout.TotalSeconds:0} s");
            return;
        }

        if (Wrong(view, beyond && machine.IsRoot) is { } wrong)
            Break($"{beginning}: {wrong}: {view}");
    }

    /// <summary>What is wrong with what was told since the last time.</summary>
    public IReadOnlyList<string> Look()
    {
        lock (broken)
        {
            var all = broken.ToList();
            broken.Clear();
            return all;
        }
    }

    public void Dispose() => asker.Dispose();

    private string? Wrong(JsonElement view, bool shut)
    {
        lock (broken)
            asked++;
        var names = view.GetProperty("paths")
            .EnumerateArray()
            .Select(one => one.GetProperty("path").GetString()!)
            .ToHashSet(StringComparer.Ordinal);
        if (view.TryGetProperty("trouble", out var trouble) && trouble.ValueKind == JsonValueKind.String)
        {
            lock (broken)
                troubles++;
            return names.Count == 0 ? null : "something is wrong, and yet some are named";
        }

        lock (broken)
            told++;
        if (shut)
            return "it was looked into";
        if (names.Contains($"{folder}/shut/secret"))
            return names.Count == 1 ? null : "more is named than is there";
        if (Enumerable.Range(0, Staying).Any(i => !names.Contains($"{folder}/stays-{i}")))
            return "one that stays is not named";
        names.RemoveWhere(name =>
            name == $"{folder}/shut/"
            || name.StartsWith($"{folder}/stays-", StringComparison.Ordinal)
            || name.StartsWith($"{folder}/comes-", StringComparison.Ordinal)
        );
        return names.Count == 0 ? null : "one is named that never was there";
    }

    private void Break(string what)
    {
        lock (broken)
            broken.Add($"completing {what}");
    }

    private void Lay()
    {
        if (Directory.Exists(folder))
            return;
        var making = Directory.CreateDirectory(folder + "-made");
        for (var i = 0; i < Staying; i++)
            File.WriteAllText(Path.Combine(making.FullName, $"stays-{i}"), "");
        var shut = making.CreateSubdirectory("shut");
        File.WriteAllText(Path.Combine(shut.FullName, "secret"), "");
        File.SetUnixFileMode(shut.FullName, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        making.MoveTo(folder);
    }
}
