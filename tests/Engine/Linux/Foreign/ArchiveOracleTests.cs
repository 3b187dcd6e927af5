using System.Diagnostics;
using System.Security.Cryptography;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Tests.Engine.Linux.Foreign;

/// <summary>
/// Archives made by the tools that people have, whole and damaged: what is taken of them is what those tools unpack, byte for byte, and
/// what those tools find damaged is refused.
/// </summary>
public sealed class ArchiveOracleTests : IDisposable
{
    private const long Most = 64 << 20;

    private readonly string place = Directory.CreateTempSubdirectory("calm's archives ").FullName;

    public void Dispose() => Directory.Delete(place, recursive: true);

    /// <param name="Pack">A command in the tree; $1 is the archive.</param>
    /// <param name="Unpack">A command in an empty directory; $1 is the archive.</param>
    /// <param name="Refused">What it is refused for, whole as it is; null: it is taken.</param>
    private sealed record Tool(string Name, string Pack, string Unpack, string? Refused = null);

    private const string ByTar = "tar -xf \"$1\"",
        ByBsdtar = "bsdtar -xf \"$1\"",
        ByUnzip = "unzip -q \"$1\"",
        By7z = "7zz x -y \"$1\"",
        ByPythonTar = "python3 -c 'import sys, tarfile; tarfile.open(sys.argv[1]).extractall()' \"$1\"",
        ByPythonZip = "unzip -q \"$1\"";

    private static string PythonTar(string mode, string format) =>
        $"python3 -c 'import sys, tarfile; t = tarfile.open(sys.argv[1], \"{mode}\", format=tarfile.{format}_FORMAT); t.add(\".\"); t.close()' \"$1\"";

    private static string PythonZip(string kind) =>
        "python3 -c 'import os, sys, zipfile\n"
        + $"z = zipfile.ZipFile(sys.argv[1], \"w\", zipfile.{kind})\n"
        + "[z.write(os.path.join(d, f)) for d, _, fs in os.walk(\".\") for f in fs if not os.path.islink(os.path.join(d, f))]\n"
        + "z.close()' \"$1\"";

