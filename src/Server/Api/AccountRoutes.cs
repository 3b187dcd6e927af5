using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Accounts;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Accounts;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;

namespace CalmSentry.Server.Api;

/// <summary>Accounts that run services: made, permitted, given rights on folders.</summary>
internal static class AccountRoutes
{
    private static readonly string[] Searched = ["/srv", "/opt", "/home", "/etc", "/var", "/usr/local", "/mnt", "/tmp"];

    public static void MapAccounts(this IEndpointRouteBuilder api)
    {
        api.MapGet("/accounts", All).Produces<IReadOnlyList<AccountView>>().May(Permission.Read);
        api.MapGet("/accounts/{name}", One).Produces<AccountDetail>().Refuses(404).May(Permission.Read);
        api.MapGet("/paths", PathsFor).Produces<PathsView>().Refuses(400).May(Permission.Define);
        api.MapPost("/accounts/{name}", Create).Produces<Answer>(201).Refuses(409).May(Permission.Administer);
        api.MapDelete("/accounts/{name}", Remove).Produces<Answer>().Refuses(409).May(Permission.Administer);
        api.MapPost("/accounts/{name}/permit", PermitAccount)
            .Produces<Answer>()
            .Refuses(404)
            .May(Permission.Administer);
        api.MapPost("/accounts/{name}/forbid", Forbid).Produces<Answer>().Refuses(404).May(Permission.Administer);
        api.MapPost("/accounts/{name}/grant", Grant)
            .TakesJson<FolderRight>()
            .Produces<Answer>()
            .Refuses(404, 409)
            .May(Permission.Administer);
        api.MapPost("/accounts/{name}/take", Take)
            .TakesJson<FolderRight>()
            .Produces<Answer>()
            .Refuses(404)
            .May(Permission.Administer);
        api.MapPost("/accounts/{name}/hand-over", HandOver).May(Permission.Administer).Produces<Answer>().Refuses(404);
    }

    /// <summary>Accounts that may run services, and those that do.</summary>
    public static IResult All(Registry registry, RunTools tools) =>
        TypedResults.Json(
            (IReadOnlyList<AccountView>)
                [
                    .. tools
                        .Permits.Known.Select(known => known.Name)
                        .Union(registry.All.Select(actor => actor.Definition.Account))
                        .Order(StringComparer.Ordinal)
                        .Select(name => View(name, registry, tools.Permits)),
                ],
            ApiJson.Plain.IReadOnlyListAccountView
        );

    /// <summary>One account: its services, what it may do, which folders it can write.</summary>
    public static async Task<IResult> One(string name, Registry registry, RunTools tools) =>
        Account.Named(name) is { } account
            ? TypedResults.Json(
                await Detail(account, registry, tools).ConfigureAwait(false),
                ApiJson.Plain.AccountDetail
            )
            : NoSuchAccount(name);

    /// <summary>Permit an account to run services.</summary>
    public static Task<IResult> PermitAccount(
        string name,
        bool? dry,
        Registry registry,
        SentryStore store,
        Record logbook,
        Permits permits,
        HttpContext context
    ) => Permit(name, true, dry == true, registry, store, logbook, permits, context);

    /// <summary>Forbid an account to run services; live runs go on.</summary>
    public static Task<IResult> Forbid(
        string name,
        bool? dry,
        Registry registry,
        SentryStore store,
        Record logbook,
        Permits permits,
        HttpContext context
    ) => Permit(name, false, dry == true, registry, store, logbook, permits, context);

    /// <summary>Give an account just the right it lacks on a folder.</summary>
    /// <param name="name">The account.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    /// <param name="yes">Also where root's own link leads somewhere else, or more than 10,000 files and folders are concerned.</param>
    public static Task<IResult> Grant(
        string name,
        bool? dry,
        bool? yes,
        RunTools tools,
        Record logbook,
        HttpContext context
    ) => Folder(name, tools, logbook, context, give: true, dry == true, yes == true);

