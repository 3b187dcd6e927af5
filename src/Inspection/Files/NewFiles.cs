using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Swaps;
using CalmSentry.Inspection.Checks;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Troubles;
using CalmSentry.Store;

namespace CalmSentry.Inspection.Files;

/// <summary>
/// Makes new program files ready beside those there are, as the account will meet them, and looks at them, before anything is
/// interrupted.
/// </summary>
internal sealed class NewFiles(RunTools tools, Clocks clocks, Registry registry, SwapRoom swaps, Checker checker)
{
    /// <summary>All new files together, whatever room there is.</summary>
    private const long MostBytes = 32L << 30;

    private const int MostListed = 200,
        MostUsers = 10;

    /// <exception cref="FilesNotTakenException">They are none that can be taken.</exception>
    public async Task<Prepared> Prepare(FilesAsked asked, CancellationToken gone)
    {
        var (actor, order) = (asked.Actor, asked.Order);
        var definition = actor.Definition;
        var given = ServiceFiles.DirectoryOf(definition, tools.Places) ?? throw NoDirectory(definition);
        ProgramFiles? files = null;
        try
        {
            using (var way = await Found(given, gone).ConfigureAwait(false))
                files = ServiceFiles.Open(tools, actor.Id, way.Path);
            if (swaps.Claim(actor.Id, files.Directory) is { } other)
                throw NotTaken(
                    ProblemCode.Busy,
                    $"New files of {other.Definition.Title} are under way in {files.Directory}. Nothing was changed.",
                    $"calm swap {other.Definition.Name}   shows how far it is"
                );
            var (before, unrecorded, versions) = Present(actor, files);
            var fresh = order.From is not null;
            var version = fresh
                ? unrecorded.Concat(versions).Max(one => one.Number) + 1
                : Earlier(actor, order, versions, files);
            var data = DataOf(definition, given);
            try
            {
                return await Look(asked, new(files, given, before, version, data), unrecorded, gone)
                    .ConfigureAwait(false);
            }
            catch when (fresh)
            {
                files.Drop(version);
                throw;
            }
        }
        catch (Exception error) when (WhyNot(error, order, definition) is { } why)
        {
            throw why;
        }
        finally
        {
            files?.Dispose();
        }
    }

    /// <summary>Why new files are not taken, after what went wrong; null: nothing that is expected.</summary>
    private static FilesNotTakenException? WhyNot(Exception error, SwapOrder order, Definition definition) =>
        error switch
        {
            OwnTroubleException => null,
            ArchiveException { InnerException: NoRoomException } or NoRoomException => NotTaken(
                ProblemCode.NoRoom,
                $"There is no room for the new files beside those there are: {error.Message}. Nothing was changed.",
                "Make room there"
            ),
            ArchiveException archive => NotTaken(
                ProblemCode.BadArchive,
                $"{order.From} is not taken: {archive.Member}: {archive.Why}. Nothing was changed.",
                "Pack it again as tar, tar.gz or zip, with files, directories and links between them alone; or unpack it and give the directory"
            ),
            TooMuchException => NotTaken(
                ProblemCode.TooManyFiles,
                $"There are more files than are looked at in one call: {error.Message}. Nothing was changed.",
                "Pack what the program does not need as files of its own; name large folders of data with --data"
            ),
            MovedException => NotTaken(
                FilesNotTakenException.FilesMove,
                $"The files change while they are looked at: {error.Message.TrimEnd('.')}. Nothing was changed.",
                $"calm show {definition.Name}"
            ),
            IOException or UnauthorizedAccessException => NotTaken(
                ProblemCode.FilesNotReadable,
                $"The new files cannot be made ready: {error.Message.TrimEnd('.')}. Nothing was changed.",
                $"calm show {definition.Name}"
            ),
            _ => null,
        };

    private const int Looks = 20;

    private static readonly TimeSpan BetweenLooks = TimeSpan.FromMilliseconds(20);

    /// <summary>Where a directory is away for a moment only, it is looked for once more.</summary>
    private static async Task<HeldWay> Found(string directory, CancellationToken gone)
    {
        for (var look = 1; ; look++)
        {
            try
            {
                var way = Held.Walk(Ground.ProgramFiles, directory);
                if (way.Last.Identity.Type == FileType.Directory)
                    return way;
                way.Dispose();
                if (look == Looks)
                    throw new IOException($"{directory} is no directory");
            }
            catch (FileNotFoundException) when (look < Looks) { }

            await Task.Delay(BetweenLooks, gone).ConfigureAwait(false);
        }
    }