    private static readonly Tool[] Tools =
    [
        .. ((string[])["gnu", "oldgnu", "posix"]).SelectMany(format =>
            (Tool[])
                [
                    new($"GNU tar, {format}", $"tar --format={format} -cf \"$1\" .", ByTar),
                    new($"GNU tar, {format}, packed", $"tar --format={format} -czf \"$1\" .", ByTar),
                ]
        ),
        new("GNU tar, ustar", "tar --format=ustar -cf \"$1\" .", ByTar),
        new("GNU tar, v7", "tar --format=v7 -czf \"$1\" bin data", ByTar),
        new(
            "GNU tar, members in two streams",
            "{ tar -cf - bin | head -c 5120 | gzip; tar -cf - bin | tail -c +5121 | gzip -9; } >\"$1\"",
            ByTar
        ),
        new(
            "GNU tar, with a label",
            "tar --label=board -czf \"$1\" bin data",
            ByTar,
            "it is no file, directory or link"
        ),
        new("GNU tar, sparse", "tar --format=gnu -Scf \"$1\" .", ByTar, "sparse"),
        new("GNU tar, sparse pax", "tar --format=posix -Sczf \"$1\" .", ByTar, "sparse"),
        .. ((string[])["pax", "ustar", "gnutar"]).SelectMany(format =>
            (Tool[])
                [
                    new($"bsdtar, {format}", $"bsdtar --no-read-sparse --format={format} -cf \"$1\" .", ByBsdtar),
                    new(
                        $"bsdtar, {format}, packed",
                        $"bsdtar --no-read-sparse --format={format} -czf \"$1\" .",
                        ByBsdtar
                    ),
                ]
        ),
        new("bsdtar, zip", "bsdtar --format=zip -cf \"$1\" bin data", ByUnzip),
        new("bsdtar, cpio", "bsdtar --format=newc -cf \"$1\" .", ByBsdtar, "cpio"),
        new("bsdtar, 7z", "bsdtar --format=7zip -cf \"$1\" bin", ByBsdtar, "7z"),
        new("bsdtar, xz", "bsdtar -cJf \"$1\" bin", ByBsdtar, "xz"),
        new("bsdtar, bzip2", "bsdtar -cjf \"$1\" bin", ByBsdtar, "bzip2"),
        new("bsdtar, zstd", "bsdtar --zstd -cf \"$1\" bin", ByBsdtar, "zstd"),
        new("zip", "zip -qry - bin data >\"$1\"", ByUnzip),
        new("zip, stored", "zip -qry0 - bin data >\"$1\"", ByUnzip),
        new("zip, best", "zip -qr9 - bin data >\"$1\"", ByUnzip),
        new("7z, zip", "7zz a -tzip \"$1.zip\" bin data && mv \"$1.zip\" \"$1\"", ByUnzip),
        new("7z, zip, stored", "7zz a -tzip -mx0 \"$1.zip\" bin data && mv \"$1.zip\" \"$1\"", ByUnzip),
        new("7z, tar", "7zz a -ttar \"$1.tar\" bin data && mv \"$1.tar\" \"$1\"", By7z),
        new("7z", "7zz a -t7z \"$1.7z\" bin && mv \"$1.7z\" \"$1\"", By7z, "7z"),
        new("Python, pax", PythonTar("w", "PAX"), ByPythonTar),
        new("Python, pax, packed", PythonTar("w:gz", "PAX"), ByPythonTar),
        new("Python, GNU, packed", PythonTar("w:gz", "GNU"), ByPythonTar),
        new("Python, ustar", PythonTar("w", "USTAR"), ByPythonTar),
        new("Python, zip, stored", PythonZip("ZIP_STORED"), ByPythonZip),
        new("Python, zip", PythonZip("ZIP_DEFLATED"), ByPythonZip),
        new("busybox", "busybox tar -cf \"$1\" bin data", "busybox tar -xf \"$1\""),
        new("busybox, packed", "busybox tar -czf \"$1\" bin data", "busybox tar -xzf \"$1\""),
    ];

    /// <summary>What is in a tree, each with its kind, whether it can be run, and what is in it.</summary>
    private static List<string> Of(string tree) =>
        [
            .. new DirectoryInfo(tree)
                .EnumerateFileSystemInfos(
                    "*",
                    new EnumerationOptions { RecurseSubdirectories = true, AttributesToSkip = default }
                )
                .Select(one =>
                    Path.GetRelativePath(tree, one.FullName)
                    + (
                        one.LinkTarget is { } target ? $" -> {target}"
                        : one is FileInfo file
                            ? $" {((file.UnixFileMode & UnixFileMode.UserExecute) != 0 ? "runs" : "")} {file.Length} {Convert.ToHexString(SHA256.HashData(File.ReadAllBytes(file.FullName)))[..16]}"
                        : "/"
                    )
                )
                .Order(StringComparer.Ordinal),
        ];

    private string Tree()
    {
        var tree = Path.Combine(place, "tree");
        var random = new Random(34);
        void Put(string name, int length, bool runs = false)
        {
            var path = Path.Combine(tree, name);
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            var bytes = new byte[length];
            random.NextBytes(bytes.AsSpan(0, length / 2)); // half of it can be packed
            File.WriteAllBytes(path, bytes);
            File.SetUnixFileMode(path, (UnixFileMode)(runs ? 0b111_101_101 : 0b110_100_100));
        }

        Put("bin/board", 30_000, runs: true);
        Put("bin/empty", 0);
        Put("data/prices.env", 9);
        Put("data/one block", 512);
        Put("data/Fährplan ☃.txt", 1000);
        Put($"long/{new string('l', 60)}/{new string('m', 60)}/{new string('n', 60)}/index.js", 2000);
        Put($"long/{new string('o', 99)}", 10);
        Directory.CreateDirectory(Path.Combine(tree, "data", "nothing in it"));
        File.CreateSymbolicLink(Path.Combine(tree, "bin", "now"), "board");
        Assert.Equal(0, Run("ln bin/board bin/twin", tree, "").Exit);
        using var hole = File.Create(Path.Combine(tree, "hole.img"));
        hole.SetLength(1 << 20);
        hole.Seek(500_000, SeekOrigin.Begin);
        hole.Write("in the middle"u8);
        return tree;
    }

