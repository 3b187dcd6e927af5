using System.Globalization;
using System.Runtime.InteropServices;
using System.Text;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// What a keeper leaves in its run directory (its working directory): its socket, the run it guards, outcomes.
/// </summary>
internal static unsafe class Records
{
    public static string OutcomeOf(long run) => $"outcome.{run}";

    /// <summary>Whole or not at all: written beside, then renamed.</summary>
    /// <returns>0, or why nothing is there (errno).</returns>
    public static int Write(string name, ReadOnlySpan<byte> content)
    {
        fixed (
            byte* beside = Encoding.UTF8.GetBytes(name + "~\0"),
                final = Encoding.UTF8.GetBytes(name + '\0'),
                bytes = content
        )
        {
            var file = open(beside, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0x180);
            if (file < 0)
                return Marshal.GetLastSystemError();
            var put = write(file, bytes, content.Length);
            var errno =
                put == content.Length ? 0
                : put < 0 ? Marshal.GetLastSystemError()
                : ENOSPC;
            _ = close(file);
            if (errno == 0 && rename(beside, final) < 0)
                errno = Marshal.GetLastSystemError();
            if (errno != 0)
                _ = unlink(beside);
            return errno;
        }
    }

    /// <summary>The number that a file of one line holds; null where there is none.</summary>
    public static int? Number(string name)
    {
        try
        {
            return int.TryParse(File.ReadAllText(name).Trim(), CultureInfo.InvariantCulture, out var number)
                ? number
                : null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    public static void Remove(string name)
    {
        fixed (byte* path = Encoding.UTF8.GetBytes(name + '\0'))
            _ = unlink(path);
    }

    /// <summary>Servers, or viewers, that may be left waiting one after the other while a keeper is stopped (listen(2)).</summary>
    private const int MostWaiting = 128;

    /// <summary>
    /// Listens on a socket, by its relative name (at most 32 letters): the directory may be deeper than a socket address is long.
    /// </summary>
    public static int Listen(string name = "socket")
    {
        Remove(name);
        var listener = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
        var address = stackalloc byte[40];
        *(ushort*)address = AF_UNIX;
        address[Encoding.ASCII.GetBytes(name, new Span<byte>(address + 2, 32)) + 2] = 0;
        if (bind(listener, address, (uint)name.Length + 3) == 0 && listen(listener, MostWaiting) == 0)
            return listener;
        _ = close(listener);
        return -1;
    }
}
