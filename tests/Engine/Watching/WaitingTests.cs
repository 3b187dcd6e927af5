using System.Net;
using System.Net.Sockets;
using CalmSentry.Engine.Watching;
using CalmSentry.Linux.Sockets;
using CsCheck;

namespace CalmSentry.Tests.Engine.Watching;

/// <summary>How long a look waits for an answer, and one that needs no waiting.</summary>
public class WaitingTests
{
    [Fact]
    public void A_look_waits_a_beat_and_of_what_is_slow_four_times_as_long_as_usual()
    {
        static double Seconds(int milliseconds) => milliseconds / 1000.0;
        static double Limit(double beat, params double[] took) =>
            WatchLook.LimitOf(TimeSpan.FromSeconds(beat), [.. took.Select(TimeSpan.FromSeconds)]).TotalSeconds;
        Assert.Equal(0.5, Limit(0.5, 0.01)); // what hangs is seen in two beats
        Assert.Equal(1, Limit(0.5)); // nothing is known of it yet
        Assert.Equal(1.6, Limit(0.5, 0.4, 0.4, 0.4), 6); // a slow one is not taken for hanging
        Assert.Equal(1.6, Limit(0.5, 0.4, 0.4, 0.4, 3, 0.01), 6); // nor does one answer change what is usual
        Assert.Equal(0.25, Limit(0.1, 0.01)); // nor is a machine that is busy for a moment
        Assert.Equal(10, Limit(60, 0.01)); // nobody is waited for without end
        Gen.Select(Gen.Int[10, 100_000].Select(Seconds), Gen.Int[0, 30_000].Select(Seconds).Array[0, 9])
            .Sample(
                (beat, took) =>
                {
                    var limit = Limit(beat, took);
                    Assert.InRange(limit, Math.Clamp(beat, 0.25, 10), 10);
                    // Whoever answers twice as slowly as ever before is waited for.
                    if (took.Length > 0)
                        Assert.True(limit >= Math.Min(10, took.Min() * 2));
                }
            );
    }

    [Theory]
    [InlineData("127.0.0.1")]
    [InlineData("::1")]
    public void A_port_of_this_machine_answers_at_once(string host)
    {
        using var listener = new Socket(SocketType.Stream, ProtocolType.Tcp) { DualMode = true };
        listener.Bind(new IPEndPoint(IPAddress.IPv6Any, 0));
        var port = ((IPEndPoint)listener.LocalEndPoint!).Port;
        Assert.False(TcpKnock.At(host, port)); // bound, and nobody listens
        listener.Listen(1);
        Assert.True(TcpKnock.At(host, port));
        Assert.Null(TcpKnock.At("localhost", port)); // a name is looked up by whoever can wait
        Assert.Null(TcpKnock.At("192.0.2.1", port));
        while (TcpKnock.At(host, port) is { } taken)
            Assert.True(taken); // full: whoever wants to know waits
    }
}
