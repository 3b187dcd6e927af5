using System.Collections.Immutable;
using CalmSentry.Core.Copies;

namespace CalmSentry.Tests.Core.Copies;

/// <summary>
/// Who is in the way, and who only wants to be: both sides in one table. A row is a service's command line and a process', each typed in
/// a folder, with what the process holds.
/// </summary>
public class CopyRuleTests
{
    private const string Own = "/srv/quay",
        Root = "/";

    /// <summary>Files there are, by their absolute paths.</summary>
    private static readonly string[] Files =
    [
        "/srv/quay/robot.py",
        "/srv/quay/book",
        "/srv/quay/media.conf",
        "/srv/quay/crane",
        "/srv/other/media.conf",
        "/srv/other/robot.py",
    ];

    private static readonly Dictionary<string, string> Links = new() { ["/srv/now/robot.py"] = "/srv/quay/robot.py" };

    public static TheoryData<string, Row> Table =>
        new()
        {
            // What the service runs, what somebody typed, in which folder; whose it is and what it holds; what it is.
            { "a program of one's own, without arguments", new("/srv/quay/crane", "/srv/quay/crane", Root, InTheWay) },
            {
                "… a stranger's",
                new("/srv/quay/crane", "/srv/quay/crane", Root, Named) { Stranger = true }
            },
            {
                "… a stranger's that holds a lock on a file all can read",
                new("/srv/quay/crane", "/srv/quay/crane", Root, Named) { Stranger = true, Locks = true }
            },
            {
                "… a stranger's that has the port",
                new("/srv/quay/crane", "/srv/quay/crane", Root, InTheWay) { Stranger = true, Port = true }
            },
            { "… with an argument", new("/srv/quay/crane", "/srv/quay/crane --up", Root, OtherArguments) },
            {
                "… with an argument, and a lock of the service's",
                new("/srv/quay/crane", "/srv/quay/crane --up", Root, InTheWay) { Locks = true }
            },
            {
                "an interpreter of the host's with an absolute script",
                new(
                    "/usr/bin/python3 /srv/quay/robot.py /srv/quay/book",
                    "/usr/bin/python3 /srv/quay/robot.py /srv/quay/book",
                    Root,
                    InTheWay
                )
            },
            {
                "… the script and its file relative to where it was typed",
                new(
                    "/usr/bin/python3 /srv/quay/robot.py /srv/quay/book",
                    "/usr/bin/python3 robot.py book",
                    Own,
                    InTheWay
                )
            },
            {
                "… relative on both sides",
                new("/usr/bin/python3 robot.py book", "/usr/bin/python3 ./robot.py book", Own, InTheWay)
            },
            {
                "… the same words in another folder are other files",
                new("/usr/bin/python3 robot.py", "/usr/bin/python3 robot.py", "/srv/other", None)
            },
            {
                "… by a link to its folder",
                new("/usr/bin/python3 /srv/quay/robot.py", "/usr/bin/python3 /srv/now/robot.py", Root, InTheWay)
            },
            {
                "… with an option of the interpreter's before it",
                new("/usr/bin/python3 /srv/quay/robot.py", "/usr/bin/python3 -u /srv/quay/robot.py", Root, InTheWay)
            },
            {
                "… by another interpreter of its kind",
                new("/usr/bin/python3 /srv/quay/robot.py", "/usr/bin/python3.11 /srv/quay/robot.py", Root, InTheWay)
            },
            {
                "… an editor that has the script open",
                new("/usr/bin/python3 /srv/quay/robot.py", "/usr/bin/vim /srv/quay/robot.py", Root, None)
            },
            {
                "… with other arguments",
                new(
                    "/usr/bin/python3 /srv/quay/robot.py a",
                    "/usr/bin/python3 /srv/quay/robot.py b",
                    Root,
                    OtherArguments
                )
            },
            {
                "… a stranger's",
                new("/usr/bin/python3 /srv/quay/robot.py", "/usr/bin/python3 /srv/quay/robot.py", Own, Named)
                {
                    Stranger = true,
                }
            },
            {
                "… another script of the host's interpreter, which has the port: no copy",
                new("/usr/bin/python3 /srv/quay/robot.py", "/usr/bin/python3 /srv/other/robot.py", Root, None)
                {
                    Port = true,
                }
            },
            {
                "… one that shows a title of its own, somewhere",
                new("/usr/bin/python3 /srv/quay/robot.py", "/usr/bin/python3", Root, None) { Title = true }
            },
            {
                "… one that shows a title of its own, in its folder",
                new("/usr/bin/python3 /srv/quay/robot.py", "/usr/bin/python3", Own, InTheWay) { Title = true }
            },
            {
                "a module by its name",
                new("/usr/bin/python3 -m quay.robot", "/usr/bin/python3 -m quay.robot", Root, InTheWay)
            },
            {
                "a shell's command line",
                new("/bin/sh -c /srv/quay/crane", "/bin/sh -c /srv/quay/crane", Root, InTheWay)
            },
            {
                "a daemon of the host's with a file of settings",
                new("/usr/bin/redis-server /srv/quay/media.conf", "/usr/bin/redis-server media.conf", Own, InTheWay)
            },
            {
                "… with another file of settings, called the same",
                new("/usr/bin/redis-server media.conf", "/usr/bin/redis-server media.conf", "/srv/other", None)
            },
            {
                "… by an option",
                new(
                    "/usr/bin/redis-server --config=/srv/quay/media.conf",
                    "/usr/bin/redis-server --config=media.conf",
                    Own,
                    InTheWay
                )
            },
            {
                "… that rewrote its title",
                new("/usr/bin/redis-server /srv/quay/media.conf", "/usr/bin/redis-server", Root, InTheWay)
                {
                    Title = true,
                }
            },
            {
                "… that rewrote its title, and listens on other ports than the service's",
                new("/usr/bin/redis-server /srv/quay/media.conf", "/usr/bin/redis-server", Root, None)
                {
                    Title = true,
                    OtherPort = true,
                    Ports = [21_002],
                }
            },
            {
                "… a stranger's, as the host's own is beside it",
                new("/usr/bin/redis-server /srv/quay/media.conf", "/usr/bin/redis-server", Root, None)
                {
                    Title = true,
                    Stranger = true,
                }
            },
            {
                "… a stranger's on the service's port",
                new("/usr/bin/redis-server /srv/quay/media.conf", "/usr/bin/redis-server", Root, InTheWay)
                {
                    Title = true,
                    Stranger = true,
                    Port = true,
                }
            },
            {
                "… a port among its arguments",
                new("/usr/bin/redis-server --port 21002", "/usr/bin/redis-server --port 21002", Root, InTheWay)
            },
            {
                "… an address among its arguments",
                new("/usr/bin/nc -l 127.0.0.1:21002", "/usr/bin/nc -l 127.0.0.1:21002", Root, InTheWay)
            },
            {
                "… a number that is known to be its port",
                new("/usr/bin/daemon 21002", "/usr/bin/daemon 21002", Root, InTheWay) { Ports = [21_002] }
            },
            { "a bare tool", new("/bin/sleep 1000", "/bin/sleep 1000", Own, Tool) },
            { "… with other arguments", new("/bin/sleep 1000", "/bin/sleep 2000", Own, None) },
            {
                "… a stranger's",
                new("/bin/sleep 1000", "/bin/sleep 1000", Own, Tool) { Stranger = true }
            },
            {
                "… that has the port",
                new("/bin/sleep 1000", "/bin/sleep 1000", Own, InTheWay) { Port = true }
            },
            {
                "… of a run that the store does not know",
                new("/bin/sleep 1000", "/bin/sleep 1000", Own, InTheWay) { Lost = true }
            },
            {
                "… that has a lock",
                new("/bin/sleep 1000", "/bin/sleep 1000", Own, InTheWay) { Locks = true }
            },
            {
                "… that writes its file",
                new("/bin/sleep 1000", "/bin/sleep 1000", Own, InTheWay) { Writes = true }
            },
            {
                "… that fetches something",
                new("/usr/bin/curl https://a:80/b", "/usr/bin/curl https://a:80/b", Own, Tool)
            },
            {
                "another program",
                new("/srv/quay/crane", "/srv/other/crane", Own, None) { Port = true, Locks = true }
            },
        };

