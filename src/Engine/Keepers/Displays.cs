using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Engine.Keepers;

/// <summary>
/// The displays that programs show their windows on: each a run beside the program's, under a keeper of its own, with the account's
/// rights and a ceiling of its own, and with its sockets in a folder that only these two runs see in the place of the host's.
/// </summary>
internal sealed class Displays(RunTools tools, Func<TimeSpan, Task> delay)
{
    /// <summary>Debian's package of it, for whoever has to install it.</summary>
    public const string Package = "tigervnc-standalone-server";

    private const string Server = "/usr/bin/Xvnc";

    private static readonly TimeSpan ReadyPatience = TimeSpan.FromSeconds(10),
        EndPatience = TimeSpan.FromSeconds(5),
        Beat = TimeSpan.FromMilliseconds(10);

    /// <summary>Beside the pixels themselves; and processes.</summary>
    private const long MemoryBeside = 256L << 20;
    private const int MostProcesses = 32;

    /// <summary>Of what each of them says.</summary>
    private const int MostOutput = 1 << 20;

    private readonly ConcurrentDictionary<string, Display> all = new(StringComparer.Ordinal);

    /// <summary>How displays ended whose runs have not yet.</summary>
    private readonly ConcurrentDictionary<string, string> fallen = new(StringComparer.Ordinal);

    /// <summary>The smallest of Debian's packages with a window manager that puts a title at each window.</summary>
    private const string ManagerPackage = "lwm";

    /// <summary>Why a program can have no display on this host, as a clause, and what to do about it; null: it can.</summary>
    public static (string Why, string Do)? MissingFor(ProgramPart program) =>
        Account.OwnId != 0
            ? (
                "a display of its own needs a sentry that runs as root",
                "Run the sentry as root, or take program.window away."
            )
        : !File.Exists(Server) ? ($"{Server} is not there", $"apt-get install {Package}")
        : DisplayFolder.WhyNot(LaunchField.DisplaySockets) is { } inTheWay
            ? (
                inTheWay,
                $"End the program that listens there, then remove the folder: rm -r {LaunchField.DisplaySockets}. The sentry makes it again."
            )
        : program.WindowManager is { } manager && !File.Exists(manager)
            ? (
                $"its window manager {manager} is not there",
                $"apt-get install {ManagerPackage} has a small one, /usr/bin/{ManagerPackage}"
            )
        : null;

    /// <summary>The live display of a run's site; null: it has none.</summary>
    public Display? Of(string label) => all.GetValueOrDefault(label);

    private static RunSite SiteOf(string label, string place, RunNumber run, string of = "window") =>
        new($"{label}-{of}", run, Path.Combine(place, of), Path.Combine(place, of, "output", OutputForm.Current));

    private static RunSite ManagerOf(string label, string place, RunNumber run) =>
        SiteOf(label, place, run, "window-manager");

    /// <summary>Begins a display for a run, with the window manager it is to have, and waits until it can be used.</summary>
    /// <param name="label">The run's site; its display is found by it.</param>
    /// <param name="fell">Called once when it is gone, with how, as a clause, unless it was ended.</param>
    /// <exception cref="IOException">There can be none here: its message says why.</exception>
    /// <exception cref="OwnTroubleException">It failed: it can be tried again.</exception>
    public async Task Begin(
        string label,
        string place,
        RunNumber run,
        ProgramPart program,
        Account account,
        Action<string> fell
    )
    {
        if (MissingFor(program) is { } missing)
            throw new IOException(missing.Why);
        await End(label, place, account);
        var size = program.Window!.Value;
        var site = SiteOf(label, place, run);
        var sockets = MakeFolders(site, account);
        var order = Order(site, sockets, size, account);
        var link = KeeperLink.Start(tools.Keepers, site.Place);
        var display = new Display(link, site, sockets, account, tools);
        link.Send(order);
        Take(label, display, fell);
        await Until(display.IsReady, () => display.Over is { } why ? $"its display fails: {why}" : null);
        if (program.WindowManager is not { } manager)
            return;
        var beside = ManagerOf(label, place, run);
        MakeFolders(beside);
        link = KeeperLink.Start(tools.Keepers, beside.Place);
        var managed = Manage(display, link, beside, account);
        link.Send(ManagerOrder(beside, display, manager, account));
        await Until(
            () => managed.Begun.IsCompleted,
            () => display.Fell is { } why ? $"its display fails: {why}" : null
        );

        async Task Until(Func<bool> isSo, Func<string?> failed)
        {
            var began = System.Diagnostics.Stopwatch.GetTimestamp();
            while (failed() is not null || !isSo())
            {
                var isLate = System.Diagnostics.Stopwatch.GetElapsedTime(began) > ReadyPatience;
                if (
                    (
                        failed()
                        ?? (
                            isLate
                                ? $"its display fails: it was not ready within {Duration.Write(ReadyPatience)}"
                                : null
                        )
                    ) is
                    { } why
                )
                {
                    await End(label, place, account);
                    throw new OwnTroubleException(why);
                }

                await delay(Beat);
            }
        }
    }

