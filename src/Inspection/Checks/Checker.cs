using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Telling;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Rhythms;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Sockets;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Inspection.Checks;

/// <summary>What all checks of one definition work with.</summary>
/// <param name="Account">Null when the host does not know it.</param>
/// <param name="Groups">Groups it is given beside the account's own, as far as the host knows them.</param>
/// <param name="Self">The service as it is registered, if it is.</param>
/// <param name="Others">All other services.</param>
/// <param name="AsAccount">How the host is asked as the account: new files may be seen where they are not yet.</param>
internal sealed record Subject(
    Definition Definition,
    Account? Account,
    IReadOnlyList<uint> Groups,
    ServiceActor? Self,
    IReadOnlyList<ServiceActor> Others,
    RunTools Tools,
    Clocks Clocks,
    TimeSpan ShutdownWithin,
    Askers Asked,
    AsAccount AsAccount,
    HostLook Host
)
{
    public bool Runs => Self?.Situation.Run is not null;

    public IReadOnlyCollection<uint> Askers => Asked.Users;

    public bool EndsCopies => Asked.EndsCopies;
}

/// <summary>Who asks for a check, and for what.</summary>
/// <param name="Users">The account, and the login behind it, by number; none where the sentry looks by itself.</param>
/// <param name="EndsCopies">Copies that are in the way would be ended first.</param>
internal sealed record Askers(IReadOnlyCollection<uint> Users, bool EndsCopies = false)
{
    public static Askers Nobody { get; } = new([]);
}

/// <summary>What is read of the host once for all checks of one act, when the first of them wants it.</summary>
internal sealed class HostLook
{
    private readonly Lazy<Task<CopyLook>> copies;
    private readonly Lazy<IReadOnlyList<Listening>> sockets = new(Linux.Sockets.Listening.All);

    public HostLook(ProcessTable processes, RunTools tools, Registry registry) =>
        copies = new(async () =>
            new(await processes.Read().ConfigureAwait(false), () => Sockets, registry.All, tools.Store, tools.Places)
        );

    public Task<CopyLook> Copies => copies.Value;

    public IReadOnlyList<Listening> Sockets => sockets.Value;
}