    /// <summary>Removes files that were only looked at.</summary>
    public void Forget(ServiceActor actor, Prepared prepared)
    {
        using var files = ServiceFiles.Open(tools, actor.Id, prepared.Swap.Directory);
        files.Drop(prepared.Swap.Version.Number);
    }

    /// <param name="Given">The directory as the definition names it.</param>
    private sealed record Site(
        ProgramFiles Files,
        string Given,
        StoredVersion Before,
        long Version,
        IReadOnlyList<string> Data
    )
    {
        public bool IsData(string path) => ProgramFiles.IsData(path, Data);
    }

    private async Task<Prepared> Look(
        FilesAsked asked,
        Site site,
        List<StoredVersion> unrecorded,
        CancellationToken gone
    )
    {
        var (actor, order, dependents, by, say) = asked;
        var (definition, files) = (actor.Definition, site.Files);
        using var present = files.Hold();
        var room = new DiskRoom(present, MostBytes, gone);
        var free = Math.Max(0, room.Free());
        var kept = new Gathering(gone);
        var staged = Staged.Nothing;
        if (order.From is { } from)
        {
            say($"reading {from}");
            var one = PlaceOf(from, definition, site);
            if (one is not null)
                say($"it takes the place of {one}, and all other files stay");
            staged = await Task.Run(() => Stage(from, one, order.Over, site, present, room, kept), gone)
                .ConfigureAwait(false);
        }

        gone.ThrowIfCancellationRequested();
        using var next = files.Kept(site.Version);
        return await LookAt(asked, site, unrecorded, staged, present, next, free, gone).ConfigureAwait(false);
    }

    private static void BringToDisk(Held next)
    {
        try
        {
            next.Flush(all: true);
        }
        catch (IOException)
        {
            // Where it matters it is tried again, and told.
        }
    }

    private async Task<Prepared> LookAt(
        FilesAsked asked,
        Site site,
        List<StoredVersion> unrecorded,
        Staged staged,
        Held present,
        Held next,
        long free,
        CancellationToken gone
    )
    {
        var (actor, order, dependents, by, say) = asked;
        var (definition, files) = (actor.Definition, site.Files);
        var difference = staged.Difference;
        if (difference is null)
        {
            say("comparing them with the files there are");
            difference = await Task.Run(() => FileTrees.Compare(present, next, site.IsData, new(gone)), gone)
                .ConfigureAwait(false);
        }

        say($"looking at them as {definition.Account}");
        var findings = new List<Finding>();
        findings.AddRange(await Check(definition, site).ConfigureAwait(false));
        if (LeftBehind(actor, site, difference.Gone) is { } left)
            findings.Add(left);
        gone.ThrowIfCancellationRequested();

        if (files.Present() != site.Before.Identity)
            throw new MovedException($"somebody has put another directory at {files.Directory}");
        var began = clocks.Now;
        var source = staged.Source ?? $"version {site.Version}";
        var watch = order.WatchMs is { } ms ? TimeSpan.FromMilliseconds(ms) : definition.Files.WatchFor;
        var identity = files.IdentityOf(site.Version)!;
        if (order.From is not null)
            unrecorded.Add(new(site.Version, began, by.Name, source, files.Directory, identity, Present: false));
        return new(
            PlanOf(asked, site, difference, staged, free, watch, findings),
            new()
            {
                By = by,
                Began = began,
                Directory = files.Directory,
                Data = [.. site.Data],
                Before = new(site.Before.Number, site.Before.Identity),
                Version = new(site.Version, identity),
                IsNew = order.From is not null,
                WatchFor = watch,
                Dependents = [.. dependents],
                IsJob = definition.IsJob,
                WasUp = !definition.IsJob && actor.Situation.Lives,
            },
            findings,
            unrecorded
        );
    }

