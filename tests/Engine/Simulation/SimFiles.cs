using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Swaps;
using CalmSentry.Store;

namespace CalmSentry.Tests.Engine.Simulation;

/// <summary>Program files of the simulation, real ones: each version is two files that say its number.</summary>
internal sealed class SimFiles(Places places)
{
    private static readonly string[] Parts = ["board.js", "lib/tide.js"];
    private long last;

    public string DirectoryOf(string name) => Path.Combine(places.Root, "files", name);

    public void Make(string name)
    {
        if (!Directory.Exists(DirectoryOf(name)))
            Write(DirectoryOf(name), ++last);
    }

    private static void Write(string directory, long number)
    {
        foreach (var part in Parts)
        {
            var file = Path.Combine(directory, part);
            Directory.CreateDirectory(Path.GetDirectoryName(file)!);
            File.WriteAllText(file, number.ToString(CultureInfo.InvariantCulture));
        }
    }

    /// <summary>Why the files of a program are of no one version, as a clause; null: they are.</summary>
    public string? Mixed(string name)
    {
        var said = Parts
            .Select(part => Path.Combine(DirectoryOf(name), part))
            .Where(File.Exists)
            .Select(File.ReadAllText);
        var found = said.ToList();
        return found.Count == Parts.Length && found.Distinct().Count() == 1
            ? null
            : $"its files are of versions {string.Join(", ", found)}";
    }

    /// <summary>New files for a service, lying beside those there are.</summary>
    public Prepared Prepare(SimServer live, FilesAsked asked, string name)
    {
        var (actor, now) = (asked.Actor, live.House.Clocks.Now);
        using var files = ServiceFiles.Open(live.House.Tools, actor.Id, DirectoryOf(name));
        var known = live.Store.Versions(actor.Id);
        var newest = known.Select(one => one.Number).DefaultIfEmpty().Max();
        var unrecorded = new List<StoredVersion>();
        var there = files.Present() ?? throw new IOException("its directory is not there");
        var present = known.FirstOrDefault(one => one.Present && one.Identity == there);
        if (present is null)
            unrecorded.Add(present = new(++newest, now, "", "", files.Directory, there, Present: true));
        using (files.Stage(++newest)) { }
        Write(files.PathOf(newest), ++last);
        var version = new FileVersion(newest, files.IdentityOf(newest)!);
        unrecorded.Add(new(newest, now, asked.By.Name, "new", files.Directory, version.Identity, Present: false));
        return new(
            PlanOf(actor, files.Directory, present.Number, newest),
            new()
            {
                By = asked.By,
                Began = now,
                Directory = files.Directory,
                Before = new(present.Number, there),
                Version = version,
                IsNew = true,
                WatchFor = actor.Definition.Files.WatchFor,
                Dependents = [.. asked.Dependents],
                IsJob = actor.Definition.IsJob,
                WasUp = !actor.Definition.IsJob && actor.Situation.Lives,
            },
            [],
            unrecorded
        );
    }

    private static SwapPlan PlanOf(ServiceActor actor, string directory, long before, long version)
    {
        var none = new FileList(0, []);
        return new()
        {
            Service = actor.Definition.Name,
            Directory = directory,
            Before = before,
            Version = version,
            Source = "new",
            Added = none,
            Changed = none,
            Gone = none,
            Same = 0,
            Data = [],
            LeftOut = [],
            GivenUp = none,
            SourceOwner = null,
            EarlierPlace = null,
            Bytes = 0,
            Room = 0,
            UsedBy = [],
            Interrupts = "",
            WatchMs = 0,
            Findings = [],
        };
    }

    /// <summary>Puts new files in, as somebody asks for it; the answer is what came of it.</summary>
    public async Task Swap(SimServer live, ServiceActor actor, string name, bool stoppedFirst)
    {
        var swaps = live.Rooms.Swaps;
        try
        {
            if (!swaps.Take(actor, new("anna")))
                return;
        }
        catch (BusyException)
        {
            return; // whoever asked is told, and asks again another time
        }

        if (swaps.Claim(actor.Id, DirectoryOf(name)) is not null)
        {
            swaps.Leave(actor.Id);
            return;
        }

        var asked = new FilesAsked(actor, new(), new HashSet<string>(), new Principal("anna"), _ => { });
        Task<Prepared> Look() => Task.FromResult(Prepare(live, asked, name));
        var prepared = stoppedFirst ? null : await Look();
        if (prepared is not null)
        {
            swaps.Record(actor, prepared);
            await live.Store.Kept();
        }

        await swaps.Begin(asked, prepared, Look);
    }
}