    /// <summary>Finds the display that a server before this one began for a run.</summary>
    /// <returns>False: it is not there any more, or not as it was to be.</returns>
    public async Task<bool> Find(
        string label,
        string place,
        RunNumber run,
        ProgramPart program,
        Account account,
        Action<string> fell
    )
    {
        var (site, beside) = (SiteOf(label, place, run), ManagerOf(label, place, run));
        if (await Find(site, account) is { } link)
        {
            var display = new Display(link, site, SocketsOf(site), account, tools);
            var manager = program.WindowManager is null ? null : await Find(beside, account);
            if (display.IsReady() && program.WindowManager is null == manager is null)
            {
                if (manager is not null)
                    Manage(display, manager, beside, account);
                Take(label, display, fell);
                return true;
            }

            if (manager is not null)
                await Dismiss(manager, beside, account);
            await Dismiss(link, site, account);
        }

        await ClearLeft(beside, account);
        await ClearLeft(site, account);
        return false;
    }

    private async Task<KeeperLink?> Find(RunSite site, Account account)
    {
        if (await KeeperLink.Find(site.Place, tools.Keepers.Program) is not { } link)
            return null;
        if (
            await First(link) is (KeeperWord.Hello, var body)
            && Message.Text(body, "phase") != "idle"
            && Message.Number(body, "run") == site.Run.Value
        )
            return link;
        await Dismiss(link, site, account);
        return null;
    }

    private void Take(string label, Display display, Action<string> fell)
    {
        all[label] = display;
        _ = display.Hear(() =>
        {
            var how = display.Fell ?? GoneUnseen;
            if (all.ContainsKey(label))
                fallen[label] = how;
            if (all.TryRemove(new(label, display)))
                fell(how);
        });
    }

    /// <summary>A display ends with its window manager.</summary>
    private Companion Manage(Display display, KeeperLink link, RunSite beside, Account account)
    {
        display.Manager = new Companion(link, beside, [account.Uid], tools);
        _ = display.Manager.Hear(display.End);
        return display.Manager;
    }

    private async Task<(KeeperWord, byte[])?> First(KeeperLink link)
    {
        var word = link.Next();
        return await Task.WhenAny(word, delay(EndPatience)) == word ? await word : null;
    }

    /// <summary>Ends the display of a run, if it has one, also one that a server before this one began.</summary>
    /// <param name="account">Whose it is; null: the host does not know it any more.</param>
    public async Task End(string label, string place, Account? account)
    {
        all.TryRemove(label, out var display);
        fallen.TryRemove(label, out _);
        await End(display?.Manager, ManagerOf(label, place, new(1)), account);
        await End(display, SiteOf(label, place, new(1)), account);
    }

    private async Task End(Companion? known, RunSite site, Account? account)
    {
        if (known is not null)
        {
            known.End();
            await Task.WhenAny(known.Gone, delay(EndPatience));
        }
        else if (await KeeperLink.Find(site.Place, tools.Keepers.Program) is { } left)
            await Dismiss(left, site, account);

        await ClearLeft(site, account);
    }

