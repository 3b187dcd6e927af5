using System.Globalization;
using System.Text;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Processes;

/// <summary>What the kernel says of a process (proc(5)).</summary>
public static class ProcessFacts
{
    /// <summary>The real command line, one string per argument; empty when the process is gone.</summary>
    public static IReadOnlyList<string> CommandLine(int pid)
    {
        var bytes = Read(pid, "cmdline");
        if (bytes.Length == 0)
            return [];
        if (bytes[^1] == 0)
            bytes = bytes[..^1];
        return Encoding.UTF8.GetString(bytes).Split('\0');
    }

    /// <summary>The user id the process acts with, or null when it is gone.</summary>
    public static uint? EffectiveUser(int pid)
    {
        return Status(pid, "Uid") is { } ids ? uint.Parse(ids.Split('\t')[1], CultureInfo.InvariantCulture) : null;
    }

    /// <summary>The account ids a process has (credentials(7)); null when it is gone.</summary>
    public static ProcessUsers? Users(int pid)
    {
        if (Status(pid, "Uid")?.Split('\t') is not [var real, var effective, var saved, ..])
            return null;
        return new(Number(real), Number(effective), Number(saved));

        static uint Number(string text) => uint.Parse(text, CultureInfo.InvariantCulture);
    }

    /// <summary>
    /// The user who logged in, whatever its processes have become since (proc(5), loginuid, kept by pam_loginuid); null: no
    /// login led to it, or it is gone.
    /// </summary>
    public static uint? LoginUser(int pid) =>
        uint.TryParse(Encoding.ASCII.GetString(Read(pid, "loginuid")), CultureInfo.InvariantCulture, out var user)
        && user != uint.MaxValue
            ? user
            : null;

    /// <summary>
    /// Whether a variable of the environment it was started with begins so, name and equals sign included.
    /// </summary>
    public static bool HasVariableThatBegins(int pid, ReadOnlySpan<byte> beginning) =>
        RestOfVariable(pid, beginning) is not null;

    /// <summary>What follows in the first variable that begins so; null: none does, or there is no such process.</summary>
    public static string? RestOfVariable(int pid, ReadOnlySpan<byte> beginning)
    {
        for (var left = Read(pid, "environ").AsSpan(); !left.IsEmpty; )
        {
            var end = left.IndexOf((byte)0);
            var variable = end < 0 ? left : left[..end];
            if (variable.StartsWith(beginning))
                return Encoding.UTF8.GetString(variable[beginning.Length..]);
            left = left[(variable.Length + (end < 0 ? 0 : 1))..];
        }

        return null;
    }

    /// <summary>
    /// The terminal that controls a process (<c>pts/3</c>), or null: by the device number in proc(5), stat field 7.
    /// </summary>
    public static string? Terminal(int pid)
    {
        var device = Stat(pid, 7);
        var (major, minor) = (device >> 8 & 0xfff, (device & 0xff) | (device >> 12 & 0xfff00));
        return device == 0 ? null
            : major is >= 136 and <= 143 ? $"pts/{minor + ((major - 136) * 256)}"
            : major == 4 ? $"tty{minor}"
            : $"{major}:{minor}";
    }

    /// <summary>Every process there is now.</summary>
    public static IEnumerable<int> All()
    {
        foreach (var directory in Directory.EnumerateDirectories("/proc"))
            if (int.TryParse(Path.GetFileName(directory), NumberStyles.None, CultureInfo.InvariantCulture, out var pid))
                yield return pid;
    }

    /// <summary>The file a process executes, or null when it is gone or not ours to see.</summary>
    public static string? Executable(int pid) => Link(ExecutableLink(pid));

    /// <summary>A path that leads to its executable, also where that has another name by now, or none (proc(5), exe).</summary>
    public static string ExecutableLink(int pid) => $"/proc/{pid}/exe";

    public static string? WorkingDirectory(int pid) => Link($"/proc/{pid}/cwd");

    /// <summary>Whether it sees other mounts than this process (mount_namespaces(7)), as in a container; null: nobody may know.</summary>
    public static bool? HasOwnMounts(int pid) =>
        Link($"/proc/{pid}/ns/mnt") is { } its ? its != Link("/proc/self/ns/mnt") : null;

    /// <summary>Inodes of the sockets a process has open.</summary>
    public static IEnumerable<long> Sockets(int pid) =>
        OpenFiles(pid)
            .Where(target => target.StartsWith("socket:[", StringComparison.Ordinal))
            .Select(target => long.Parse(target.AsSpan(8, target.Length - 9), CultureInfo.InvariantCulture));

    /// <summary>What each descriptor of a process leads to.</summary>
    public static IEnumerable<string> OpenFiles(int pid) => Entries($"/proc/{pid}/fd").Select(Link).OfType<string>();

    /// <summary>What one descriptor of a process leads to; null: it is not open, or not ours to see.</summary>
    public static string? OpenFile(int pid, int descriptor) => Link($"/proc/{pid}/fd/{descriptor}");

    /// <summary>How many descriptors a process has open.</summary>
    public static int CountOpenFiles(int pid) => Entries($"/proc/{pid}/fd", int.MaxValue).Count();

