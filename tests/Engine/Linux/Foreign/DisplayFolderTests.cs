using System.Net.Sockets;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Tests.Engine.Linux.Foreign;

/// <summary>The folder of displays' sockets, which anybody can make first.</summary>
public sealed class DisplayFolderTests : IDisposable
{
    private readonly string above = Directory.CreateTempSubdirectory("calm-display-").FullName;
    private readonly string folder;

    public DisplayFolderTests()
    {
        Assert.SkipUnless(Account.OwnId == 0, "needs root to act as other accounts");
        File.SetUnixFileMode(above, (UnixFileMode)0x3FF);
        folder = Path.Combine(above, ".X11-unix");
    }

    private static readonly Account Stranger = Account.Named("nobody")!;

    private static void Give(string path) => Ownership.Give(path, Stranger);

    [Fact]
    public void It_is_made_for_everybody_and_kept()
    {
        Assert.Null(DisplayFolder.Make(folder));
        Assert.Equal((UnixFileMode)0x3FF, File.GetUnixFileMode(folder));
        File.WriteAllText(Path.Combine(folder, "X7"), "");
        Assert.Null(DisplayFolder.Make(folder));
        Assert.True(File.Exists(Path.Combine(folder, "X7")));
    }

    [Theory]
    [InlineData("a folder")]
    [InlineData("a folder with a socket that nobody listens on")]
    [InlineData("a file")]
    [InlineData("a link")]
    public void A_strangers_is_moved_aside(string what)
    {
        switch (what)
        {
            case "a file":
                File.WriteAllText(folder, "");
                Give(folder);
                break;
            case "a link":
                File.CreateSymbolicLink(folder, "/etc");
                break;
            default:
                Directory.CreateDirectory(folder);
                if (what.Contains("socket", StringComparison.Ordinal))
                    using (Listening(Path.Combine(folder, "X0"))) { }
                Give(folder);
                break;
        }

        Assert.Null(DisplayFolder.WhyNot(folder));
        Assert.Null(DisplayFolder.Make(folder));
        Assert.Equal((UnixFileMode)0x3FF, File.GetUnixFileMode(folder));
        Assert.Null(new FileInfo(folder).LinkTarget);
        Assert.Equal(2, Directory.GetFileSystemEntries(above).Length);
        Assert.True((File.GetAttributes("/etc") & FileAttributes.Directory) != 0);
    }

    [Fact]
    public void One_that_somebody_listens_in_is_left_and_named()
    {
        Directory.CreateDirectory(folder);
        using var display = Listening(Path.Combine(folder, "X3"));
        Give(folder);
        Assert.Contains(
            "belongs to nobody, and a program listens on X3",
            DisplayFolder.WhyNot(folder),
            StringComparison.Ordinal
        );
        Assert.Contains("X3", DisplayFolder.Make(folder), StringComparison.Ordinal);
        Assert.Single(Directory.GetFileSystemEntries(above));
    }

    /// <summary>Its queue is full, and it takes nobody: nobody waits for it.</summary>
    [Fact]
    public void One_whose_queue_is_full_keeps_nobody_waiting()
    {
        Directory.CreateDirectory(folder);
        var path = Path.Combine(folder, "X0");
        using var display = Listening(path);
        using var waiting = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        waiting.Connect(new UnixDomainSocketEndPoint(path));
        Give(folder);
        Assert.NotNull(DisplayFolder.Make(folder));
        var error = Assert.Throws<SocketException>(() =>
            CalmSentry.Linux.Sockets.UnixConnection.Connect(folder, "X0", followsLinks: false)
        );
        Assert.Equal(SocketError.WouldBlock, error.SocketErrorCode);
    }

    private static Socket Listening(string path)
    {
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        socket.Bind(new UnixDomainSocketEndPoint(path));
        socket.Listen(0);
        return socket;
    }

    public void Dispose() => Directory.Delete(above, recursive: true);
}