    /// <summary>A keeper that nobody needs any more ends what it has, and leaves.</summary>
    private async Task Dismiss(KeeperLink link, RunSite site, Account? account)
    {
        var left = new Companion(link, site, account is null ? [] : [account.Uid], tools);
        left.End();
        link.Send(new Message(KeeperWord.Leave)); // where it has nothing, it is not heard of again
        await Task.WhenAny(left.Hear(() => { }), delay(EndPatience));
    }

    /// <summary>Whether it is known of a run's display how it is with it, or was.</summary>
    public bool Knows(string label) => all.ContainsKey(label) || fallen.ContainsKey(label);

    private const string GoneUnseen = "nobody saw its end";

    /// <returns>How the display of a run ended, as a clause, where it is gone, or goes within a moment; null: it is there.</returns>
    public async Task<string?> HowEnded(string label)
    {
        if (Of(label) is not { } display)
            return fallen.GetValueOrDefault(label, GoneUnseen);
        await Task.WhenAny(display.Gone, delay(TimeSpan.FromMilliseconds(300)));
        return display.Fell ?? (display.Gone.IsCompleted ? GoneUnseen : null);
    }

    /// <summary>
    /// What displays left that nobody keeps any more, of whichever run: their groups and marks outlive a wiped place, and a server that was
    /// lost while it ended one.
    /// </summary>
    private async Task ClearLeft(RunSite site, Account? account)
    {
        IReadOnlyCollection<uint> accounts = account is null ? [] : [account.Uid];
        uint[] believed = [0, .. accounts];
        IEnumerable<string> groups = tools.Groups.Directory is { } all
            ? Directory.EnumerateDirectories(all, $"{site.Name}.*")
            : [];
        var left = groups
            .Select(group => long.TryParse(Path.GetExtension(group).TrimStart('.'), out var run) ? run : 0)
            .Concat(
                RunNotes
                    .Marked(tools.Places)[site.Name]
                    .Where(mark => mark.Users.AreAll(believed))
                    .Select(mark => mark.Run)
            )
            .Where(run => run > 0)
            .Distinct()
            .Take(MostLeft)
            .ToList();
        // Side by side: what does not end takes its time once, however many numbers the account's processes claim.
        await Task.WhenAll(
            left.Select(run => Remains.End(site with { Run = new(run) }, tools.Places, tools.Groups, accounts))
        );
        tools.SecretFiles.Remove(site.Name);
        tools.Ceilings.Forget(site.Name);
        if (!Directory.Exists(site.Place))
            return;
        // In it is a folder of the account's.
        using var above = Held.Walk(Ground.Own, Path.GetDirectoryName(site.Place)!);
        above.Held.Remove(Path.GetFileName(site.Place));
    }

    /// <summary>Runs that are cleared away at once: the numbers are text in the account's hands.</summary>
    private const int MostLeft = 32;

    private static string SocketsOf(RunSite site) => Path.Combine(site.Place, "sockets");

    private static string MakeFolders(RunSite site, Account account)
    {
        // What keeps others out of the sockets is that nobody comes through these, whatever the display makes of its own folder.
        MakeFolders(site);
        var sockets = SocketsOf(site);
        OwnDirectory.Make(sockets);
        Ownership.Give(sockets, account);
        if (DisplayFolder.Make(LaunchField.DisplaySockets) is { } why)
            throw new IOException(why);
        return sockets;
    }

    /// <summary>One by one: parents that are made with a folder have the usual rights.</summary>
    private static void MakeFolders(RunSite site)
    {
        OwnDirectory.Make(Path.GetDirectoryName(site.Place)!);
        OwnDirectory.Make(site.Place);
        OwnDirectory.Make(Path.GetDirectoryName(site.Output)!);
    }

    private Message Order(RunSite site, string sockets, WindowSize size, Account account)
    {
        var key = tools.SecretFiles.Write(site.Name, KeyName, KeyFile(), account);
        return Order(
            site,
            sockets,
            account,
            MemoryBeside + (4L * size.Width * size.Height),
            [
                Server,
                "-displayfd",
                "1",
                "-geometry",
                size.ToString(),
                "-depth",
                "24",
                "-rfbport",
                "-1",
                "-rfbunixpath",
                $"{LaunchField.DisplaySockets}/{Display.FrameSocket}",
                "-rfbunixmode",
                "0600",
                "-SecurityTypes",
                "None",
                "-auth",
                key,
                "-nolisten",
                "tcp",
                "-nolisten",
                "local",
                "-extension",
                "GLX",
                "-noreset",
                "-AlwaysShared",
                "-AcceptSetDesktopSize=0",
                "-CompareFB=0", // a second copy of all pixels would be a fifth of its memory
                "-Log",
                "*:stderr:0", // what comes and goes is many lines a viewer
            ],
            []
        );
    }

