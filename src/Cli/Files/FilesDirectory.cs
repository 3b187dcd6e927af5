using System.Text.Json;
using System.Text.Json.Nodes;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Settling;
using Microsoft.Win32.SafeHandles;

namespace CalmSentry.Cli.Files;

/// <summary>A directory of definition files, read as one document, and written.</summary>
internal static class FilesDirectory
{
    private const int Deepest = 8;

    /// <param name="path">A dash: what is piped in.</param>
    /// <param name="mustBeOurs">Whoever can write there decides what runs here: that may only be root, and who asks.</param>
    /// <exception cref="Failure">It cannot be read.</exception>
    public static FilesDocument Read(string path, bool mustBeOurs)
    {
        if (path == "-")
            return Piped();
        var whole = Path.GetFullPath(path);
        using var root = SafeRead.Root(path);
        var files = new SortedDictionary<string, string>(StringComparer.Ordinal);
        var all = 0L;
        Into(root, whole, "", 0);
        if (files.Count == 0)
            throw new Failure(
                Exit.Usage,
                $"{whole} has no definition file.",
                "A definition file ends in .yaml or .yml; 'calm export --all --to DIRECTORY' writes them."
            );
        return new(files) { Directory = whole, Head = Heads.Of(root) };

        void Into(SafeFileHandle directory, string shown, string below, int depth)
        {
            Demand(directory, shown, mustBeOurs);
            foreach (var name in SafeRead.Names(directory, FilesDocument.MostFiles))
            {
                var isText =
                    name.EndsWith(".yaml", StringComparison.Ordinal) || name.EndsWith(".yml", StringComparison.Ordinal);
                // Hidden ones are somebody else's affair: version control, editors.
                if (name[0] == '.')
                    continue;
                var place = $"{shown}/{name}";
                if (!isText && !IsDirectory(place))
                    continue;
                using var opened = SafeRead.Below(directory, name, place);
                if (opened is null)
                    continue; // gone since
                if (SafeRead.Of(opened).IsDirectory)
                {
                    if (depth == Deepest)
                        throw new Failure(Exit.Usage, $"{place} lies deeper than {Deepest} folders; nothing was read.");
                    Into(opened, place, $"{below}{name}/", depth + 1);
                    continue;
                }

                Demand(opened, place, mustBeOurs);
                var text = SafeRead.Text(opened, place, FilesDocument.LongestFile);
                files[below + name] = text;
                if ((all += text.Length) > FilesDocument.LongestInAll || files.Count > FilesDocument.MostFiles)
                    throw new Failure(
                        Exit.Usage,
                        $"{whole} has more than {FilesDocument.MostFiles} files, or {FilesDocument.LongestInAll >> 20} MiB in them; "
                            + "nothing was read."
                    );
            }
        }
    }

    /// <summary>Of links nobody looks where they lead.</summary>
    private static bool IsDirectory(string path) =>
        new FileInfo(path) is { LinkTarget: null } && Directory.Exists(path);

    private static void Demand(SafeFileHandle handle, string shown, bool mustBeOurs)
    {
        if (!mustBeOurs)
            return;
        var facts = SafeRead.Of(handle);
        var asker = uint.TryParse(
            Environment.GetEnvironmentVariable("SUDO_UID"),
            System.Globalization.CultureInfo.InvariantCulture,
            out var login
        )
            ? login
            : 0;
        if (facts.Owner != 0 && facts.Owner != SafeRead.geteuid() && facts.Owner != asker)
            throw new Failure(
                Exit.NotTrue,
                $"{shown} belongs to another account (uid {facts.Owner}), who would decide what runs here; nothing was done.",
                $"Take it over, after reading it: chown -R root: {CommandLine.Quoted(shown)}"
            );
        if (facts.OthersWrite)
            throw new Failure(
                Exit.NotTrue,
                $"{shown} can be written by others, who would decide what runs here; nothing was done.",
                "Take that away, after reading it: "
                    + (facts.List is null ? "" : $"setfacl -b {CommandLine.Quoted(shown)}; ")
                    + $"chmod go-w {CommandLine.Quoted(shown)}"
            );
    }

    /// <summary>What an export wrote as one document, or one definition.</summary>
    private static FilesDocument Piped()
    {
        var body = Body.FromPipe(FilesDocument.LongestInAll * 2);
        if (!body.TrimStart().StartsWith('{'))
            return new(new Dictionary<string, string> { ["input.yaml"] = body });
        try
        {
            if (JsonSerializer.Deserialize(body, ApiJson.Default.FilesDocument) is { Files.Count: > 0 } document)
                return document with { Directory = null, Take = null };
        }
        catch (JsonException)
        {
            // Told below.
        }

        throw new Failure(
            Exit.Usage,
            "What is piped in is no set of files.",
            "calm export --all --json writes one; or pipe one definition in, as YAML."
        );
    }

    /// <summary>A definition file, with its bases where it is from any.</summary>
    /// <param name="path">A dash: what is piped in.</param>
    public static Body Definition(string path)
    {
        var body = Body.FromFile(path);
        return path == "-" ? body : body with { Files = WithBases(body.Text, path) };
    }