    private SwapPlan PlanOf(
        FilesAsked asked,
        Site site,
        TreeDifference difference,
        Staged staged,
        long room,
        TimeSpan watch,
        IReadOnlyList<Finding> findings
    ) =>
        new()
        {
            Service = asked.Actor.Definition.Name,
            Directory = site.Files.Directory,
            Before = site.Before.Number,
            Version = site.Version,
            Source = staged.Source ?? $"version {site.Version}",
            Added = Listed(difference.Added),
            Changed = Listed(difference.Changed),
            Gone = Listed(difference.Gone),
            Same = difference.Same,
            Data = site.Data,
            LeftOut = [.. staged.LeftOut.Take(MostListed)],
            GivenUp = new(
                staged.GivenUp.Count,
                [.. staged.GivenUp.Take(MostListed).Select(one => $"{one.Path}: {one.What}")]
            ),
            SourceOwner = staged.Owner,
            EarlierPlace = site.Files.Left,
            Bytes = difference.Bytes,
            Room = room,
            UsedBy = UsedBy(asked.Actor, site.Files.Directory, site.Given),
            Interrupts = Interrupts(asked.Actor, asked.Dependents),
            WatchMs = (long)watch.TotalMilliseconds,
            Findings = FindingViews.Of(findings, [.. asked.Actor.Definition.Accept, .. asked.Order.Accept ?? []]),
        };

    private static FileList Listed(IReadOnlyList<string> paths) => new(paths.Count, [.. paths.Take(MostListed)]);

    // Where they go

    private static bool Lies(string path, string directory) =>
        path.StartsWith(directory.TrimEnd('/') + "/", StringComparison.Ordinal);

    /// <summary>The version there is, and what of it is not on record yet.</summary>
    private (StoredVersion Before, List<StoredVersion> Unrecorded, IReadOnlyList<StoredVersion> Versions) Present(
        ServiceActor actor,
        ProgramFiles files
    )
    {
        var directory = files.Directory;
        if (tools.WhyHosts(directory) is { } why)
            throw NotTaken(
                ProblemCode.DirectoryNotPossible,
                $"{directory} is not exchanged as a whole: {why}. Nothing was changed.",
                $"Put the program into a directory of its own, such as /srv/{actor.Definition.Name}; or name it: calm adjust {actor.Definition.Name} --files-directory PATH"
            );
        if (Mounts.In(directory) is { } mounted)
            throw NotTaken(
                ProblemCode.DirectoryNotPossible,
                $"A file system is mounted at {mounted}: {directory} cannot be exchanged as a whole. Nothing was changed.",
                $"Name a directory below it: calm adjust {actor.Definition.Name} --files-directory PATH"
            );
        var identity = files.Present() ?? throw new MovedException($"{directory} is no directory");
        var versions = tools.Store.Versions(actor.Id);
        if (
            versions.FirstOrDefault(one => one.Present) is { } present
            && present.Identity == identity
            && present.Directory == directory
        )
            return (present, [], versions);
        // Before the first swap, and after somebody has exchanged the directory by hand.
        var number = versions.Count == 0 ? 1 : versions[0].Number + 1;
        StoredVersion there = new(number, null, null, null, directory, identity, Present: true);
        return (there, [there], versions);
    }

    private static long Earlier(
        ServiceActor actor,
        SwapOrder order,
        IReadOnlyList<StoredVersion> versions,
        ProgramFiles files
    )
    {
        var name = actor.Definition.Name;
        var kept = versions
            .Where(one =>
                !one.Present && one.Directory == files.Directory && files.IdentityOf(one.Number) == one.Identity
            )
            .ToList();
        if (kept.Count == 0)
            throw NotTaken(
                ProblemCode.NoEarlierVersion,
                $"No earlier version of the files of {actor.Definition.Title} is kept. Nothing was changed.",
                $"calm swap {name} --from DIRECTORY-OR-ARCHIVE"
            );
        var present = versions.FirstOrDefault(one => one.Present)?.Number ?? long.MaxValue;
        var wanted = order.Back is null or 0
            ? kept.FirstOrDefault(one => one.Number < present && one.Failed is null)
            : kept.FirstOrDefault(one => one.Number == order.Back);
        var which = order.Back is null or 0
            ? "No version before the present one that stayed well is kept"
            : $"There is no version {order.Back} of its files";
        return wanted?.Number
            ?? throw NotTaken(
                ProblemCode.NoSuchVersion,
                $"{which}; kept are: {string.Join(", ", kept.Select(one => one.Number))}. Nothing was changed.",
                $"calm swap {name}   shows all there were"
            );
    }

    /// <summary>What is data, as paths from the directory.</summary>
    private static IReadOnlyList<string> DataOf(Definition definition, string directory) =>
        [
            .. definition.Files.Data.Select(path => path.TrimEnd('/')),
            .. definition
                .Output.Files.Values.Where(path => Lies(path, directory))
                .Select(path => path[(directory.TrimEnd('/').Length + 1)..]),
        ];

    // The new files

