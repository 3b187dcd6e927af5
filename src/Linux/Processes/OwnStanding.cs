using System.Globalization;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Processes;

/// <summary>What this process has that its programs are not to inherit.</summary>
public static class OwnStanding
{
    /// <summary>Variable in which a guard hands on what it was started with: its own limits are raised like the server's.</summary>
    public const string UsualFilesVariable = "CALM_USUAL_FILES";

    /// <summary>
    /// Keeps this process, and what it starts, from the kernel's choice when memory runs out (proc(5), oom_score_adj), as
    /// far as this account may: the sentry's own part is small, and everything hangs on it.
    /// </summary>
    public static void KeepFromMemoryChoice()
    {
        try
        {
            File.WriteAllText("/proc/self/oom_score_adj", "-900");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // Only root may.
        }
    }

    /// <summary>
    /// The calling thread does what it does when nobody else wants the processors or disks (setpriority(2),
    /// sched_setscheduler(2) with SCHED_IDLE, ioprio_set(2)), as far as this account may. Not for a thread beside others of one
    /// runtime: each collection waits until every one of them has stopped, and one without a processor does not.
    /// </summary>
    public static unsafe void GiveWay()
    {
        var (nice, disk, scheduling) = (19, 3 << 13, 5);
        var isArm =
            System.Runtime.InteropServices.RuntimeInformation.ProcessArchitecture
            == System.Runtime.InteropServices.Architecture.Arm64;
        var priority = 0;
        _ = Libc.syscall(isArm ? 119 : 144, 0, scheduling, (nint)(&priority)); // sched_setscheduler
        _ = Libc.setpriority(Libc.PRIO_PROCESS, 0, nice);
        _ = Libc.syscall(isArm ? Libc.SYS_ioprio_set_arm64 : Libc.SYS_ioprio_set_x64, Libc.IOPRIO_WHO_PROCESS, 0, disk);
    }

    /// <summary>Which namespaces of this process are others than those of the host's first (namespaces(7)); what cannot be looked at is left out.</summary>
    public static IReadOnlyList<string> OwnNamespaces() =>
        [
            .. Namespaces.Where(kind =>
                Link($"/proc/self/ns/{kind}") is { } own && Link($"/proc/1/ns/{kind}") is { } first && own != first
            ),
        ];

    private static readonly string[] Namespaces = ["cgroup", "ipc", "mnt", "net", "pid", "time", "user", "uts"];

    private static string? Link(string path)
    {
        try
        {
            return new FileInfo(path).LinkTarget;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <summary>Whether this host lets processes have keyrings (keyctl(2)): a container's filter may refuse it.</summary>
    public static bool HasKeyrings() =>
        Libc.syscall(
            System.Runtime.InteropServices.RuntimeInformation.ProcessArchitecture
            == System.Runtime.InteropServices.Architecture.Arm64
                ? Libc.SYS_keyctl_arm64
                : Libc.SYS_keyctl_x64,
            Libc.KEYCTL_GET_KEYRING_ID,
            Libc.KEY_SPEC_SESSION_KEYRING,
            1
        ) >= 0;

    /// <summary>This process is killed when the thread that began it ends (prctl(2), PR_SET_PDEATHSIG).</summary>
    /// <param name="parent">The process of that thread.</param>
    /// <returns>False: it has ended already.</returns>
    public static bool EndsWith(int parent) =>
        Libc.prctl(Libc.PR_SET_PDEATHSIG, Libc.SIGKILL, 0, 0, 0) == 0
        && ProcessFacts.Parent(Environment.ProcessId) == parent;

    /// <summary>
    /// How many files a process of this host may have open without asking for more. The runtime raises its own limit before
    /// anything of ours runs: so it is the one of whoever started the sentry.
    /// </summary>
    public static long UsualFiles { get; } =
        long.TryParse(
            Environment.GetEnvironmentVariable(UsualFilesVariable)
                ?? ProcessFacts.Limit(ProcessFacts.Parent(Environment.ProcessId), "Max open files"),
            NumberStyles.None,
            CultureInfo.InvariantCulture,
            out var files
        )
            ? files
            : 1024;
}