    private Message ManagerOrder(RunSite site, Display display, string manager, Account account) =>
        Order(site, display.Sockets, account, MemoryBeside, [manager], EnvironmentOf(display));

    private Message Order(
        RunSite site,
        string sockets,
        Account account,
        long memory,
        IReadOnlyList<string> command,
        IEnumerable<(string Name, string Value)> environment
    )
    {
        var group = site.Group(tools.Groups);
        var order = new Message(KeeperWord.Launch)
            .With(LaunchField.Run, site.Run)
            .With(LaunchField.Place, site.Place)
            .With(LaunchField.Output, site.Output)
            .With(LaunchField.Most, MostOutput)
            .With(LaunchField.Directory, "/")
            .With(LaunchField.Program, command[0])
            .With(LaunchField.Mask, "077")
            .With(LaunchField.GoOn, 1)
            .With(LaunchField.Sockets, sockets);
        foreach (var argument in command)
            order.With(LaunchField.Argument, argument);
        (string, string)[] usual =
        [
            ("PATH", "/usr/bin:/bin"),
            ("HOME", "/nonexistent"),
            ("LANG", "C.UTF-8"),
            ("CALM_RUN", site.Mark(tools.Places)),
        ];
        foreach (var (name, value) in usual.Concat(environment))
            order.With(LaunchField.Environment, $"{name}={value}");
        order.With(LaunchField.UserId, account.Uid).With(LaunchField.GroupId, account.Gid);
        if (group is not null)
            order.With(LaunchField.ControlGroup, group);
        var (join, _) = tools.Ceilings.Set(site.Name, group, new(memory, null, MostProcesses, null));
        foreach (var directory in join)
            order.With(LaunchField.Join, directory);
        return order.With(LaunchField.Nice, 0).With(LaunchField.NoMoreRights, 1);
    }

    /// <summary>
    /// One entry of a key file (Xau(3)): for any address (FamilyWild) and any display, MIT-MAGIC-COOKIE-1 with 16 random bytes. Numbers
    /// are of two bytes, the high one first; each text has its length before it.
    /// </summary>
    private static byte[] KeyFile() =>
        [
            0xff,
            0xff,
            0,
            0,
            0,
            0,
            0,
            18,
            .. Encoding.ASCII.GetBytes("MIT-MAGIC-COOKIE-1"),
            0,
            KeyLength,
            .. RandomNumberGenerator.GetBytes(KeyLength),
        ];

    /// <summary>The 16 bytes of a display's key, which end its file.</summary>
    /// <exception cref="IOException">It is not there.</exception>
    public byte[] KeyOf(string label)
    {
        // The file is the account's, which may make it as long as it likes, take a lease on it (fcntl(2)), or put a pipe there.
        var length = KeyFile().Length;
        var bytes = Held.Head(
            Ground.Secrets,
            tools.SecretFiles.PathOf(Of(label)?.Site.Name ?? throw new IOException("the display is gone"), KeyName),
            length
        );
        if (bytes.Length < length)
            throw new IOException("the display's key is not whole");
        return bytes[^KeyLength..];
    }

    private const string KeyName = "key";
    private const int KeyLength = 16;

    /// <summary>What a program is told of its display: where it is, and its key.</summary>
    public IEnumerable<(string Name, string Value)> Environment(string label) =>
        Of(label) is { } display ? EnvironmentOf(display) : [];

    private IEnumerable<(string Name, string Value)> EnvironmentOf(Display display) =>
        [("DISPLAY", $":{display.Number}"), ("XAUTHORITY", tools.SecretFiles.PathOf(display.Site.Name, KeyName))];
}