    /// <summary>Take back what was granted on a folder.</summary>
    public static Task<IResult> Take(string name, bool? dry, RunTools tools, Record logbook, HttpContext context) =>
        Folder(name, tools, logbook, context, give: false, dry == true, yes: true);

    private static IResult NoSuchAccount(string name) =>
        Problems.Of(
            404,
            ProblemCode.AccountMissing,
            "No such account",
            $"This host has no account named '{name}'.",
            $"Make it: calm account create {name}"
        );

    private static AccountView View(string name, Registry registry, Permits permits) =>
        new()
        {
            Name = name,
            Uid = Account.Named(name) is { } account ? account.Uid : -1,
            Permitted = permits.Permitted(name),
            Made = permits.WasMade(name),
            Services =
            [
                .. registry
                    .All.Where(actor => actor.Definition.Account == name)
                    .Select(actor => actor.Definition.Name)
                    .Order(StringComparer.Ordinal),
            ],
        };

    private static async Task<AccountDetail> Detail(Account account, Registry registry, RunTools tools)
    {
        // Every folder there is, to a depth people think in; which of them it can write only the kernel knows.
        var options = new EnumerationOptions
        {
            RecurseSubdirectories = true,
            MaxRecursionDepth = 3,
            IgnoreInaccessible = true,
            AttributesToSkip = FileAttributes.ReparsePoint,
        };
        var own = registry
            .All.Where(actor => actor.Definition.Account == account.Name)
            .SelectMany(actor =>
                new[]
                {
                    LaunchOrder.DirectoryOf(actor.Definition, tools.Places),
                    tools.Places.StateOf(actor.Definition.Name),
                }
            );
        var grants = tools.Store.Grants().Where(grant => grant.Account == account.Name).ToList();
        var folders = own.Append(account.Home)
            .Concat(grants.Select(grant => grant.Folder))
            .Concat(Searched)
            .Where(Directory.Exists)
            .Concat(
                Searched
                    .Where(Directory.Exists)
                    .SelectMany(root => Directory.EnumerateDirectories(root, "*", options).Take(5000))
            )
            .Distinct()
            .Order(StringComparer.Ordinal)
            .ToList();
        var answers =
            account.Uid == 0
                ? []
                : await tools
                    .AsAccount.Ask(account, [], [.. folders.Select(folder => new AccessQuestion('w', folder))])
                    .ConfigureAwait(false);
        var writes = folders.Where((_, i) => i < answers.Count && answers[i] == 0).ToList();
        return new AccountDetail
        {
            Account = View(account.Name, registry, tools.Permits),
            Groups = [.. account.Groups.Select(AccountGroup.NameOf)],
            Home = account.Home,
            Shell = account.Shell,
            May = AccountPower.Of(account),
            Writes =
                account.Uid == 0
                    ? ["/"]
                    : [.. writes.Where(folder => !writes.Contains(Path.GetDirectoryName(folder) ?? ""))],
            Granted =
            [
                .. grants.Select(grant =>
                    $"{grant.Path}, by {(grant.How == "group" ? "its group" : "an access list")}"
                    + (grant.Path == grant.Folder ? "" : $", to pass through to {grant.Folder}")
                ),
            ],
        };
    }

