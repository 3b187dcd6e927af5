using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Runs;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Engine.Keepers;

/// <summary>
/// The host as the life of services meets it: keepers, and what runs leave behind. A simulation brings one of its own,
/// that fails whenever it likes; what is behind it is <see cref="RunHost"/>.
/// </summary>
internal interface IRunHost
{
    /// <summary>This boot of the machine.</summary>
    string BootId { get; }

    /// <summary>Why nothing is to begin with the machine at this boot, as a clause; null: all that should does.</summary>
    string? BeginsNothing { get; }

    /// <summary>
    /// Since the machine came up its clock is known to be set, or that has been waited for long enough (5 min).
    /// </summary>
    bool IsClockSet { get; }

    /// <summary>Whether the host was set to another time zone since this was last asked.</summary>
    bool IsZoneAnother();

    /// <summary>Ticks of all processors since boot, and those of them that were idle.</summary>
    (long All, long Idle) ProcessorTime();

    /// <summary>An account as the host has it now; null: there is none of that name.</summary>
    Account? AccountOf(string name);

    // Launching

    /// <summary>What a keeper is told for a launch, with everything looked up that the host knows.</summary>
    /// <exception cref="OwnTroubleException">The sentry itself is at fault: it is tried again.</exception>
    /// <exception cref="IOException">It cannot be launched: the message says why, without a full stop.</exception>
    Message Order(IRunning service, Account account, RunNumber run, bool switchOff);

    /// <summary>Begins the display that a run is to show its windows on, and waits until it can be used.</summary>
    /// <param name="fell">Called once when it is gone, unless it was ended.</param>
    /// <exception cref="OwnTroubleException">It failed: it is tried again.</exception>
    /// <exception cref="IOException">There can be none: the message says why, without a full stop.</exception>
    Task BeginDisplay(IRunning service, Account account, RunNumber run, Action<string> fell);

    /// <summary>Finds the display of a run that a server before this one began.</summary>
    /// <param name="program">What the run was launched by.</param>
    /// <returns>False: it is gone.</returns>
    Task<bool> FindDisplay(IRunning service, ProgramPart program, Account account, RunNumber run, Action<string> fell);

    /// <returns>How the display of a service ended, as a clause, where it is gone, or goes within a moment; null: it is there.</returns>
    Task<string?> HowDisplayEnded(IRunning service, ProgramPart program, Account account, RunNumber run);

    /// <summary>Its run is over.</summary>
    Task EndDisplay(IRunning service, Account? account);

    /// <summary>Makes the directories that a keeper and its program begin in.</summary>
    void MakePlaces(IRunning service, Account account);

    /// <summary>Brings what it printed, and will print, to where its definition wants it.</summary>
    /// <exception cref="IOException">It cannot be brought there.</exception>
    void BringOutput(IRunning service);

    /// <summary>A new keeper; the first order binds it to the service.</summary>
    /// <exception cref="IOException">It cannot be started.</exception>
    IKeeper Start(string runDirectory);

    /// <summary>Makes sure that the next launch does not wait for a keeper to start.</summary>
    void ReserveSoon();

    /// <summary>So many launches, each with a keeper of its own, come within a few seconds.</summary>
    void Expect(int launches);

    /// <summary>The process that a program left in the background, if it can be told yet.</summary>
    DetachedSight Detached(Definition definition, int keeper);

    /// <summary>Bytes in the file of a service's output.</summary>
    long? OutputLength(string service);

    /// <summary>Opens the socket on which a service's programs speak.</summary>
    /// <exception cref="IOException">It cannot be made.</exception>
    void OpenSay(IRunning service, Account account);

    /// <summary>Its keeper was dismissed: what only a live run needs goes.</summary>
    void RunOver(IRunning service);

    /// <summary>The service is no more: what it had on this host goes, but for its output and state.</summary>
    void Forget(IRunning service);

    // What runs leave behind

    /// <summary>
    /// Whether what runs leave behind is still where the last server had it; false: nobody was there before, or its
    /// directory was wiped.
    /// </summary>
    bool Remembers { get; }

    /// <summary>From here on it is where the next server finds it.</summary>
    void Remember();

    /// <summary>The keeper of a service that an earlier server started; null: there is none.</summary>
    /// <param name="processes">What is known to belong to its runs, should its place have been wiped.</param>
    Task<IKeeper?> Find(string runDirectory, Func<IEnumerable<int>> processes);

    /// <summary>Writes down that a run is ordered, before its keeper hears of it.</summary>
    /// <exception cref="OwnTroubleException">It could not be written; nothing was ordered.</exception>
    void Note(string runDirectory, RunNumber run, RunNote note);

    /// <summary>
    /// Writes down that somebody stopped the service, until that is on record: where nothing more comes to be on record, a server
    /// that returns in this boot still knows. Where it cannot be written, it is left.
    /// </summary>
    void NoteStop(string runDirectory, string by);

    /// <summary>Who stopped the service in this boot, by what was written down of it; null: nothing was.</summary>
    string? StopNoted(string runDirectory);

    /// <summary>It is on record, or somebody started it since.</summary>
    void ForgetStop(string runDirectory);

    /// <summary>What was written down when a run was ordered; null: there is no note of it.</summary>
    RunNote? Noted(string runDirectory, RunNumber run);

    /// <summary>What runs under a mark of this sentry, by the name in it.</summary>
    ILookup<string, MarkedProcess> Marked();

    /// <summary>
    /// The names in run directories and control groups: of services that anything is left of, also of those that are not in the
    /// store.
    /// </summary>
    IReadOnlyList<string> Labels();

    /// <summary>All runs of a service that anything is left of, in their order.</summary>
    /// <param name="marked">Runs that are believed to live by the mark of a process.</param>
    IReadOnlyList<RunNumber> Left(string label, string runDirectory, IEnumerable<long> marked);

    /// <summary>How a run ended, as its keeper wrote it down; null: it wrote nothing.</summary>
    (KeeperWord Word, byte[] Body)? Outcome(string runDirectory, RunNumber run);

    /// <summary>Removes the note of how a run, or a command of it, ended; with that the run is over, all of it.</summary>
    void Discard(RunSite site, bool over);

    /// <summary>The processes of a run whose keeper may be gone.</summary>
    IEnumerable<int> Processes(RunSite site);

    /// <summary>The processes of a service's live run.</summary>
    IReadOnlyList<int> Tree(IRunning service);

    /// <summary>Ends the processes of a run, and returns when none is left, or none more ends.</summary>
    /// <param name="accounts">Whose processes are believed to be the run's by their mark.</param>
    /// <returns>How many there were, and which are still there, as a clause; null: none.</returns>
    Task<(int Ended, string? Left)> End(RunSite site, IReadOnlyCollection<uint> accounts);
}
