using System.ComponentModel;
using System.Diagnostics;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Linux.Accounts;

/// <summary>
/// A right to be asked for on a path: r, w or x, and the answer of the kernel as an errno, 0 for yes.
/// </summary>
public readonly record struct AccessQuestion(char Right, string Path);

/// <summary>
/// Where a command belongs: below a run's own control group, and into further groups that hold ceilings.
/// </summary>
public sealed record CommandPlace(string? Group, IReadOnlyList<string> Join);

/// <summary>
/// Asks and runs things as an account, in a process that really is that account: only the kernel knows what groups,
/// access lists, mount options and network file systems add up to. The keeper's <c>as</c> mode is that process. What is
/// run
/// ends with its limit or with itself, and all it left behind with it.
/// </summary>
public sealed class AsAccount(string keeper, string? groups)
{
    /// <summary>A directory that is seen in the place of another one by what is asked and run; null: all is where it is.</summary>
    private (string From, string At)? seen;

    /// <summary>
    /// The same, where one directory is in the place of another: in a mount namespace of its own (mount_namespaces(7)), so that no way to
    /// the first is opened to anybody. Paths below it are asked about, and given to what is run, as they are met then.
    /// </summary>
    /// <param name="from">Absolute, without links.</param>
    /// <param name="at">Absolute, without links; a directory.</param>
    public AsAccount Seeing(string from, string at) => new(keeper, groups) { seen = (from, at) };

    private GatheredQuestions? gathering;

    /// <summary>The same, for as long as one act takes: what is asked for one account while it is being asked is asked at once.</summary>
    public AsAccount Gathered()
    {
        var gathered = new AsAccount(keeper, groups)
        {
            seen = seen,
            offline = offline,
            mustBeOffline = mustBeOffline,
        };
        gathered.gathering = new(gathered.AskNow);
        return gathered;
    }

    private bool offline,
        mustBeOffline;

    /// <summary>
    /// The same, without any network (network_namespaces(7)), and within 1 GiB of memory, files of 16 MiB and 4096 processes, where the
    /// sentry has root's rights.
    /// </summary>
    /// <param name="required">Where the host lets root make no network of its own, nothing is run; else it is run with the one there is.</param>
    public AsAccount Offline(bool required) =>
        new(keeper, groups)
        {
            seen = seen,
            offline = true,
            mustBeOffline = required,
        };

    /// <summary>A path as it is met by what is asked and run.</summary>
    public string Met(string path) =>
        seen is not { } other ? path : path.Replace(other.From, other.At, StringComparison.Ordinal);

    /// <summary>How long a program that only looks at something may take.</summary>
    public static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    /// <summary>Of what a command prints so much is kept, and so much read before it is left to wait.</summary>
    private const int Kept = 64 << 10,
        MostHeard = 16 << 20;

    /// <summary>
    /// In the environment of every command: its descendants are known by it where there are no control groups.
    /// </summary>
    private const string Mark = "CALM_LOOK";

    /// <summary>For each question, in order, 0 or the errno.</summary>
    /// <exception cref="IOException">The process did not answer.</exception>
    public Task<IReadOnlyList<int>> Ask(
        Account account,
        IEnumerable<uint> moreGroups,
        IReadOnlyList<AccessQuestion> questions,
        CancellationToken cancellation = default
    ) =>
        gathering is null
            ? AskNow(account, moreGroups, questions, cancellation)
            : gathering.Ask(account, [.. moreGroups], questions).WaitAsync(cancellation);