    /// <summary>Paths that begin so, as an account that may run services sees them; a directory's end with a slash.</summary>
    /// <param name="beginning">Absolute: what was typed so far.</param>
    /// <param name="account">Left out: as everybody sees them.</param>
    public static async Task<IResult> PathsFor(
        string beginning,
        string? account,
        RunTools tools,
        CancellationToken gone
    )
    {
        const int most = 200,
            longest = 4096;
        if (!beginning.StartsWith('/') || beginning.Length > longest || beginning.Contains('\0'))
            return Problems.Of(
                400,
                ProblemCode.BadAddress,
                "Not a path",
                $"beginning is '{Shown.Line(beginning.Length > 80 ? beginning[..80] + "…" : beginning)}'; allowed: an absolute path of at "
                    + $"most {longest} characters."
            );
        var cut = beginning.LastIndexOf('/') + 1;
        var (directory, name) = (beginning[..cut], beginning[cut..]);
        // A sentry that is not root's is only itself.
        var own = Account.OwnId == 0 ? null : Account.NameOf(Account.OwnId);
        var whole = Account.Named(string.IsNullOrEmpty(account) ? own ?? "nobody" : account);
        if (whole is null || (!string.IsNullOrEmpty(account) && !tools.Permits.Permitted(account)))
            return Answer(
                [],
                whole is null ? $"There is no account {account}." : $"{account} is not permitted to run services."
            );
        var who = string.IsNullOrEmpty(account) && own is null ? "everybody" : whole.Name;
        return await tools.AsAccount.List(whole, directory, name, gone).ConfigureAwait(false) switch
        {
            null => Answer([], $"{directory} has not answered for {AsAccount.Patience.TotalSeconds} s."),
            { Errno: not 0 and var errno } => Answer(
                [],
                $"{directory} cannot be looked into by {who}: {Linux.Native.Names.Errno(errno)}."
            ),
            { Entries: var entries } => Answer(
                entries,
                entries.Count > 0 || name.Length == 0 ? null : $"Nothing in {directory} begins with {name}."
            ),
        };

        IResult Answer(IReadOnlyList<(char Kind, string Name)> entries, string? trouble) =>
            TypedResults.Json(
                new PathsView(
                    [
                        .. entries
                            .Take(most)
                            .Select(one =>
                                one.Kind == 'd'
                                    ? new PathView($"{directory}{one.Name}/", PathKind.Directory)
                                    : new(directory + one.Name, one.Kind == 'x' ? PathKind.Program : PathKind.File)
                            ),
                    ],
                    entries.Count > most,
                    trouble is null ? null : Shown.Line(trouble)
                ),
                ApiJson.Plain.PathsView
            );
    }