    /// <summary>Regular files a process has open for writing.</summary>
    public static IEnumerable<string> WrittenFiles(int pid)
    {
        foreach (var entry in Entries($"/proc/{pid}/fdinfo"))
        {
            var flags = Encoding
                .UTF8.GetString(ReadAll(entry))
                .Split('\n')
                .FirstOrDefault(line => line.StartsWith("flags:", StringComparison.Ordinal));
            if (flags is null || (Convert.ToInt32(flags[6..].Trim(), 8) & 3) == 0)
                continue;
            if (
                Link($"/proc/{pid}/fd/{Path.GetFileName(entry)}") is { } target
                && target.StartsWith('/')
                && File.Exists(target)
                && !target.StartsWith("/dev/", StringComparison.Ordinal)
            )
                yield return target;
        }
    }

    /// <summary>The value after a name in /proc/PID/status, or null.</summary>
    public static string? Status(int pid, string name)
    {
        foreach (var line in Encoding.UTF8.GetString(Read(pid, "status")).Split('\n'))
            if (line.StartsWith(name + ":", StringComparison.Ordinal))
                return line[(name.Length + 1)..].Trim();
        return null;
    }

    /// <summary>A field of /proc/PID/stat by its number in proc(5), from 3 on; 0 when the process is gone.</summary>
    public static long Stat(int pid, int field) => Field(StatOf(pid), field);

    /// <summary>/proc/PID/stat; nothing when the process is gone.</summary>
    internal static string StatOf(int pid) => Encoding.UTF8.GetString(Read(pid, "stat"));

    /// <summary>The same, out of the text.</summary>
    internal static long Field(string text, int field)
    {
        var after = text.LastIndexOf(')');
        var parts = after < 0 || after + 2 > text.Length ? [] : text[(after + 2)..].Split(' ');
        return parts.Length > field - 3 && long.TryParse(parts[field - 3], CultureInfo.InvariantCulture, out var value)
            ? value
            : 0;
    }

    /// <summary>
    /// Resident memory that is its own, in bytes: what it shares with files and other processes is left out (proc(5),
    /// statm).
    /// </summary>
    public static long OwnMemory(int pid)
    {
        var parts = Encoding.ASCII.GetString(Read(pid, "statm")).Split(' ');
        return
            parts.Length < 3
            || !long.TryParse(parts[1], CultureInfo.InvariantCulture, out var resident)
            || !long.TryParse(parts[2], CultureInfo.InvariantCulture, out var shared)
            ? 0
            : (resident - shared) * Environment.SystemPageSize;
    }

    public static int Parent(int pid) => (int)Stat(pid, 4);

    public static bool Lives(int pid) =>
        Encoding.UTF8.GetString(Read(pid, "stat")) is var stat
        && stat.LastIndexOf(')') is >= 0 and var after
        && after + 2 < stat.Length
        && stat[after + 2] is not ('Z' or 'X');

    /// <summary>Whether a signal or a debugger has stopped it, so that it does nothing until it is let go on.</summary>
    public static bool IsStopped(int pid) =>
        Encoding.UTF8.GetString(Read(pid, "stat")) is var stat
        && stat.LastIndexOf(')') is >= 0 and var after
        && after + 2 < stat.Length
        && stat[after + 2] is 'T' or 't';

    /// <summary>When the process was started.</summary>
    public static DateTimeOffset Started(int pid)
    {
        var boot = File.ReadLines("/proc/stat").First(line => line.StartsWith("btime ", StringComparison.Ordinal));
        return DateTimeOffset
            .FromUnixTimeSeconds(long.Parse(boot.AsSpan(6), CultureInfo.InvariantCulture))
            .AddSeconds(Stat(pid, 22) / 100.0);
    }

    /// <summary>The process and everything below it.</summary>
    public static IReadOnlyList<int> Tree(int root)
    {
        var below = All().ToLookup(Parent);
        var tree = new List<int> { root };
        for (var i = 0; i < tree.Count; i++)
            tree.AddRange(below[tree[i]]);
        return tree;
    }

    /// <summary>A limit of setrlimit(2) as /proc/PID/limits has it, the soft value.</summary>
    public static string? Limit(int pid, string name) =>
        Encoding
            .UTF8.GetString(Read(pid, "limits"))
            .Split('\n')
            .FirstOrDefault(line => line.StartsWith(name, StringComparison.Ordinal))
            ?[name.Length..].Split(' ', StringSplitOptions.RemoveEmptyEntries)[0];

    /// <summary>
    /// The disk priority: class in the upper bits, level in the lower 13 (ioprio_get(2)); -1 when the process is gone.
    /// </summary>
    public static int DiskPriority(int pid) =>
        (int)
            Libc.syscall(
                System.Runtime.InteropServices.RuntimeInformation.ProcessArchitecture
                == System.Runtime.InteropServices.Architecture.Arm64
                    ? Libc.SYS_ioprio_get_arm64
                    : Libc.SYS_ioprio_get_x64,
                Libc.IOPRIO_WHO_PROCESS,
                pid,
                0
            );

