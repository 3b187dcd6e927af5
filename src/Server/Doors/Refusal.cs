using System.Net.Sockets;
using System.Text;

namespace CalmSentry.Server.Doors;

/// <summary>
/// An answer for a connection that is not let in: written beforehand, sent without waiting for anybody, and hung up.
/// </summary>
internal sealed class Refusal
{
    /// <summary>
    /// Who is refused is left the time to send what it came to ask, else it would see a broken line and not the answer;
    /// so many at a time.
    /// </summary>
    private const int MostLingering = 64;

    private static readonly TimeSpan Linger = TimeSpan.FromMilliseconds(500);

    private static int lingering;

    private readonly byte[] answer;

    private Refusal(string status, string type, string body) =>
        answer = Encoding.ASCII.GetBytes(
            $"HTTP/1.1 {status}\r\nContent-Type: {type}\r\nConnection: close\r\nContent-Length: "
                + $"{body.Length}\r\n\r\n{body}"
        );

    /// <summary>Of the client's socket and the console's port.</summary>
    public static Refusal Full { get; } =
        new(
            "503 Service Unavailable",
            "application/problem+json",
            """
            {
              "title": "Too many connections",
              "status": 503,
              "detail": "Your account holds as many connections to this sentry as one may, or all are taken.",
              "code": "too-many-connections",
              "next": "Close some and try again."
            }
            """
        );

    /// <summary>Of a service's own socket.</summary>
    public static Refusal NotOfIt { get; } =
        new(
            "403 Forbidden",
            "text/plain; charset=utf-8",
            "This socket is for the programs of its service; you are none of them.\n"
        );

    public void Send(Socket connection)
    {
        try
        {
            connection.Blocking = false;
            connection.Send(answer);
            connection.Shutdown(SocketShutdown.Send);
        }
        catch (SocketException)
        {
            // It has gone by itself.
        }

        if (Interlocked.Increment(ref lingering) > MostLingering)
        {
            HangUp(connection);
            return;
        }

        _ = Task.Delay(Linger).ContinueWith(_ => HangUp(connection), TaskScheduler.Default);
    }

    private static void HangUp(Socket connection)
    {
        Interlocked.Decrement(ref lingering);
        connection.Dispose();
    }
}