    /// <summary>What came of reading the new files.</summary>
    /// <param name="Source">Where they come from, without links; null: they were there.</param>
    /// <param name="Owner">Whose that is.</param>
    /// <param name="LeftOut">What was left out, because it is data here.</param>
    /// <param name="Difference">From the files there are; null: that was not looked at.</param>
    private sealed record Staged(
        string? Source,
        string? Owner,
        IReadOnlyList<string> LeftOut,
        IReadOnlyList<GivenUp> GivenUp,
        TreeDifference? Difference
    )
    {
        public static readonly Staged Nothing = new(null, null, [], [], null);
    }

    /// <summary>
    /// Where a file lies, from the directory, that has the name of the new one and that the program is, or is given: then the new one
    /// takes its place alone, whatever it holds.
    /// </summary>
    /// <returns>Null: there is none of that name.</returns>
    private string? PlaceOf(string from, Definition definition, Site site)
    {
        var (program, name) = (definition.Program, Path.GetFileName(from));
        var directory = LaunchOrder.DirectoryOf(definition, tools.Places);
        var places = new[] { program.Path, program.With ?? "" }
            .Concat(program.Arguments.SelectMany(Words))
            .Concat(program.Off.SelectMany(Words))
            .Where(word => Path.GetFileName(word) == name)
            .Select(word => Path.GetFullPath(Path.Combine(directory, word)))
            .Select(path =>
                Lies(path, site.Given) ? path[(site.Given.TrimEnd('/').Length + 1)..]
                : Lies(path, site.Files.Directory) ? path[(site.Files.Directory.Length + 1)..]
                : null
            )
            .OfType<string>()
            .Distinct()
            .ToList();
        return places.Count > 1
            ? throw NotTaken(
                ProblemCode.BadSource,
                $"{name} may be meant for {string.Join(" or for ", places)}: its program is given each of them. Nothing was changed.",
                "Put it at its place in a directory, and give that with --over"
            )
            : places.FirstOrDefault();

        // --settings=PATH names one, too.
        static IEnumerable<string> Words(string argument) => [argument, argument[(argument.IndexOf('=') + 1)..]];
    }

    /// <param name="one">Where the one file goes; null: it is a directory or an archive.</param>
    private static Staged Stage(
        string from,
        string? one,
        bool over,
        Site site,
        Held present,
        DiskRoom room,
        Gathering kept
    )
    {
        // Whoever may write where they lie could lead there to anything else: it is what was walked to that is read.
        using var way = Held.Walk(Ground.NewFiles, from);
        var source = way.Held.Identity();
        using var staged = site.Files.Stage(site.Version);
        if (source.Type == FileType.Directory)
        {
            if (
                way.Path == site.Files.Directory
                || Lies(way.Path, site.Files.Directory)
                || Lies(site.Files.Directory, way.Path)
            )
                throw NotTaken(
                    ProblemCode.SameDirectory,
                    $"{from} is, or contains, or lies in the directory whose files are to be exchanged. Nothing was changed.",
                    "Put the new files somewhere else first"
                );
            one = null; // a directory of that name is one of files
            Archive.Copy(way.Held, staged.Path, room, kept);
        }
        else if (one is not null)
        {
            using var old = FileTrees.Find(present, one);
            var executable = old?.Identity() is { Type: FileType.Regular, Mode: var mode } && (mode & AnyExecutes) != 0;
            Archive.Put(way.Held, one, executable, staged.Path, room, kept);
        }
        else
        {
            using var archive = way.Held.RegularContent(way.Path);
            Archive.Unpack(archive, staged.Path, room, kept);
        }

        if (one is null)
            OutOfItsFolder(staged, present);
        var leftOut = site.Data.Count == 0 ? [] : FileTrees.Leave(staged, site.IsData, kept);
        // What is written meanwhile need not be waited for later, when all of it must be on the disk.
        var written = Task.Run(() => BringToDisk(staged), CancellationToken.None);
        try
        {
            var handedOn = new HandedOn(over || one is not null, site.IsData, room, kept);
            var givenUp = handedOn.Adopt(present, site.Files.IsFirm, staged);
            return new(way.Path, Account.NameOf(source.Uid), leftOut, givenUp, handedOn.Difference);
        }
        finally
        {
            written.Wait(CancellationToken.None);
        }
    }

    private const int AnyExecutes = 0x49; // 0111