    /// <summary>A file, and those it names as its base, and theirs; null: it names none.</summary>
    private static FilesDocument? WithBases(string text, string path)
    {
        if (BaseOf(text) is null)
            return null;
        var whole = Path.GetFullPath(path);
        // As high as a base lies above it.
        var folder = Path.GetDirectoryName(whole)!;
        var found = new Dictionary<string, string>(StringComparer.Ordinal) { [whole] = text };
        for (var (at, one) = (whole, text); BaseOf(one) is { } named; )
        {
            at = Path.GetFullPath(named, Path.GetDirectoryName(at)!);
            if (found.ContainsKey(at) || found.Count > 16)
                break;
            if (!File.Exists(at))
                break; // the sentry says what is missing, and where it is named
            one = found[at] = Body.FromFile(at).Text;
            if (HostOf(at) is { } host)
                found[host] = Body.FromFile(host).Text;
            while (!at.StartsWith($"{folder.TrimEnd('/')}/", StringComparison.Ordinal))
                folder = Path.GetDirectoryName(folder)!;
        }

        return new(
            found.ToDictionary(
                file => Path.GetRelativePath(folder, file.Key),
                file => file.Value,
                StringComparer.Ordinal
            )
        )
        {
            Take = Path.GetRelativePath(folder, whole),
        };
    }

    /// <summary>What this host fills of a base, a file beside it; null: nothing.</summary>
    private static string? HostOf(string basis) =>
        Path.Combine(Path.GetDirectoryName(basis)!, "hosts", $"{Environment.MachineName}.yaml") is var host
        && File.Exists(host)
            ? host
            : null;

    /// <summary>A definition made of flags, and the base it fills.</summary>
    /// <param name="fills">Names of blanks, each with its value behind an equals sign.</param>
    public static FilesDocument FromBase(JsonObject definition, string path, IEnumerable<string> fills)
    {
        var basis = Definition(path);
        var all = new JsonObject();
        foreach (var fill in fills)
        {
            if (fill.Split('=', 2) is not [{ Length: > 0 } name, var value])
                throw new Failure(
                    Exit.Usage,
                    $"--fill: found '{fill}'; allowed: the name of a blank, an equals sign and its value.",
                    "--fill port=7412"
                );
            all[name] = value;
        }

        var files =
            basis.Files
            ?? new(new Dictionary<string, string> { [Path.GetFileName(path)] = basis.Text })
            {
                Take = Path.GetFileName(path),
            };
        if (HostOf(Path.GetFullPath(path)) is { } host)
            files = files with
            {
                Files = new Dictionary<string, string>(files.Files)
                {
                    [Path.Combine(Path.GetDirectoryName(files.Take!)!, "hosts", Path.GetFileName(host))] =
                        Body.FromFile(host).Text,
                },
            };
        definition["from"] = Path.GetFileName(files.Take!);
        if (all.Count > 0)
            definition["fill"] = all;
        var folder = Path.GetDirectoryName(files.Take!) is { Length: > 0 } some ? $"{some}/" : "";
        var own = $"{folder}{ServiceName.From((string?)definition["name"] ?? "service")}.yaml";
        return new(new Dictionary<string, string>(files.Files) { [own] = definition.ToJsonString() }) { Take = own };
    }

    private static string? BaseOf(string text)
    {
        foreach (var line in text.Split('\n'))
            if (line.StartsWith("from:", StringComparison.Ordinal))
                return line["from:".Length..].Split(" #")[0].Trim().Trim('"', '\'') is { Length: > 0 } named
                    ? named
                    : null;
        return null;
    }

    /// <summary>Writes files below a directory, which is made; each whole or not at all.</summary>
    /// <returns>Those that were written, and those that were so already.</returns>
    public static (IReadOnlyList<string> Written, IReadOnlyList<string> Same) Write(FilesDocument files, string path)
    {
        var (written, same) = (new List<string>(), new List<string>());
        if (Directory.Exists(path))
            using (var there = SafeRead.Root(path))
                Demand(there, Path.GetFullPath(path), mustBeOurs: SafeRead.geteuid() == 0);
        try
        {
            foreach (var (name, text) in files.Files)
            {
                if (Filler.Beside("", name) != name)
                    throw new Failure(Exit.NotTrue, $"'{name}' is no path below a directory; it was not written.");
                var place = Path.Combine(path, name);
                if (new FileInfo(place).LinkTarget is not null)
                    throw new Failure(
                        Exit.NotTrue,
                        $"{place} is a link; it was left as it is.",
                        "Write to a directory of your own."
                    );
                if (File.Exists(place) && File.ReadAllText(place) == text)
                {
                    same.Add(place);
                    continue;
                }

                Directory.CreateDirectory(Path.GetDirectoryName(Path.GetFullPath(place))!);
                var beside = $"{place}.{Environment.ProcessId}~";
                try
                {
                    using (
                        var stream = new FileStream(
                            beside,
                            new FileStreamOptions
                            {
                                Mode = FileMode.CreateNew,
                                Access = FileAccess.Write,
                                // A definition may hold in its environment what is not everybody's.
                                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                            }
                        )
                    )
                    {
                        stream.Write(System.Text.Encoding.UTF8.GetBytes(text));
                        stream.Flush(flushToDisk: true);
                    }

                    File.Move(beside, place, overwrite: true);
                }
                finally
                {
                    File.Delete(beside);
                }

                written.Add(place);
            }
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new Failure(
                Exit.NotTrue,
                $"The files cannot be written: {error.Message.TrimEnd('.')}.",
                written.Count == 0 ? "Nothing was written." : $"Written before: {string.Join(", ", written)}."
            );
        }

        return (written, same);
    }
}
