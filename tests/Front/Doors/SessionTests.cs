using CalmSentry.Server.Doors;
using CalmSentry.Store;
using Microsoft.AspNetCore.Http;

namespace CalmSentry.Tests.Front.Doors;

/// <summary>
/// Browser sessions: two secrets, both needed; an end when idle, an end in any case, and bounds on how many there are.
/// </summary>
public sealed class SessionTests : IAsyncDisposable
{
    private readonly string file = Path.GetTempFileName();
    private readonly SentryStore store;
    private readonly Clock clock = new();
    private readonly Sessions sessions;

    public SessionTests()
    {
        store = SentryStore.Open(file);
        sessions = new(store, clock);
    }

    public async ValueTask DisposeAsync()
    {
        await store.DisposeAsync();
        File.Delete(file);
    }

    [Fact]
    public void Only_both_secrets_of_one_session_together_open()
    {
        var (one, two) = (Open(), Open());
        Assert.Equal("anna", Ask(one.Cookie, one.Page));
        foreach (
            var (cookie, page) in new[]
            {
                (one.Cookie, null),
                (null, one.Page),
                (one.Cookie, two.Page),
                (two.Cookie, one.Page),
                (one.Page, one.Cookie),
                ("", ""),
                (one.Cookie, new string('0', 64)),
            }
        )
            Assert.Null(Ask(cookie, page));
    }

    [Fact]
    public void A_link_works_once_and_not_for_long()
    {
        var (key, _) = sessions.NewLink("anna")!.Value;
        Assert.NotNull(sessions.Use(key, null));
        Assert.Null(sessions.Use(key, null));
        (key, _) = sessions.NewLink("anna")!.Value;
        clock.Now += Sessions.LinkLife + TimeSpan.FromSeconds(1);
        Assert.Null(sessions.Use(key, null));
    }

    [Fact]
    public void It_ends_when_it_is_idle_and_in_any_case()
    {
        var idle = Open();
        var used = Open();
        for (
            var gone = TimeSpan.Zero;
            gone < Sessions.SessionLife - TimeSpan.FromHours(1);
            gone += TimeSpan.FromHours(1)
        )
        {
            Assert.Equal("anna", Ask(used.Cookie, used.Page));
            clock.Now += TimeSpan.FromHours(1);
        }

        Assert.Null(Ask(idle.Cookie, idle.Page));
        Assert.Equal("anna", Ask(used.Cookie, used.Page));
        Assert.Single(sessions.Open);
        clock.Now += TimeSpan.FromHours(1.5);
        Assert.Null(Ask(used.Cookie, used.Page));
        Assert.Empty(sessions.Open); // forgotten, not only refused
    }

    [Fact]
    public async Task It_outlives_the_server_and_ends_by_its_name()
    {
        var one = Open();
        await store.Flush();
        var next = new Sessions(store, clock);
        Assert.Equal("anna", Ask(one.Cookie, one.Page, next));
        Assert.NotNull(next.End(next.Open.Single().Id));
        Assert.Null(Ask(one.Cookie, one.Page, next));
        await store.Flush();
        Assert.Empty(new Sessions(store, clock).Open);
        Assert.Null(next.End("none"));
    }

    [Fact]
    public async Task What_is_open_in_it_ends_with_it()
    {
        var (one, other) = (Open(), Open());
        var (end, others) = (sessions.EndOf(Of(one.Cookie)), sessions.EndOf(Of(other.Cookie)));
        Assert.False(end.IsCancellationRequested);
        sessions.End(sessions.Of(Of(one.Cookie))!.Id);
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => Task.Delay(Timeout.Infinite, end));
        Assert.False(others.IsCancellationRequested);
        Assert.True(sessions.EndOf(Of(one.Cookie)).IsCancellationRequested);
        // Unused for too long: to follow is not to use it.
        clock.Now += Sessions.IdleLife + TimeSpan.FromSeconds(1);
        sessions.ForgetOld();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => Task.Delay(Timeout.Infinite, others));
        // After its twelve hours, though nobody asks for anything any more.
        var last = Open();
        clock.Now += Sessions.SessionLife - TimeSpan.FromMilliseconds(1);
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() =>
            Task.Delay(Timeout.Infinite, sessions.EndOf(Of(last.Cookie)))
        );

        static HttpRequest Of(string cookie)
        {
            var request = new DefaultHttpContext().Request;
            request.Headers.Cookie = $"{Sessions.Cookie}={cookie}";
            return request;
        }
    }

    [Fact]
    public void There_are_so_many_links_and_sessions_and_no_more()
    {
        for (var i = 0; i < Sessions.MostLinks; i++)
            Assert.NotNull(sessions.NewLink("anna"));
        Assert.Null(sessions.NewLink("anna"));
        clock.Now += Sessions.LinkLife + TimeSpan.FromSeconds(1);
        var first = Open();
        for (var i = 0; i < Sessions.MostSessions; i++)
        {
            clock.Now += TimeSpan.FromSeconds(1);
            Open();
        }

        Assert.Equal(Sessions.MostSessions, sessions.Open.Count);
        Assert.Null(Ask(first.Cookie, first.Page)); // the one longest unused made room
        // A key is not guessed: however many wrong ones come, and from whom, the right one opens.
        for (var i = 0; i < 100; i++)
            Assert.Null(sessions.Use("guess", null));
        Assert.NotNull(sessions.Use(sessions.NewLink("anna")!.Value.Key, null));
    }

    private (string Cookie, string Page) Open()
    {
        var (cookie, page, _) = sessions.Use(sessions.NewLink("anna")!.Value.Key, "a browser")!.Value;
        return (cookie, page);
    }

    private string? Ask(string? cookie, string? page, Sessions? of = null)
    {
        var request = new DefaultHttpContext().Request;
        if (cookie is not null)
            request.Headers.Cookie = $"{Sessions.Cookie}={cookie}";
        if (page is not null)
            request.Headers[Sessions.Header] = page;
        return (of ?? sessions).AccountOf(request);
    }

    private sealed class Clock : TimeProvider
    {
        public DateTimeOffset Now { get; set; } = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);

        public override DateTimeOffset GetUtcNow() => Now;
    }
}
