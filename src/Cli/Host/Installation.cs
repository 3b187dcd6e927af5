using System.CommandLine;
using System.Diagnostics;
using System.Globalization;
using System.Runtime.InteropServices;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract;

namespace CalmSentry.Cli.Host;

/// <summary>
/// Puts the sentry in place on this machine and takes it back, saying each thing it does. Everything it puts lies under
/// /usr/local (Filesystem Hierarchy Standard 4.9: software of the local administrator), but for the settings and the
/// LSB init
/// script, which is registered through the host's own tool, whatever init the host has.
/// </summary>
internal sealed class Installation(TextWriter say, bool dry = false)
{
    private const string Home = "/usr/local/lib/calm-sentry",
        Link = "/usr/local/bin/calm",
        Script = "/etc/init.d/calm-sentry",
        Settings = "/etc/calm-sentry/sentry.yaml",
        Registrar = "/usr/sbin/update-rc.d",
        Invoker = "/usr/sbin/invoke-rc.d";

    private static readonly string[] Programs = ["calm", "calm-sentry", "calm-keeper", "libe_sqlite3.so"];

    /// <summary>OpenSSL's library, newest first: the runtime takes whichever there is.</summary>
    private static readonly string[] Libraries = ["libssl.so.3", "libssl.so.1.1"];

    private static readonly string[] Kept = ["/etc/calm-sentry", "/var/lib/calm-sentry", "/var/log/calm-sentry"];

    /// <exception cref="Failure">It may not, or this host lacks what it takes.</exception>
    public void Install(RootCommand commands, int? port, bool start)
    {
        Demand("installed");
        var from = AppContext.BaseDirectory;
        DemandPrograms(from);
        DemandRootsAlone([
            .. Programs.Select(program => Path.Combine(Home, program)),
            Path.Combine(Home, "console", "assets"),
            Link,
            Script,
            Settings,
            .. Kept,
            .. Completions.All.Select(one => one.Path),
            .. ManualPages.All(commands).Select(one => one.Path),
        ]);
        Begin();
        var renewal = new Renewal(Home, Programs, from, say);
        if (!dry)
            renewal.Keep();
        PutPrograms(from);
        PutLink();
        MakeKept();
        PutSettings(port);
        foreach (var (path, text) in Completions.All)
            Put(path, text, executable: false);
        foreach (var (path, text) in ManualPages.All(commands))
            Put(path, text, executable: false);
        Put(Script, Read("calm-sentry.init"), executable: true);
        if (!dry)
            Run(Registrar, ["calm-sentry", "defaults"], $"cannot register {Script} with the host's boot");
        say.WriteLine("starts    with the machine, before anyone logs in");
        if (start)
            Start(renewal);
    }

    private static void DemandPrograms(string from)
    {
        if (!Libraries.Any(library => NativeLibrary.TryLoad(library, out _)))
            throw new Failure(
                Exit.NotTrue,
                $"This host has no {Libraries[0]}, which the service takes its cryptography from; nothing was changed.",
                "apt-get install libssl3 (or whatever your host calls OpenSSL's library), then again."
            );
        if (Programs.FirstOrDefault(program => !File.Exists(Path.Combine(from, program))) is { } missing)
            throw new Failure(
                Exit.NotTrue,
                $"{missing} does not lie beside this calm, in {from}; nothing was changed.",
                "Run the calm that ./build.sh left in out/."
            );
        if (File.Exists(Path.Combine(from, "calm-sentry.dll")))
            throw new Failure(
                Exit.NotTrue,
                $"The programs in {from} were built quickly, for trying out: they need the .NET runtime. Nothing "
                    + $"was changed.",
                "./build.sh, then install with out/calm."
            );
    }

    private void PutPrograms(string from)
    {
        foreach (var program in Programs)
            Put(Path.Combine(Home, program), File.ReadAllBytes(Path.Combine(from, program)), executable: true);
        foreach (var file in Directory.EnumerateFiles(Path.Combine(from, "console"), "*", SearchOption.AllDirectories))
            Put(
                Path.Combine(Home, Path.GetRelativePath(from, file)),
                File.ReadAllBytes(file),
                executable: false,
                quiet: true
            );
        say.WriteLine($"console   {Home}/console");
    }