    private async Task<IReadOnlyList<int>> AskNow(
        Account account,
        IEnumerable<uint> moreGroups,
        IReadOnlyList<AccessQuestion> questions,
        CancellationToken cancellation
    )
    {
        if (questions.Count == 0)
            return [];
        var asked = new StringBuilder();
        foreach (var (right, path) in questions)
            asked.Append(right).Append(Met(path)).Append('\0');
        var end = await Talk(
                account,
                moreGroups,
                ["ask"],
                new Dictionary<string, string>(),
                asked.ToString(),
                null,
                Patience,
                questions.Count * 8,
                cancellation
            )
            .ConfigureAwait(false);
        var answers =
            end?.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries)
                .Select(line => int.Parse(line, CultureInfo.InvariantCulture))
                .ToList()
            ?? [];
        return answers.Count == questions.Count
            ? answers
            : throw new IOException(
                $"a process of the account {account.Name} could not be made to ask what it may "
                    + $"do{(end is null ? "" : $" (exit code {end.Value.ExitCode})")}"
            );
    }

    /// <summary>
    /// Runs a program to its end and returns what it said, of each stream at most 64 KiB; null when it could not be run
    /// or took too long.
    /// </summary>
    /// <param name="input">What it finds on its standard input.</param>
    public Task<(int ExitCode, string Output, string Error)?> Run(
        Account account,
        IEnumerable<uint> moreGroups,
        string directory,
        IReadOnlyDictionary<string, string> environment,
        IReadOnlyList<string> command,
        TimeSpan patience,
        CommandPlace? place = null,
        string input = "",
        CancellationToken cancellation = default
    ) =>
        Talk(
            account,
            moreGroups,
            ["run", directory, .. command],
            environment,
            input,
            place,
            patience,
            Kept,
            cancellation
        );

    /// <summary>Of <see cref="Read"/>: the file is longer (EFBIG).</summary>
    public const int IsTooLong = 27;

    /// <summary>A regular file of at most 64 KiB, as text: errno, or 0 and what is in it; null when it took too long.</summary>
    public async Task<(string Text, int Errno)?> Read(
        Account account,
        IEnumerable<uint> moreGroups,
        string path,
        CancellationToken cancellation
    ) =>
        await Look(account, moreGroups, ["read", Met(path)], cancellation).ConfigureAwait(false)
            is { ExitCode: var errno, Output: var text }
            ? (text, errno)
            : null;

    /// <summary>What is in a directory and begins so, in order; of more than 200 the first 201.</summary>
    /// <returns>Of each <c>d</c> (a directory), <c>x</c> (a program) or <c>f</c> (another file) and its name; or why it is not to be seen, as an
    /// errno; null when it took too long.</returns>
    public async Task<(IReadOnlyList<(char Kind, string Name)> Entries, int Errno)?> List(
        Account account,
        string directory,
        string beginning,
        CancellationToken cancellation
    ) =>
        await Look(account, [], ["list", directory, beginning], cancellation).ConfigureAwait(false)
            is { ExitCode: var errno, Output: var text }
            ? (
                [
                    // What was cut off at the bound is no name.
                    .. text.Split('\0')[..^1].Select(one => (one[0], one[1..])),
                ],
                errno
            )
            : null;

    /// <summary>Something that is only looked at, and needs nothing for it.</summary>
    private Task<(int ExitCode, string Output, string Error)?> Look(
        Account account,
        IEnumerable<uint> moreGroups,
        string[] what,
        CancellationToken cancellation
    ) => Talk(account, moreGroups, what, new Dictionary<string, string>(), "", null, Patience, Kept, cancellation);

    /// <summary>
    /// Connects to a Unix socket as the account, sends a text and returns what comes back up to the first line's end.
    /// </summary>
    /// <returns>Exit code 0 and the answer, else the errno of the connection; null when it took too long.</returns>
    public Task<(int ExitCode, string Output, string Error)?> Send(
        Account account,
        IEnumerable<uint> moreGroups,
        string socket,
        string text,
        TimeSpan patience,
        CancellationToken cancellation
    ) =>
        Talk(
            account,
            moreGroups,
            ["send", socket],
            new Dictionary<string, string>(),
            text,
            null,
            patience,
            Kept,
            cancellation
        );

    private async Task<(int ExitCode, string Output, string Error)?> Talk(
        Account account,
        IEnumerable<uint> moreGroups,
        string[] rest,
        IReadOnlyDictionary<string, string> environment,
        string input,
        CommandPlace? place,
        TimeSpan patience,
        int kept,
        CancellationToken cancellation
    )
    {
        var mark = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16));
        var group =
            rest[0] == "run" ? CommandGroup.Make(place?.Group ?? groups, ofRun: place?.Group is not null) : null;
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(patience);
        Process? process = null;
        try
        {
            process = Start(
                account,
                moreGroups,
                [group is null ? "" : group.Directory, .. place?.Join ?? []],
                rest,
                environment,
                mark
            );
            var output = Some(process.StandardOutput.BaseStream, kept, limit.Token);
            var error = Some(process.StandardError.BaseStream, kept, limit.Token);
            try
            {
                await process
                    .StandardInput.BaseStream.WriteAsync(Encoding.UTF8.GetBytes(input), limit.Token)
                    .ConfigureAwait(false);
                process.StandardInput.Close();
            }
            catch (IOException)
            {
                // It did not want to hear all of it.
            }

            await process.WaitForExitAsync(limit.Token).ConfigureAwait(false);
            if (rest[0] == "run")
                await EndAll(account, group, mark).ConfigureAwait(false); // what it left behind holds the pipes open
            var (code, said) = (process.ExitCode, await output.ConfigureAwait(false));
            if (rest[0] == "run" && said.StartsWith((char)AsWord.Begun))
            {
                // Whatever its exit code is, it is the program's own.
                said = said[1..];
                return code == CannotRun && said.StartsWith((char)AsWord.NotBegun)
                    ? null
                    : (code, said, await error.ConfigureAwait(false));
            }

            if (code == GoneToSee)
                throw new MovedException($"{seen?.At} is not there any more");
            if (code == CannotSee)
                throw new IOException(
                    "this host lets root make no view of the file system of its own (unshare(2)), and without one the new files cannot be "
                        + "looked at as the account without opening a way to them for others"
                );
            if (code == CannotBeOffline && offline && !mustBeOffline)
                return await new AsAccount(keeper, groups) { seen = seen }
                    .Talk(account, moreGroups, rest, environment, input, place, patience, kept, cancellation)
                    .ConfigureAwait(false);
            // Of a command that never began nothing is known.
            return rest[0] == "run" || code == CannotRun || (code == CannotBeOffline && offline)
                ? null
                : (code, said, await error.ConfigureAwait(false));
        }
        catch (OperationCanceledException)
        {
            cancellation.ThrowIfCancellationRequested();
            return null;
        }
        finally
        {
            if (process is { HasExited: false })
                process.Kill(entireProcessTree: true);
            if (rest[0] == "run")
                await EndAll(account, group, mark).ConfigureAwait(false);
            process?.Dispose();
        }
    }

    /// <summary>Exit codes of the keeper's <c>as</c> mode when nothing was run.</summary>
    private const int CannotRun = 126,
        CannotSee = 125,
        GoneToSee = 124,
        CannotBeOffline = 123;

    private static async Task EndAll(Account account, CommandGroup? group, string mark)
    {
        if (group is not null)
        {
            await group.End().ConfigureAwait(false);
            return;
        }

        using var left = new MarkedProcesses.Ending($"{Mark}={mark}", [account.Uid], withoutMark: true);
        left.End();
    }

    /// <summary>
    /// The first bytes as text. More is read and dropped, up to a bound: then whoever prints waits, and its limit ends
    /// it.
    /// </summary>
    private static async Task<string> Some(Stream stream, int kept, CancellationToken cancellation)
    {
        var room = new byte[4096];
        var length = 0;
        var rest = new byte[32 << 10];
        for (var read = 0L; read < MostHeard; )
        {
            var into = length < room.Length ? room.AsMemory(length) : rest.AsMemory();
            var got = await stream.ReadAsync(into, cancellation).ConfigureAwait(false);
            if (got == 0)
                break;
            read += got;
            if (length == room.Length)
                continue;
            length += got;
            if (length == room.Length && length < kept)
                Array.Resize(ref room, Math.Min(kept, room.Length * 2));
        }

        return Encoding.UTF8.GetString(room, 0, length);
    }

    private Process Start(
        Account account,
        IEnumerable<uint> moreGroups,
        IReadOnlyList<string> join,
        string[] rest,
        IReadOnlyDictionary<string, string> environment,
        string mark
    )
    {
        var change = Account.OwnId == 0;
        var start = new ProcessStartInfo(
            keeper,
            [
                "as",
                change ? account.Uid.ToString(CultureInfo.InvariantCulture) : "-",
                account.Gid.ToString(CultureInfo.InvariantCulture),
                string.Join(',', account.Groups.Concat(moreGroups).Distinct()),
                string.Join(':', join.Where(one => one.Length > 0)),
                .. seen is { } other && change ? ["seeing", other.From, other.At] : Array.Empty<string>(),
                .. offline && change ? ["offline"] : Array.Empty<string>(),
                .. rest.Select(Met),
            ]
        )
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            WorkingDirectory = "/",
        };
        start.Environment.Clear();
        foreach (var (name, value) in environment)
            start.Environment[name] = Met(value);
        if (rest[0] == "run")
            start.Environment[Mark] = mark;
        try
        {
            return Process.Start(start) ?? throw new IOException($"{keeper} cannot be started");
        }
        catch (Win32Exception error)
            when (error.NativeErrorCode is Libc.EMFILE or Libc.ENFILE or Libc.EAGAIN or Libc.ENOMEM)
        {
            throw new OwnTroubleException(
                $"the sentry is out of room for a process ({Names.Errno(error.NativeErrorCode)})"
            );
        }
        catch (Win32Exception error)
        {
            throw new IOException($"{keeper} cannot be started: {error.Message}", error);
        }
    }
}
