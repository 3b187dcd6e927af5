using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Wording;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Files;
using CalmSentry.Store;

namespace CalmSentry.Engine.Services;

/// <summary>
/// A service whose stored definition cannot be read, as after damage or by a version that knew another key. Its name
/// stays its own and its program is left as it is, until somebody gives it a definition anew.
/// </summary>
/// <param name="Why">What is wrong with it, as a clause.</param>
/// <param name="Seen">When it was found so.</param>
internal sealed record Unreadable(StoredService Stored, string Why, DateTimeOffset Seen)
{
    /// <summary>Lays what is stored where a person can read and mend it.</summary>
    public void File(Places places)
    {
        var file = places.UnreadableOf(ServiceName.IsValid(Stored.Name) ? Stored.Name : Stored.Id.ToString());
        try
        {
            OwnDirectory.Make(Path.GetDirectoryName(file)!);
            System.IO.File.WriteAllText(file, Stored.Document);
            System.IO.File.SetUnixFileMode(file, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // What cannot be laid there is in the store still.
        }
    }

    /// <summary>What a person does about it.</summary>
    public string Mend(Places places)
    {
        var file = places.UnreadableOf(Stored.Name);
        return $"Mend the definition ({(System.IO.File.Exists(file) ? $"as it is stored: {file}" : "from a file of yours")}), "
            + $"then: calm adjust {Stored.Name} --from FILE";
    }

    public ServiceView View(Places places) =>
        new()
        {
            Id = Stored.Id.Number,
            Name = Stored.Name,
            Title = Stored.Name,
            Host = Machine.HostName,
            State = ServiceState.Unreadable,
            Health = HealthLevel.Unknown,
            HealthWhy = "it is not watched",
            Attention = "its stored definition cannot be read",
            Why = $"Its stored definition cannot be read: {Why}. Its program is left as it is. {Mend(places)}",
            Since = Seen,
            Run = Stored.Situation?.LastRun is { Value: > 0 } run ? run : null,
            At = "-",
            Account = "-",
            Labels = [],
            Command = [],
        };
}
