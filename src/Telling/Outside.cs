namespace CalmSentry.Telling;

/// <summary>Calls to addresses outside, as all that is told goes: to where was set, and nowhere else.</summary>
internal static class Outside
{
    public static HttpClient Client { get; } =
        new(
            new SocketsHttpHandler
            {
                // Where it is sent is what was set: somebody who can redirect it would be told of everything.
                AllowAutoRedirect = false,
                UseCookies = false,
                UseProxy = false,
                ConnectTimeout = TimeSpan.FromSeconds(10),
                PooledConnectionLifetime = TimeSpan.FromMinutes(5),
                MaxResponseHeadersLength = 16,
                MaxResponseDrainSize = 0,
            }
        )
        {
            Timeout = Timeout.InfiniteTimeSpan,
        };
}
