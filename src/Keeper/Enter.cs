using System.Buffers.Text;
using System.Runtime.InteropServices;
using CalmSentry.Contract.Keeper;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// The second half of a launch, in a process of its own: fork(2) is unsafe in a managed runtime, so the settings are put on
/// by a fresh image of the keeper, which then becomes the program. The first step that fails is written to the
/// close-on-exec status pipe as two 32-bit numbers, step and errno; a pipe closed empty means the program's image is in place.
/// </summary>
internal static unsafe class Enter
{
    private static int statusPipe;

    public static int Become(int spec, int status, int input, int output, int error)
    {
        statusPipe = status;
        var length = (int)lseek(spec, 0, 2);
        _ = lseek(spec, 0, 0);
        var body = (byte*)NativeMemory.Alloc((nuint)length + 1);
        for (nint have = 0; have < length;)
        {
            var got = read(spec, body + have, length - have);
            if (got <= 0) Fail(LaunchStep.Order);
            have += got;
        }

        byte* program = null, directory = null;
        long uid = -1, gid = -1, mask = -1;
        int arguments = 0, variables = 0, groupCount = 0;
        foreach (var field in new Fields(new ReadOnlySpan<byte>(body, length)))
        {
            if (field.Is(LaunchField.Argument)) arguments++;
            else if (field.Is(LaunchField.Environment)) variables++;
            else if (field.Is(LaunchField.Supplementary)) groupCount++;
            else if (field.Is(LaunchField.Program)) program = body + field.Offset;
            else if (field.Is(LaunchField.Directory)) directory = body + field.Offset;
            else if (field.Is(LaunchField.UserId)) uid = Number(field.Value);
            else if (field.Is(LaunchField.GroupId)) gid = Number(field.Value);
            else if (field.Is(LaunchField.Mask)) mask = Octal(field.Value);
        }

        var argv = (byte**)NativeMemory.AllocZeroed((nuint)(arguments + 1), (nuint)sizeof(byte*));
        var envp = (byte**)NativeMemory.AllocZeroed((nuint)(variables + 1), (nuint)sizeof(byte*));
        var groups = (uint*)NativeMemory.AllocZeroed((nuint)(groupCount + 1), sizeof(uint));
        arguments = variables = groupCount = 0;
        foreach (var field in new Fields(new ReadOnlySpan<byte>(body, length)))
        {
            if (field.Is(LaunchField.Argument)) argv[arguments++] = body + field.Offset;
            else if (field.Is(LaunchField.Environment)) envp[variables++] = body + field.Offset;
            else if (field.Is(LaunchField.Supplementary)) groups[groupCount++] = (uint)Number(field.Value);
        }

        if (setsid() < 0) Fail(LaunchStep.Session);
        if (dup2(input, 0) < 0 || dup2(output, 1) < 0 || dup2(error, 2) < 0) Fail(LaunchStep.Streams);
        var arm = RuntimeInformation.ProcessArchitecture == Architecture.Arm64;
        if (uid >= 0)
        {
            // Raw calls: the C library's wrappers would change every thread, and only the one that executes counts.
            if (syscall(arm ? SYS_setgroups_arm64 : SYS_setgroups_x64, groupCount, (nint)groups, 0) < 0) Fail(LaunchStep.Groups);
            if (syscall(arm ? SYS_setresgid_arm64 : SYS_setresgid_x64, (nint)gid, (nint)gid, (nint)gid) < 0) Fail(LaunchStep.Group);
            if (syscall(arm ? SYS_setresuid_arm64 : SYS_setresuid_x64, (nint)uid, (nint)uid, (nint)uid) < 0) Fail(LaunchStep.Account);
        }

        _ = umask(mask >= 0 ? (uint)mask : 0x12); // 0022
        if (directory is not null && chdir(directory) < 0) Fail(LaunchStep.Directory);

        // The runtime ignores SIGPIPE and exec would hand that on. Live handlers fall away by themselves at exec.
        var action = stackalloc byte[152];
        for (var signal = 1; signal <= 64; signal++)
        {
            if (signal is SIGKILL or 19 or 32 or 33 || sigaction(signal, null, action) < 0 || *(nint*)action != 1) continue;
            *(nint*)action = 0;
            if (sigaction(signal, action, null) < 0) Fail(LaunchStep.Signals);
        }

        var none = stackalloc byte[128];
        _ = sigemptyset(none);
        if (syscall(SYS_close_range, 3, unchecked((nint)uint.MaxValue), (nint)CLOSE_RANGE_CLOEXEC) < 0) Fail(LaunchStep.Streams);
        _ = sigprocmask(SIG_SETMASK, none, null);
        _ = execve(program, argv, envp);
        Fail(LaunchStep.Execute);
        return 127;
    }

    private static void Fail(LaunchStep step)
    {
        var errno = Marshal.GetLastSystemError();
        var report = stackalloc int[2] { (int)step, errno };
        _ = write(statusPipe, (byte*)report, 8);
        _exit(127);
    }

    private static long Number(ReadOnlySpan<byte> text) => Utf8Parser.TryParse(text, out long number, out _) ? number : -1;

    private static long Octal(ReadOnlySpan<byte> text)
    {
        long number = 0;
        foreach (var digit in text) number = (number * 8) + (digit - '0');
        return number;
    }
}
