using System.Net.Sockets;
using CalmSentry.Engine.Windows;

namespace CalmSentry.Tests.Engine.Windows;

public class XLineTests
{
    private static readonly byte[] Mapped = [19, .. new byte[31]],
        NoWindows = [1, .. new byte[31]];

    /// <summary>A look takes several answers: what comes between two of them is of windows that it may have passed already.</summary>
    [Fact]
    public async Task What_changes_while_it_is_looked_is_looked_at_again()
    {
        var place = Path.Combine(Directory.CreateTempSubdirectory().FullName, "x");
        using var listens = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        listens.Bind(new UnixDomainSocketEndPoint(place));
        listens.Listen();
        var display = Task.Run(async () =>
        {
            var met = new NetworkStream(await listens.AcceptAsync(Now), ownsSocket: true);
            await met.ReadExactlyAsync(new byte[12 + 20 + 16], Now);
            // No vendor, no formats, one screen whose root is 7.
            await met.WriteAsync(new byte[] { 1, 0, 11, 0, 0, 0, 9, 0 }, Now);
            await met.WriteAsync((byte[])[.. new byte[32], 7, 0, 0, 0], Now);
            await met.ReadExactlyAsync(new byte[16], Now);
            await met.ReadExactlyAsync(new byte[8], Now);
            await met.WriteAsync((byte[])[.. Mapped, .. NoWindows], Now);
            return met;
        });
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        await socket.ConnectAsync(new UnixDomainSocketEndPoint(place), Now);
        await using var line = await XLine.Open(socket, new byte[16], Now);
        Assert.Equal(7u, line.Root);
        Assert.Empty(await line.Within(line.Root, Now));
        await using var server = await display;
        Assert.True(line.Changed(Now).IsCompletedSuccessfully);
        var next = line.Changed(Now);
        Assert.False(next.IsCompleted);
        await server.WriteAsync(Mapped, Now);
        await next;
        Directory.Delete(Path.GetDirectoryName(place)!, recursive: true);
    }

    private static CancellationToken Now => TestContext.Current.CancellationToken;
}