    /// <summary>
    /// The most files a process of this sentry's account may be allowed to open, and whether it could be raised.
    /// </summary>
    public static unsafe ulong OpenFilesCeiling()
    {
        var limits = stackalloc ulong[2];
        const int sysResource = 24;
        var may = Convert.ToUInt64(Status(Environment.ProcessId, "CapEff") ?? "0", 16) >> sysResource & 1;
        return may == 1 || Libc.getrlimit(Libc.RLIMIT_NOFILE, limits) < 0 ? ulong.MaxValue : limits[1];
    }

    /// <summary>Whether a process is in a version 2 control group of this name, or in one below it.</summary>
    public static bool InGroup(int pid, string name) =>
        Encoding
            .UTF8.GetString(Read(pid, "cgroup"))
            .Split('\n')
            .Any(line =>
                line.StartsWith("0::", StringComparison.Ordinal)
                && ((line + "/").Contains($"/{name}/", StringComparison.Ordinal))
            );

    /// <summary>How many descriptors this process may have.</summary>
    public static unsafe long OwnOpenFilesLimit()
    {
        var limits = stackalloc ulong[2];
        return Libc.getrlimit(Libc.RLIMIT_NOFILE, limits) < 0 ? 1024 : (long)Math.Min(limits[0], int.MaxValue);
    }

    /// <summary>The values that processes have for a variable of their environment. Any of them can change its own.</summary>
    public static IEnumerable<(int Pid, string Value)> ValuesOf(string variable)
    {
        foreach (var pid in All())
            if (ValueOf(pid, variable) is { } value)
                yield return (pid, value);
    }

    /// <summary>The value that a process has for a variable of its environment; null: none, or there is no such process.</summary>
    public static string? ValueOf(int pid, string variable) =>
        RestOfVariable(pid, Encoding.UTF8.GetBytes(variable + "="));

    /// <summary>Sends a signal. False when the process is gone or not ours.</summary>
    public static bool Signal(int pid, int number)
    {
        using var process = ProcessHandle.Open(pid);
        return process?.Signal(number) == true;
    }

    /// <summary>
    /// Of what a process can make as long as it likes so much is read: its command line, its environment, anything
    /// else.
    /// </summary>
    private const int LongestCommandLine = 64 << 10,
        LongestEnvironment = 1 << 20,
        Longest = 256 << 10;

    private static byte[] Read(int pid, string file) =>
        ReadAll(
            $"/proc/{pid}/{file}",
            file switch
            {
                "cmdline" => LongestCommandLine,
                "environ" => LongestEnvironment,
                _ => Longest,
            }
        );

    /// <summary>
    /// By the plain calls (open(2), read(2)): a start reads the files of all processes, and of those that end meanwhile,
    /// without an exception for each.
    /// </summary>
    internal static unsafe byte[] ReadAll(string path, int most = Longest)
    {
        using var name = new CString(path);
        var file = Libc.open(name.Pointer, Libc.O_RDONLY | Libc.O_CLOEXEC, 0);
        if (file < 0)
            return [];
        try
        {
            var room = new byte[4096];
            var length = 0;
            while (length < most)
            {
                nint got;
                fixed (byte* start = room)
                    got = Libc.read(file, start + length, room.Length - length);
                if (got <= 0)
                    break;
                length += (int)got;
                if (length == room.Length)
                    Array.Resize(ref room, Math.Min(most, room.Length * 2));
            }

            return room[..length];
        }
        finally
        {
            _ = Libc.close(file);
        }
    }

    /// <summary>So many descriptors of a process are looked at.</summary>
    private const int MostOpenFiles = 1 << 16;

    /// <summary>As they are read: a process of anybody's may have a million of them.</summary>
    private static IEnumerable<string> Entries(string directory, int most = MostOpenFiles)
    {
        using var all = Begun();
        for (var i = 0; i < most && Next() is { } entry; i++)
            yield return entry;

        IEnumerator<string>? Begun()
        {
            try
            {
                return Directory.EnumerateFileSystemEntries(directory).GetEnumerator();
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                return null;
            }
        }

        string? Next()
        {
            try
            {
                return all?.MoveNext() == true ? all.Current : null;
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                return null; // it has ended meanwhile
            }
        }
    }

    /// <summary>
    /// Whether one of its descriptors is what holds a lock on such a file, as the kernel tells it with each descriptor (proc(5), fdinfo).
    /// That it has the file open, or that the name stands in a link, proves nothing: whoever may search the folder can open it (O_PATH).
    /// </summary>
    public static bool HoldsLock(int pid, Func<string, bool> isMeant) =>
        Entries($"/proc/{pid}/fd")
            .Any(file =>
                Link(file) is { } path
                && isMeant(path)
                && Encoding
                    .UTF8.GetString(ReadAll($"/proc/{pid}/fdinfo/{Path.GetFileName(file)}"))
                    .Split('\n')
                    .Any(line => line.StartsWith("lock:", StringComparison.Ordinal))
            );

    /// <summary>What a link of the process file system says, unresolved: it may be no path at all.</summary>
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
}