    private const CopyVerdict InTheWay = CopyVerdict.InTheWay,
        Named = CopyVerdict.Named,
        Tool = CopyVerdict.Tool,
        OtherArguments = CopyVerdict.OtherArguments,
        None = CopyVerdict.None;

    [Theory]
    [MemberData(nameof(Table))]
    public void What_counts_as_a_copy(string what, Row row)
    {
        var wanted = row.Wanted();
        Assert.True(
            row.Verdict == CopyRule.Judge(wanted, row.Seen(wanted)),
            $"{what}: {CopyRule.Judge(wanted, row.Seen(wanted))}"
        );
    }

    public sealed record Row(string Service, string Typed, string In, CopyVerdict Verdict)
    {
        public bool Stranger { get; init; }
        public bool Title { get; init; }
        public bool Port { get; init; }
        public bool OtherPort { get; init; }
        public bool Locks { get; init; }
        public bool Writes { get; init; }
        public bool Lost { get; init; }
        public int[] Ports { get; init; } = [];

        public CopyWanted Wanted()
        {
            var words = Service.Split(' ');
            var kind = CalmSentry.Core.Definitions.ScriptKind.OfInterpreter(words[0]);
            string[] rest = [.. words.Skip(1)];
            var script = kind?.ScriptAmong(rest) ?? -1;
            return new(
                words[0],
                [.. rest.Select(word => WordOf(word, Own))],
                script,
                script < 0 && kind?.IsAmong(rest) == true,
                !words[0].StartsWith("/srv/", StringComparison.Ordinal),
                [.. Ports]
            );
        }

        public CopySight Seen(CopyWanted wanted)
        {
            var words = Typed.Split(' ');
            return new(
                words[0],
                [.. words.Skip(1).Select(word => WordOf(word, In))],
                Title,
                Stranger ? CopyOwner.Stranger : CopyOwner.Kin,
                Port,
                OtherPort,
                Locks,
                Writes,
                In == Own,
                Lost
            );
        }
    }

    private static CopyWord WordOf(string word, string folder)
    {
        var (option, value) = CopyWord.Split(word);
        var path = Path.GetFullPath(value, folder);
        path = Links.GetValueOrDefault(path, path);
        return new(option, value, [path], Files.Contains(path));
    }
}
