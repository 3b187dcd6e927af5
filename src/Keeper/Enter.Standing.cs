using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// What a process inherits without asking for it. Whoever began the sentry may have had other limits, keys or a place among the
/// processors: a program has what the host's first process gives, as at a boot. docs/inside/launch.md has the list. Where the host
/// refuses one of them the launch goes on: it is no more than it would be by hand.
/// </summary>
internal static unsafe partial class Enter
{
    private const int FirstProcess = 1,
        LastLimit = 15; // RLIMIT_RTTIME

    /// <summary>As root, before an account is taken. Raw calls: of most of these each thread has its own, and only the one that executes counts.</summary>
    /// <param name="keepsProcessors">The order says which processors it may use.</param>
    public static void TakeUsualStanding(bool keepsProcessors)
    {
        // Whoever runs out of memory is chosen among programs as on any host: what keeps the sentry itself from that choice
        // is not handed on (proc(5), oom_score_adj).
        fixed (byte* chosen = "/proc/self/oom_score_adj"u8)
            Say(chosen, (byte)'0');
        _ = JoinKeyring();
        var limit = stackalloc ulong[2];
        for (var resource = 0; resource <= LastLimit; resource++)
            if (
                resource != RLIMIT_NOFILE // the order says it
                && syscall(Arm ? SYS_prlimit_arm64 : SYS_prlimit_x64, FirstProcess, resource, 0, (nint)limit) >= 0
            )
                _ = setrlimit(resource, limit);
        _ = prctl(PR_SET_TIMERSLACK, UsualSlack, 0, 0, 0);
        _ = prctl(PR_SET_SECUREBITS, 0, 0, 0, 0);
        _ = prctl(PR_SET_THP_DISABLE, 0, 0, 0, 0);
        _ = syscall(Arm ? SYS_personality_arm64 : SYS_personality_x64, 0, 0, 0);
        _ = syscall(Arm ? SYS_set_mempolicy_arm64 : SYS_set_mempolicy_x64, 0, 0, 0);
        var priority = 0;
        _ = syscall(Arm ? SYS_sched_setscheduler_arm64 : SYS_sched_setscheduler_x64, 0, 0, (nint)(&priority));
        _ = syscall(Arm ? SYS_ioprio_set_arm64 : SYS_ioprio_set_x64, IOPRIO_WHO_PROCESS, 0, 0);
        if (keepsProcessors)
            return;
        const int bytes = 128; // of a mask of 1024 processors
        var mask = stackalloc byte[bytes];
        new Span<byte>(mask, bytes).Clear();
        if (syscall(Arm ? SYS_sched_getaffinity_arm64 : SYS_sched_getaffinity_x64, FirstProcess, bytes, (nint)mask) > 0)
            _ = sched_setaffinity(0, bytes, mask);
    }

    private static void Say(byte* path, byte word)
    {
        var file = open(path, O_WRONLY | O_CLOEXEC, 0);
        if (file < 0)
            return;
        _ = write(file, &word, 1);
        _ = close(file);
    }

    /// <summary>
    /// A session keyring of its own, with nothing in it (session-keyring(7)): else whatever the sentry was begun with, such as the keys of
    /// root's login, would be every account's, and a place where services find what others leave.
    /// </summary>
    private static bool JoinKeyring() =>
        syscall(Arm ? SYS_keyctl_arm64 : SYS_keyctl_x64, KEYCTL_JOIN_SESSION_KEYRING, 0, 0) >= 0;
}
