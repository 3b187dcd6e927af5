using System.Diagnostics;
using System.Globalization;
using System.IO.Compression;
using CalmSentry.Contract.Keeper;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Output;

/// <summary>
/// Packs files of output, each beside itself. The server has it done by a process of its own (docs/decisions, 39): a thread of the
/// server's that gave way to everything would have all others wait for it.
/// </summary>
internal static class Packing
{
    /// <summary>The first word of that process's command line.</summary>
    public const string Word = "pack";

    private const string Beside = "~",
        GivesWay = "behind";

    private const UnixFileMode Kept = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.GroupRead;

    /// <summary>Characters of what that process says is wrong.</summary>
    private const int LongestSaid = 1000;

    /// <summary>By a process of this one's program, which ends with the thread that began it.</summary>
    /// <param name="givesWay">It has the processors and disks when nobody else wants them.</param>
    /// <exception cref="IOException">One of them could not be packed; those before it are.</exception>
    public static void Beyond(IReadOnlyList<string> files, bool givesWay, CancellationToken cancellation)
    {
        var start = new ProcessStartInfo(
            Environment.ProcessPath!,
            [
                Word,
                Environment.ProcessId.ToString(CultureInfo.InvariantCulture),
                givesWay ? GivesWay : "beside",
                .. files,
            ]
        )
        {
            WorkingDirectory = "/",
            RedirectStandardError = true,
        };
        try
        {
            using var process = Process.Start(start)!;
            using var ends = cancellation.UnsafeRegister(_ => process.Kill(), null);
            var room = new char[LongestSaid];
            var said = room.AsSpan(0, process.StandardError.ReadBlock(room)).Trim();
            process.WaitForExit();
            cancellation.ThrowIfCancellationRequested();
            if (process.ExitCode != 0)
                throw new IOException(
                    said.Length > 0
                        ? said.ToString()
                        : $"the process that packs {files[0]} ended before its time ({process.ExitCode})"
                );
        }
        catch (System.ComponentModel.Win32Exception error)
        {
            throw new IOException($"a process that packs {files[0]} cannot be begun: {error.Message}", error);
        }
    }

    /// <summary>What that process does.</summary>
    /// <param name="parent">The process that began it.</param>
    /// <param name="way">Whether it gives way.</param>
    /// <returns>Its exit code.</returns>
    public static int Run(string parent, string way, IReadOnlyList<string> files)
    {
        try
        {
            if (
                !int.TryParse(parent, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
                || !OwnStanding.EndsWith(number)
            )
                return 1;
            if (way == GivesWay)
                OwnStanding.GiveWay();
            Here(files, givesWay: false, CancellationToken.None);
            return 0;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or InvalidDataException)
        {
            Console.Error.Write(error.Message);
            return 1;
        }
    }

    /// <summary>By the calling thread.</summary>
    /// <param name="givesWay">Not heeded: a thread of many never does.</param>
    public static void Here(IReadOnlyList<string> files, bool givesWay, CancellationToken cancellation)
    {
        foreach (var file in files)
            Pack(file, cancellation);
    }

    /// <summary>The packed file is whole and on the disk before the other goes.</summary>
    private static void Pack(string path, CancellationToken cancellation)
    {
        // Of times there are few, and they are kept for long.
        var level =
            Path.GetFileName(Path.GetDirectoryName(path)) == OutputForm.Times
                ? CompressionLevel.Optimal
                : CompressionLevel.Fastest;
        var beside = path + OutputForm.Packed + Beside;
        var written = File.GetLastWriteTimeUtc(path);
        // Always another file: what a process that was killed has still to write, once its disk answers, goes into its own.
        File.Delete(beside);
        using (var from = OutputFile.Open(path))
        using (var to = NewFile.Begin(beside, mode: Kept))
        {
            using (var packed = new GZipStream(to, level, leaveOpen: true))
            {
                var block = new byte[1 << 16];
                while (from.Read(block) is > 0 and var got)
                {
                    cancellation.ThrowIfCancellationRequested();
                    packed.Write(block.AsSpan(0, got));
                }
            }

            to.Flush(flushToDisk: true);
        }

        File.SetLastWriteTimeUtc(beside, written);
        File.Move(beside, path + OutputForm.Packed, overwrite: true);
        File.Delete(path);
    }
}