    /// <summary>What is packed in one folder is meant without it, unless there is such a folder here.</summary>
    private static void OutOfItsFolder(Held staged, Held present)
    {
        if (staged.All().Take(2).ToList() is not [var only])
            return;
        using var here = present.Entry(only);
        using var folder = staged.Entry(only);
        if (here is not null || folder?.Identity().Type != FileType.Directory)
            return;
        // What is in it may be called as it is.
        var aside = $".{Guid.NewGuid():N}";
        if (!staged.Move(only, staged, aside))
            throw new IOException($"{only} cannot be moved");
        foreach (var entry in folder.All().ToList())
            if (folder.MoveNew(entry, staged, entry) != 0)
                throw new IOException($"{only}/{entry} cannot be moved");
        staged.Remove(aside);
    }

    // What is seen of them

    /// <summary>The checks that are about files, with the new ones in their place.</summary>
    private async Task<IReadOnlyList<Finding>> Check(Definition definition, Site site)
    {
        var there = site.Files.PathOf(site.Version);
        var placed = definition with
        {
            Program = definition.Program with
            {
                Path = Placed(definition.Program.Path),
                With = definition.Program.With is { } with ? Placed(with) : null,
                // The directory that is made for it at its first launch may not be there yet.
                Directory =
                    LaunchOrder.DirectoryOf(definition, tools.Places) is var directory
                    && Placed(directory) is var met
                    && met != directory
                        ? met
                        : definition.Program.Directory,
                Arguments = [.. definition.Program.Arguments.Select(Placed)],
                Off = [.. definition.Program.Off.Select(Placed)],
            },
        };
        // The account meets them where they are going to be, in a view of the file system that nobody else has.
        var findings = await checker
            .All(placed, Askers.Nobody, tools.AsAccount.Seeing(there, site.Files.Directory))
            .ConfigureAwait(false);
        var unreadable = await Unreadable(definition, site, there).ConfigureAwait(false);
        return
        [
            .. unreadable is null ? Array.Empty<Finding>() : [unreadable],
            .. findings
                .Where(finding =>
                    !finding.OnlyNow
                    && finding.Code != FindingCode.RecipientMissing // says nothing of files
                    && (
                        finding.Severity == Severity.Blocks
                        || finding.Code
                            is FindingCode.ModuleMissing
                                or FindingCode.ScriptSyntax
                                or FindingCode.LibraryMissing
                    )
                )
                .Select(finding =>
                    finding.Code == FindingCode.ProgramMissing && placed.Program.Path != definition.Program.Path
                        ? finding with
                        {
                            Seen =
                                $"{Path.GetRelativePath(there, placed.Program.Path)}, which the service runs, is not among the new files.",
                            Mend =
                                "Put it among them; or --over, which keeps the files that the new ones do not replace.",
                        }
                        : finding with
                        {
                            Seen = Back(finding.Seen),
                            Why = Back(finding.Why),
                            Mend = Back(finding.Mend),
                        }
                ),
        ];

        string Placed(string path) =>
            path == site.Given || path == site.Files.Directory ? there
            : Lies(path, site.Given) ? there + path[site.Given.TrimEnd('/').Length..]
            : Lies(path, site.Files.Directory) ? there + path[site.Files.Directory.Length..]
            : path;

        string Back(string text) => text.Replace(there, site.Files.Directory, StringComparison.Ordinal);
    }

    private const int MostAsked = 5000,
        MostNamed = 5;

    /// <summary>New files that its account may not read, as it would meet them.</summary>
    private async Task<Finding?> Unreadable(Definition definition, Site site, string there)
    {
        if (Account.Named(definition.Account) is not { Uid: not 0 } account)
            return null;
        var options = new EnumerationOptions
        {
            RecurseSubdirectories = true,
            AttributesToSkip = FileAttributes.ReparsePoint,
        };
        var files = Directory.EnumerateFiles(there, "*", options).Take(MostAsked).ToList();
        var answers = await tools
            .AsAccount.Seeing(there, site.Files.Directory)
            .Ask(account, [], [.. files.Select(file => new AccessQuestion('r', file))])
            .ConfigureAwait(false);
        var closed = files.Where((_, i) => answers[i] != 0).Select(file => file[(there.Length + 1)..]).ToList();
        return closed.Count == 0
            ? null
            : new(
                FindingCode.FileUnreadable,
                Severity.Risk,
                $"{account.Name} may not read {closed.Count} of the new files: {string.Join(", ", closed.Order(StringComparer.Ordinal).Take(MostNamed))}"
                    + (closed.Count > MostNamed ? ", …" : "")
                    + ".",
                "They come with the rights they have where they come from.",
                "Give them rights before they are put in (chmod a+r), if the program is to read them."
            );
    }