    private void PutLink()
    {
        if (new FileInfo(Link).LinkTarget == $"{Home}/calm")
            say.WriteLine($"as it is  {Link}");
        else
        {
            Do(() =>
            {
                Directory.CreateDirectory(Path.GetDirectoryName(Link)!);
                File.Delete(Link);
                File.CreateSymbolicLink(Link, $"{Home}/calm");
            });
            say.WriteLine($"put       {Link} → {Home}/calm");
        }
    }

    private void MakeKept()
    {
        foreach (var place in Kept)
        {
            if (Directory.Exists(place))
                continue;
            Do(() =>
                Directory.CreateDirectory(
                    place,
                    UnixFileMode.UserRead
                        | UnixFileMode.UserWrite
                        | UnixFileMode.UserExecute
                        | UnixFileMode.GroupRead
                        | UnixFileMode.GroupExecute
                        | UnixFileMode.OtherRead
                        | UnixFileMode.OtherExecute
                )
            );
            say.WriteLine($"made      {place}");
        }
    }

    private void PutSettings(int? port)
    {
        if (!File.Exists(Settings))
            Put(Settings, SettingsText(port), executable: false);
        else if (port is not null)
            Put(Settings, WithPort(File.ReadAllText(Settings), port.Value), executable: false);
        else
            say.WriteLine($"as it is  {Settings}");
    }

    private void Start(Renewal renewal)
    {
        if (dry)
        {
            say.WriteLine(
                renewal.InForceBefore ? "putting   this version in force; programs run on" : "starting  the sentry"
            );
            return;
        }

        if (renewal.InForceBefore)
        {
            renewal.PutInForce(Script);
            return;
        }

        say.WriteLine("starting  the sentry");
        say.Flush();
        Run(Invoker, ["calm-sentry", "start"], "it is in place, but does not start");
        // An init that still takes an earlier one for running does nothing; the script knows better, and says so.
        Run(Script, ["start"], "it is in place, but does not start");
    }

    public void Remove(bool withDefinitions)
    {
        Demand("removed");
        Begin();
        if (File.Exists(Script))
        {
            say.WriteLine("stopping  all services, in order, then the sentry");
            say.Flush();
            Do(() =>
            {
                Run(Script, ["stop"], "it does not stop");
                Run(Invoker, ["calm-sentry", "stop"], "the host's init does not take it for stopped");
                File.Delete(Script);
                Run(Registrar, ["calm-sentry", "remove"], "cannot take it out of the host's boot");
            });
            say.WriteLine($"removed   {Script}, and with it from the machine's boot");
        }
        else
            say.WriteLine($"not there {Script}");

        foreach (var (path, _) in Completions.All.Concat(ManualPages.All(null)))
            Take(path);
        Take(Link);
        if (Directory.Exists(Home))
        {
            Do(() => Directory.Delete(Home, recursive: true));
            say.WriteLine($"removed   {Home}");
        }
        else
            say.WriteLine($"not there {Home}");

        if (Directory.Exists("/run/calm-sentry"))
        {
            Do(() => Directory.Delete("/run/calm-sentry", recursive: true));
            say.WriteLine("removed   /run/calm-sentry");
        }

        foreach (var place in Kept.Where(Directory.Exists))
        {
            if (withDefinitions)
                Do(() => Directory.Delete(place, recursive: true));
            say.WriteLine(
                withDefinitions
                    ? $"removed   {place}"
                    : $"left      {place} (definitions, settings, output: --with-definitions removes them)"
            );
        }
    }

    private void Begin()
    {
        if (dry)
            say.WriteLine("This would be done; nothing is:");
    }

    private void Do(Action deed)
    {
        if (!dry)
            deed();
    }

    private static void Demand(string what)
    {
        if (Environment.UserName != "root")
            throw new Failure(
                Exit.NotPermitted,
                $"Only root may have it {what}; nothing was changed.",
                "sudo calm host …"
            );
        if (!File.Exists(Registrar))
            throw new Failure(
                Exit.NotTrue,
                $"This host has no {Registrar}, by which programs are registered with its boot; nothing was changed.",
                "Have the guard started by what your host has: calm-keeper guard /run/calm-sentry calm-sentry serve"
            );
    }