    private static (int Exit, string Said) Run(string command, string directory, string archive)
    {
        using var process = Process.Start(
            new ProcessStartInfo(
                "bash",
                ["-c", "export LC_ALL=C.UTF-8; set -o pipefail; " + command, "archive", archive]
            )
            {
                WorkingDirectory = directory,
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        var error = process.StandardError.ReadToEndAsync();
        _ = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        return (process.ExitCode, error.Result);
    }

    private string Fresh(string name)
    {
        var directory = Path.Combine(place, name);
        if (Directory.Exists(directory))
            Directory.Delete(directory, recursive: true);
        return Directory.CreateDirectory(directory).FullName;
    }

    /// <summary>What is in it; or why it is refused.</summary>
    private (List<string>? Tree, string? Why) Ours(string archive)
    {
        var into = Fresh("ours");
        using var held = Held.Walk(Ground.NewFiles, into);
        using var stream = File.OpenRead(archive);
        try
        {
            Archive.Unpack(stream, into, new DiskRoom(held.Held, Most), new());
            return (Of(into), null);
        }
        catch (ArchiveException refused)
        {
            return (null, refused.Message);
        }
    }

    private List<string>? Theirs(Tool tool, string archive)
    {
        var into = Fresh("theirs");
        return Run(tool.Unpack, into, archive).Exit == 0 ? Of(into) : null;
    }

    [Fact]
    public void Whole_and_damaged_they_are_what_their_tools_say_they_are()
    {
        var (tree, wrong, tried) = (Tree(), new List<string>(), 0);
        foreach (var tool in Tools)
        {
            var archive = Path.Combine(place, $"archive {tried}");
            var packed = Run(tool.Pack, tree, archive);
            if (packed.Exit != 0 || !File.Exists(archive))
            {
                wrong.Add($"{tool.Name} packed nothing: {packed.Said}");
                continue;
            }

            tried++;
            var (ours, why) = Ours(archive);
            if (tool.Refused is { } kind)
            {
                if (why?.Contains(kind, StringComparison.Ordinal) != true)
                    wrong.Add($"{tool.Name} is to be refused for {kind}: {why ?? "it is taken"}");
                continue;
            }

            var theirs = Theirs(tool, archive);
            if (theirs is null || ours is null || !theirs.SequenceEqual(ours))
                wrong.Add(
                    $"{tool.Name}: {why ?? string.Join(", ", (theirs ?? []).Except(ours ?? []).Concat((ours ?? []).Except(theirs ?? [])))}"
                );
            var bytes = File.ReadAllBytes(archive);
            var random = new Random(tried);
            for (var i = 0; i < 3; i++, tried++)
            {
                var damaged = (byte[])bytes.Clone();
                if (i == 0)
                    damaged = damaged[..random.Next(1, damaged.Length)];
                else
                    damaged[random.Next(damaged.Length)] ^= (byte)(1 << random.Next(8));
                var other = archive + " damaged";
                File.WriteAllBytes(other, damaged);
                (ours, why) = Ours(other);
                if (ours is null)
                    continue; // it may be pickier than its tool
                theirs = Theirs(tool, other);
                if (theirs is null || !theirs.SequenceEqual(ours))
                    wrong.Add(
                        $"{tool.Name}, damaged ({i}): it is taken, and its tool {(theirs is null ? "refuses it" : "has something else")}"
                    );
            }
        }

        Assert.True(wrong.Count == 0, string.Join('\n', wrong));
        Assert.True(tried >= 100, $"{tried} archives");
    }
}