    /// <summary>Files that its program has written since it began, and that are neither among the new ones nor named as data.</summary>
    private static Finding? LeftBehind(ServiceActor actor, Site site, IReadOnlyList<string> gone)
    {
        if (actor.Situation.Run is not { Pid: { } pid } run || gone.Count == 0)
            return null;
        var open = ProcessFacts.Tree(pid).SelectMany(ProcessFacts.WrittenFiles).ToHashSet(StringComparer.Ordinal);
        using var present = site.Files.Hold();
        var written = gone.Where(path =>
                open.Contains(Path.Combine(site.Files.Directory, path))
                || Written(present, path, run.Launched ?? run.Began)
            )
            .ToList();
        return written.Count == 0
            ? null
            : new(
                FindingCode.DataLeftBehind,
                Severity.Blocks,
                $"Its program has written {Named(written)} since it began, and {(written.Count == 1 ? "it is" : "they are")} not among the new files.",
                "It would begin with the new files and without them; they would stay with the version before.",
                $"calm adjust {actor.Definition.Name} --data {CommandLine.Typed(written[0])}   leaves it where it is; --over keeps all "
                    + "files that the new ones do not replace; --accept data-left-behind lets them go"
            );
    }

    private static bool Written(Held top, string path, DateTimeOffset since)
    {
        // What an interpreter keeps of scripts it has read it makes again.
        if (path.Split('/').Contains("__pycache__"))
            return false;
        using var file = FileTrees.Find(top, path);
        return file?.Identity() is { Type: FileType.Regular } what && what.Written > since;
    }

    private static string Named(List<string> paths) =>
        string.Join(", ", paths.Take(3)) + (paths.Count > 3 ? $" and {paths.Count - 3} more files" : "");

    private List<string> UsedBy(ServiceActor actor, string directory, string given)
    {
        var users = new List<string>();
        foreach (var other in registry.All.Where(other => other != actor))
        {
            var program = other.Definition.Program;
            string?[] paths = [program.Path, program.With, program.Directory, other.Definition.Files.Directory];
            if (
                paths.Any(path =>
                    path is not null
                    && (path == given || Lies(path, given) || path == directory || Lies(path, directory))
                )
            )
                users.Add(
                    $"{other.Definition.Name}, a service"
                        + (other.Situation.Lives ? ": it goes on with the files of before until it is restarted" : "")
                );
        }

        var own = actor.Situation.Run?.Pid is { } main ? ProcessFacts.Tree(main).ToHashSet() : [];
        foreach (var pid in ProcessFacts.All().Where(pid => !own.Contains(pid)))
        {
            if (users.Count >= MostUsers)
                break;
            string?[] paths = [ProcessFacts.Executable(pid), ProcessFacts.WorkingDirectory(pid)];
            if (paths.Any(path => path is not null && (path == directory || Lies(path, directory))))
                users.Add(
                    $"pid {pid} ({Shown.Line(Path.GetFileName(ProcessFacts.Executable(pid) ?? "?"))}): it goes on with the files of before"
                );
        }

        return users;
    }

    private string Interrupts(ServiceActor actor, IReadOnlySet<string> dependents)
    {
        var (definition, now) = (actor.Definition, actor.Situation);
        if (!now.Lives)
            return "Nothing is interrupted: it is not running.";
        if (definition.IsJob)
            return "Nothing is interrupted: the run under way ends first.";
        var stop = tools.Store.UsualStop(actor.Id) is { } usual ? $" (usually {Length.Tenths(usual)})" : "";
        var start = tools.Store.UsualStart(actor.Id) is { } took ? $" (usually ready after {Length.Tenths(took)})" : "";
        var with =
            dependents.Count == 0
                ? ""
                : $", with {string.Join(", ", dependents.Order(StringComparer.Ordinal))}, which need it";
        return now.Run is { } run
            ? $"Run {run.Number} is stopped{stop}{with}, and it is started again{start}."
            : $"It waits to start{with}; it is stopped, and started again{start}.";
    }

    private static FilesNotTakenException NotTaken(ProblemCode code, string detail, string next) =>
        new(code, "The new files are not taken", Shown.Line(detail), next);

    private static FilesNotTakenException NoDirectory(Definition definition) =>
        NotTaken(
            ProblemCode.NoDirectory,
            $"{definition.Program.Path} is a program of the host's own: which directory holds the files of {definition.Title} cannot be told. "
                + "Nothing was changed.",
            $"calm adjust {definition.Name} --files-directory PATH"
        );
}