/// <summary>Looks at a definition and this host before anything is run, and says what would go wrong.</summary>
internal sealed class Checker(
    RunTools tools,
    Clocks clocks,
    Func<TimeSpan> shutdownWithin,
    Func<RecipientSet> recipients,
    Registry registry
) : IDisposable
{
    /// <summary>What is run for a check belongs to no service.</summary>
    public const string Label = "~check";

    /// <summary>All processes, read once for everybody who asks at the same time.</summary>
    public ProcessTable Processes { get; } = new();

    private readonly LibraryChecks libraries = new();

    /// <summary>
    /// How long all the checks of one definition may take together, and how many are looked at side by side.
    /// </summary>
    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(1);

    private readonly SemaphoreSlim room = new(4);

    /// <summary>Everything; those that block first.</summary>
    /// <exception cref="OwnTroubleException">They take too long.</exception>
    public Task<IReadOnlyList<Finding>> All(Definition definition, Askers askers, AsAccount? asAccount = null) =>
        Within(() => Look(SubjectOf(definition, NewLook(), askers, asAccount)));

    /// <summary>The same definition, with the days that files of its rhythm leave out, as they are now.</summary>
    public Task<Definition> WithDays(Definition definition, CancellationToken cancellation) =>
        DaysLook.Known(definition, tools.AsAccount, cancellation);

    /// <summary>Those that can block, as a start needs them.</summary>
    /// <exception cref="OwnTroubleException">They take too long.</exception>
    public Task<IReadOnlyList<Finding>> ForStart(Definition definition, Askers askers) =>
        Within(() => Blocking(SubjectOf(definition, NewLook(), askers)));

    /// <summary>The same of several that are started as one act: all of them share what is read of the host, and an account's questions.</summary>
    /// <returns>In their order.</returns>
    /// <exception cref="OwnTroubleException">They take too long.</exception>
    public Task<IReadOnlyList<Finding>[]> ForStart(IReadOnlyList<Definition> definitions, Askers askers) =>
        Within(() =>
        {
            var asAccount = tools.AsAccount.Gathered();
            var host = NewLook();
            return Task.WhenAll(definitions.Select(one => Blocking(SubjectOf(one, host, askers, asAccount))));
        });

    private async Task<T> Within<T>(Func<Task<T>> look)
    {
        if (!await room.WaitAsync(Patience).ConfigureAwait(false))
            throw new OwnTroubleException(
                $"checks asked for before this one have taken over {Patience.TotalSeconds:0} s"
            );
        var looking = Task.Run(look);
        _ = looking.ContinueWith(_ => room.Release(), TaskScheduler.Default);
        try
        {
            return await looking.WaitAsync(Patience).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            throw new OwnTroubleException(
                $"the checks had not ended after {Patience.TotalSeconds:0} s; a file system that does not answer "
                    + $"may be the reason"
            );
        }
    }

    private async Task<IReadOnlyList<Finding>> Look(Subject subject)
    {
        var blocking = Blocking(subject, whole: true);
        var modules = ModuleChecks.Look(subject);
        var found = new List<Finding>();
        found.AddRange(IdentityChecks.Advice(subject));
        found.AddRange(ResourceChecks.Advice(subject));
        found.AddRange(SecretChecks.InPlain(subject));
        found.AddRange(NeedChecks.Look(subject));
        found.AddRange(StopChecks.Look(subject));
        found.AddRange(NameChecks.Look(subject));
        found.AddRange(RhythmChecks.Look(subject));
        found.AddRange(await RhythmChecks.Days(subject).ConfigureAwait(false));
        found.AddRange(RecipientChecks.Look(subject, recipients()));
        found.AddRange(OtherStartChecks.Look(subject.Definition.Program));
        found.AddRange(await modules.ConfigureAwait(false));
        found.AddRange(PlaceChecks.SetApart(subject));
        found.AddRange(await CertificateChecks.Look(subject).ConfigureAwait(false));
        found.AddRange(await blocking.ConfigureAwait(false));
        return [.. found.OrderBy(finding => finding.Severity)];
    }

    public void Dispose()
    {
        Processes.Dispose();
        room.Dispose();
    }

    private async Task<IReadOnlyList<Finding>> Blocking(Subject subject, bool whole = false)
    {
        var found = new List<Finding>();
        var program = ProgramChecks.Look(subject.Definition).ToList();
        found.AddRange(program);
        found.AddRange(IdentityChecks.Look(subject));
        found.AddRange(ResourceChecks.Look(subject));
        found.AddRange(SecretChecks.Missing(subject));
        found.AddRange(OutputChecks.Look(subject));
        found.AddRange(WindowChecks.Look(subject.Definition));
        if (program.Count == 0)
            found.AddRange(await libraries.Look(subject).ConfigureAwait(false));
        found.AddRange(
            await PlaceChecks.Look(subject, programIsThere: program.Count == 0, whole).ConfigureAwait(false)
        );
        if (subject.Runs)
            return found;
        var look = await subject.Host.Copies.ConfigureAwait(false);
        var copies = CopyChecks.Find(subject, look);
        found.AddRange(CopyChecks.Look(subject, copies));
        // What a copy holds goes with it.
        var going = subject.EndsCopies
            ? copies.Where(copy => copy.Blocks).SelectMany(copy => look.Below(copy.Pid))
            : [];
        found.AddRange(PortChecks.Look(subject, going.ToHashSet()));
        return found;
    }

    private HostLook NewLook() => new(Processes, tools, registry);

    private Subject SubjectOf(Definition definition, HostLook host, Askers askers, AsAccount? asAccount = null)
    {
        var account = Account.Named(definition.Account);
        var groups = AccountGroup.IdsOf(definition.Identity.Groups);
        var self = registry.Named(definition.Name);
        return new(
            definition,
            account,
            groups,
            self,
            [.. registry.All.Where(other => other != self)],
            tools,
            clocks,
            shutdownWithin(),
            askers,
            asAccount ?? tools.AsAccount,
            host
        );
    }
}