    /// <summary>Make a locked system account and permit it to run services.</summary>
    /// <param name="name">Of the account.</param>
    /// <param name="home">
    /// Its home directory, made for it alone where nothing is; null: none, and its services have their state directory for it.
    /// </param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Create(
        string name,
        string? home,
        bool? dry,
        SentryStore store,
        Record logbook,
        Permits permits,
        StateRooms states,
        HttpContext context
    )
    {
        if (
            name.Length is 0 or > 32
            || !(char.IsAsciiLetterLower(name[0]) || name[0] == '_')
            || !name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c is '-' or '_')
        )
            return Problems.Of(
                400,
                ProblemCode.BadAccountName,
                "Not a name for an account",
                $"'{name}'; allowed: lower-case letters, digits, - and _, beginning with a letter, at most 32 "
                    + $"characters."
            );
        if (Account.Named(name) is not null)
            return Problems.Of(
                409,
                ProblemCode.AccountTaken,
                "The account is there already",
                $"This host has an account named '{name}' already; nothing was changed.",
                $"To let it run services: calm account permit {name}"
            );
        if (Account.OwnId != 0)
            return NeedsRoot("only root can make accounts");
        if (home is not null && WhyNoHome(home) is { } why)
            return Problems.Of(
                422,
                ProblemCode.DirectoryNotPossible,
                "Not a home for an account",
                $"{home}: {why}. Nothing was changed.",
                $"A path whose folders only root can write: calm account create {name} --home /srv/{name}"
            );
        var made =
            home is null ? null
            : Directory.Exists(home) ? $"{home}, which is there and stays as it is"
            : home;
        if (dry == true)
            return WouldDo(
                $"{name} would be made: a system account, locked, without password and shell, {(made is null ? "without home" : $"with the home {made}")}; and it would be permitted to run services."
            );
        // An account of before, removed with the host's own tools, may have had the number that this one gets.
        var error = await HostTools
            .Run(
                "useradd",
                "--system",
                "--user-group",
                "--no-create-home",
                "--home-dir",
                home ?? "/nonexistent",
                "--shell",
                "/usr/sbin/nologin",
                "--comment",
                "Runs services under Calm Sentry",
                name
            )
            .ConfigureAwait(false);
        if (error is not null || Account.Named(name) is not { } account)
            return Problems.Of(
                422,
                ProblemCode.AccountNotMade,
                "The host refused",
                $"The account could not be made: {error}"
            );
        var homes = new MadeHomes(store);
        if (states.SetApart(account.Uid).Concat(homes.SetApart(account.Uid)).ToList() is { Count: > 0 } left)
            logbook.Note(new StateSetApartEntry([.. left], account.Uid));
        permits.Set(name, permitted: true, made: true);
        logbook.Note(new AccountMadeEntry(name, account.Uid), Caller.Of(context).Who);
        var homeless = home is null ? null : MakeHome(home, account, homes);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(
            new Answer
            {
                Code = AnswerCode.AccountMade,
                CameTrue = homeless is null,
                Said =
                    $"{name} (uid {account.Uid}) is made: locked, without password and shell, "
                    + (
                        homeless is not null ? $"and its home {home} could not be made: {homeless}"
                        : made is not null ? $"with the home {made}"
                        : "without home: what its services keep there lies in their state directories"
                    )
                    + $". It is permitted to run services. Folders it needs: calm account grant {name} FOLDER",
            },
            201
        );
    }

    /// <returns>Why a path cannot be an account's home, as a clause; null: it can.</returns>
    private static string? WhyNoHome(string home)
    {
        if (!Path.IsPathRooted(home) || Incoming.Odd(home) || home.Contains(':', StringComparison.Ordinal))
            return "it is no absolute path without colons and control characters";
        if (Path.GetFullPath(home) != home || Path.GetDirectoryName(home) is not { } folder)
            return "it is written with dots, or with a slash at its end, or is the root";
        try
        {
            using var way = Held.Walk(Ground.ProgramFiles, folder);
            if (way.Last.Identity.Type != FileType.Directory)
                return $"{folder} is no directory";
            using var there = way.Held.Entry(Path.GetFileName(home));
            return there is not null && there.Identity().Type != FileType.Directory
                    ? "there is something else than a directory"
                : there is null && !way.Last.IsRootsAlone
                    ? $"others than root can write in {folder}, or in a folder above it"
                : null;
        }
        catch (IOException error)
        {
            return error.Message.TrimEnd('.');
        }
    }

    /// <summary>For the account alone; one that is there stays as it is.</summary>
    /// <returns>Why it cannot be made, as a clause; null: it is.</returns>
    private static string? MakeHome(string home, Account account, MadeHomes homes)
    {
        try
        {
            using var way = Held.Walk(Ground.ProgramFiles, Path.GetDirectoryName(home)!);
            var name = Path.GetFileName(home);
            using var there = way.Held.Entry(name);
            if (there is not null)
                return null;
            if (!way.Last.IsRootsAlone)
                return "others than root can write above it";
            using var made = way.Held.MakeDirectory(
                name,
                UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute
            );
            homes.Add(home);
            return made.Give(account.Uid, account.Gid) is var errno and not 0 ? Linux.Native.Names.Errno(errno) : null;
        }
        catch (IOException error)
        {
            return error.Message.TrimEnd('.');
        }
    }

    /// <summary>Remove an account that was made here and runs no service.</summary>
    public static async Task<IResult> Remove(
        string name,
        bool? dry,
        Registry registry,
        RunTools tools,
        Record logbook,
        HttpContext context
    )
    {
        if (Account.Named(name) is not { } account)
            return NoSuchAccount(name);
        if (!tools.Permits.WasMade(name))
            return Problems.Of(
                409,
                ProblemCode.AccountNotOurs,
                "Not made here",
                $"The account {name} was not made by 'calm account create', so it is not removed here.",
                $"To keep it from running services: calm account forbid {name}"
            );
        if (View(name, registry, tools.Permits).Services is { Count: > 0 } services)
            return Problems.Of(
                409,
                ProblemCode.AccountInUse,
                "It is in use",
                $"{string.Join(", ", services)} run as {name}.",
                "Unwrap them, or adjust them to another account, first."
            );
        var rights = new FolderRights(tools);
        var folders = tools
            .Store.Grants()
            .Where(grant => grant.Account == name)
            .Select(grant => grant.Folder)
            .Distinct()
            .ToList();
        if (dry == true)
            return WouldDo(
                $"{name} would be removed"
                    + (
                        folders.Count == 0
                            ? "."
                            : $", and what was granted to it on {string.Join(", ", folders)} taken back."
                    )
            );
        foreach (var folder in folders)
            await rights.Take(account, folder).ConfigureAwait(false);
        if (await HostTools.Run("userdel", name).ConfigureAwait(false) is { } error)
            return Problems.Of(
                422,
                ProblemCode.AccountNotRemoved,
                "The host refused",
                $"The account could not be removed: {error}"
            );
        tools.Permits.Forget(name);
        var apart = tools.States.SetApart(account.Uid);
        var homes = new MadeHomes(tools.Store).SetApart(account.Uid);
        logbook.Note(new AccountRemovedEntry(name, [.. apart, .. homes]), Caller.Of(context).Who);
        await tools.Store.Kept().ConfigureAwait(false);
        var said =
            $"{name} is removed, and what was granted to it is taken back. Files it made elsewhere stay where "
            + $"they are, and are those of whoever gets its number ({account.Uid}) next."
            + (
                apart.Count == 0
                    ? ""
                    : $" What {string.Join(", ", apart)} kept is set apart for root in "
                        + $"{tools.Places.StatesApart}: calm account hand-over ACCOUNT {apart[0]}   gives it to "
                        + $"another account"
            )
            + (homes.Count == 0 ? "" : $" Its home {string.Join(", ", homes)} is root's alone now.");
        return Reply.Of(AnswerCode.AccountRemoved, said);
    }

    /// <summary>Give an account what ?service=NAME kept under an account that was removed.</summary>
    public static async Task<IResult> HandOver(
        string name,
        string service,
        bool? dry,
        SentryStore store,
        Record logbook,
        StateRooms states,
        HttpContext context
    )
    {
        if (Account.Named(name) is not { } account)
            return NoSuchAccount(name);
        if (Account.OwnId != 0)
            return NeedsRoot("only root can give what belongs to others");
        var (done, said) = states.HandOver(ServiceName.From(service), account, dry == true);
        if (done && dry == true)
            return WouldDo(said);
        if (done)
            logbook.Note(new StateHandedOverEntry(said), Caller.Of(context).Who);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(
            new Answer
            {
                Code = AnswerCode.StateHandedOver,
                CameTrue = done,
                Said = said,
            }
        );
    }

    private static IResult NeedsRoot(string why) =>
        Problems.Of(
            422,
            ProblemCode.NeedsRoot,
            "Only root can do that",
            $"This sentry is not run as root, and {why}.",
            "Run the sentry as root."
        );

    private static IResult WouldDo(string said) => Reply.WouldDo($"{said} Nothing was done.");

    private static async Task<IResult> Permit(
        string name,
        bool permitted,
        bool dry,
        Registry registry,
        SentryStore store,
        Record logbook,
        Permits permits,
        HttpContext context
    )
    {
        if (Account.Named(name) is not { } account)
            return NoSuchAccount(name);
        var before = permits.Permitted(name);
        if (dry)
            return WouldDo(
                before == permitted
                    ? $"{name} is {(permitted ? "permitted" : "not permitted")} already: that would change nothing."
                    : $"{name} would be {(permitted ? "permitted" : "forbidden")} to run services."
            );
        permits.Set(name, permitted);
        if (before != permitted)
            logbook.Note(
                permitted ? new AccountPermittedEntry(name) : new AccountForbiddenEntry(name),
                Caller.Of(context).Who
            );
        await store.Kept().ConfigureAwait(false);
        var services = View(name, registry, permits).Services;
        var said = (permitted, before) switch
        {
            (true, true) => $"{name} was permitted already.",
            (true, false) => $"{name} may run services now."
                + (
                    account.Uid == 0
                        ? " It is root: a mistake in such a service can do everything to this machine."
                        : ""
                ),
            (false, false) => $"{name} was not permitted.",
            _ => $"{name} may run services no more."
                + (
                    services.Count == 0
                        ? ""
                        : $" {string.Join(", ", services)} run as it: what is live goes on, no start follows."
                ),
        };
        return Reply.Of(
            new Answer
            {
                Code = permitted ? AnswerCode.AccountPermitted : AnswerCode.AccountForbidden,
                CameTrue = true,
                Said = said,
            }
        );
    }

    private static async Task<IResult> Folder(
        string name,
        RunTools tools,
        Record logbook,
        HttpContext context,
        bool give,
        bool dry,
        bool yes
    )
    {
        var (folder, problem) = await Incoming
            .Json(context.Request, ApiJson.Plain.FolderRight, "a folder and a right")
            .ConfigureAwait(false);
        return folder is null
            ? problem!
            : await Folder(name, folder, tools, logbook, context, give, dry, yes).ConfigureAwait(false);
    }

    /// <param name="yes">What is asked first is meant.</param>
    internal static async Task<IResult> Folder(
        string name,
        FolderRight folder,
        RunTools tools,
        Record logbook,
        HttpContext context,
        bool give,
        bool dry,
        bool yes
    )
    {
        if (Account.Named(name) is not { } account)
            return NoSuchAccount(name);
        if (
            !Path.IsPathRooted(folder.Path)
            || Incoming.Odd(folder.Path)
            || folder.Right is not (null or "write" or "read")
        )
            return Problems.Of(
                400,
                ProblemCode.BadFolder,
                "Not a folder and right",
                $"path is '{folder.Path}', right is '{folder.Right}'; allowed: an absolute path, and write or read."
            );
        if (Account.OwnId != 0)
            return NeedsRoot("only root can change the rights on others' folders");
        var path = Path.TrimEndingDirectorySeparator(Path.GetFullPath(folder.Path));
        var rights = new FolderRights(tools);
        var (write, gone) = (folder.Right != "read", context.RequestAborted);
        if (give && NotGranted(rights, account, path, write, yes || dry, gone) is { } refused)
            return refused;
        if (dry)
            return WouldDo(
                give
                    ? await rights.WouldGrant(account, path, write, gone).ConfigureAwait(false)
                    : rights.WouldTake(account, path)
            );
        var (done, said) = give
            ? await rights.Grant(account, path, write, gone).ConfigureAwait(false)
            : await rights.Take(account, path).ConfigureAwait(false);
        if (done)
            logbook.Note(
                give
                    ? new FolderGrantedEntry(name, string.Join(" ", said))
                    : new FolderTakenEntry(name, string.Join(" ", said)),
                Caller.Of(context).Who
            );
        await tools.Store.Kept().ConfigureAwait(false);
        return Reply.Of(
            new Answer
            {
                Code = give ? AnswerCode.FolderGranted : AnswerCode.FolderTaken,
                CameTrue = done,
                Said = string.Join("\n", said),
            }
        );
    }

    /// <summary>Where a right is given to nobody, or only to who has said so; null: it may be given.</summary>
    private static IResult? NotGranted(
        FolderRights rights,
        Account account,
        string path,
        bool write,
        bool yes,
        CancellationToken gone
    )
    {
        try
        {
            if (rights.Refuses(account, path, write) is { } why)
                return Problems.Of(
                    422,
                    ProblemCode.FolderNotPossible,
                    "Not a folder to be granted",
                    $"{why} Nothing was changed.",
                    "Put what the account needs into a folder of its own, such as /srv/NAME, and grant that."
                );
            return !yes && FolderRights.Asks(path, gone) is { } asks
                ? Problems.Of(
                    409,
                    ProblemCode.GrantAsks,
                    "Is that meant?",
                    $"{asks} Nothing was changed.",
                    "If that is meant, say so: --yes"
                )
                : null;
        }
        catch (IOException error)
        {
            return Problems.Of(
                422,
                ProblemCode.FolderNotPossible,
                "Not a folder to be granted",
                $"Nothing was granted: {error.Message}.",
                "Name a folder that is there, by its own path."
            );
        }
    }
}