    /// <summary>
    /// What is put where others can write they can exchange, and it is run as root: every folder on the way must be root's alone.
    /// </summary>
    private static void DemandRootsAlone(IEnumerable<string> targets)
    {
        const int root = 0;
        var folders = targets
            .Select(target => Path.GetDirectoryName(target)!)
            .Concat(Kept)
            .Select(folder =>
            {
                while (!Directory.Exists(folder))
                    folder = Path.GetDirectoryName(folder)!;
                return folder;
            })
            .Distinct();
        if (Untouched.WhyNot(folders, root) is { } why)
            throw new Failure(
                Exit.NotTrue,
                $"Whoever can write where the sentry is put could become root: {why}. Nothing was changed.",
                "Make that folder root's alone (chown root FOLDER; chmod go-w FOLDER; setfacl -b FOLDER), look what lies in it, then again."
            );
    }

    private void Put(string path, string text, bool executable) =>
        Put(path, System.Text.Encoding.UTF8.GetBytes(text), executable);

    /// <summary>Written beside and renamed: a program that runs from the old file goes on.</summary>
    private void Put(string path, byte[] content, bool executable, bool quiet = false)
    {
        // Of the right content, and somebody else's or a link to it, it would not stay so.
        var isOurs =
            File.Exists(path) && new FileInfo(path).LinkTarget is null && Untouched.WhyNot([path], person: 0) is null;
        if (isOurs && File.ReadAllBytes(path).AsSpan().SequenceEqual(content))
        {
            if (!quiet)
                say.WriteLine($"as it is  {path}");
            return;
        }

        var there = File.Exists(path);
        Do(() =>
        {
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            var beside = path + ".new";
            File.Delete(beside); // what was left there, or a link that would be written through
            using (
                var file = new FileStream(
                    beside,
                    new FileStreamOptions
                    {
                        Mode = FileMode.CreateNew,
                        Access = FileAccess.Write,
                        UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                    }
                )
            )
                file.Write(content);
            File.SetUnixFileMode(beside, (UnixFileMode)(executable ? 0b111_101_101 : 0b110_100_100));
            File.Move(beside, path, overwrite: true);
        });
        if (!quiet)
            say.WriteLine($"{(there ? "renewed" : "put"), -9} {path}");
    }

    private void Take(string path)
    {
        var there = Path.Exists(path) || new FileInfo(path).LinkTarget is not null;
        Do(() => File.Delete(path));
        say.WriteLine(there ? $"removed   {path}" : $"not there {path}");
    }

    private static void Run(string program, string[] arguments, string failed)
    {
        if (ExitCodeOf(program, arguments) is not 0 and var code)
            throw new Failure(
                Exit.NotTrue,
                $"{program} {string.Join(' ', arguments)} ended with exit code {code}: {failed}.",
                "What it said stands above."
            );
    }

    internal static int ExitCodeOf(string program, params string[] arguments)
    {
        using var process =
            Process.Start(new ProcessStartInfo(program, arguments) { RedirectStandardInput = true })
            ?? throw new Failure(Exit.NotTrue, $"{program} cannot be run.");
        process.StandardInput.Close();
        process.WaitForExit();
        return process.ExitCode;
    }

    private static string SettingsText(int? port) =>
        string.Create(
            CultureInfo.InvariantCulture,
            $"""
            # Settings of Calm Sentry on this machine; 'calm check FILE' reads them before they are put here. In effect as soon as they are saved.
            # TCP port of the console on loopback; in effect from its next start: /etc/init.d/calm-sentry restart
            port: {port ?? Places.ConsolePort}
            # How long winding down all services may take when the machine goes down.
            shutdown-within: 60 s

            """
        );

    /// <summary>The settings as they are, but for the port.</summary>
    private static string WithPort(string settings, int port)
    {
        var line = string.Create(CultureInfo.InvariantCulture, $"port: {port}");
        var lines = settings.TrimEnd().Split('\n').ToList();
        var at = lines.FindIndex(known => known.StartsWith("port:", StringComparison.Ordinal));
        if (at < 0)
            lines.Add(line);
        else
            lines[at] = line;
        return string.Join('\n', lines) + "\n";
    }

    private static string Read(string name)
    {
        using var stream = typeof(Installation).Assembly.GetManifestResourceStream(name)!;
        using var reader = new StreamReader(stream);
        return reader.ReadToEnd();
    }
}
