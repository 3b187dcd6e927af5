using System.Net;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Who may come in by the browser's door.</summary>
public class DoorTests
{
    [Fact]
    public async Task Loopback_needs_a_link_that_works_once_and_only_from_its_own_pages()
    {
        await using var sentry = await Sentry.Start();
        using var cookies = new HttpClientHandler { AllowAutoRedirect = false };
        using var browser = new HttpClient(cookies);
        var console = new Uri((await sentry.Ok("open")).Output.Trim());
        var api = new Uri(console, "/api/services");
        Assert.Equal(HttpStatusCode.Unauthorized, (await browser.GetAsync(api)).StatusCode);

        using var opened = await browser.GetAsync(console);
        Assert.Matches("^/#page=[0-9a-f]{64}$", opened.Headers.Location!.ToString());
        var secret = opened.Headers.Location.ToString().Split("#page=")[1];
        var cookie = opened.Headers.GetValues("Set-Cookie").Single();
        Assert.Contains("httponly", cookie, StringComparison.OrdinalIgnoreCase);
        Assert.Contains("samesite=strict", cookie, StringComparison.OrdinalIgnoreCase);
        // The cookie goes to every port of this host, so it opens nothing without what the page alone knows.
        Assert.Equal(HttpStatusCode.Unauthorized, (await browser.GetAsync(api)).StatusCode);
        browser.DefaultRequestHeaders.Add("Calm-Page", secret);
        Assert.Equal("[]", await browser.GetStringAsync(api));
        using var again = await new HttpClient(new HttpClientHandler { AllowAutoRedirect = false }).GetAsync(console);
        Assert.Equal("/?link=used", again.Headers.Location!.ToString());

        using var foreign = new HttpRequestMessage(HttpMethod.Post, new Uri(console, "/api/sign-in-links"));
        foreign.Headers.Add("Origin", "http://elsewhere.example");
        Assert.Equal(HttpStatusCode.Forbidden, (await browser.SendAsync(foreign)).StatusCode);
        using var renamed = new HttpRequestMessage(HttpMethod.Get, api);
        renamed.Headers.Host = "elsewhere.example";
        Assert.Equal(HttpStatusCode.BadRequest, (await browser.SendAsync(renamed)).StatusCode);

        // The session outlives the server: a page that stays open goes on when it is back on its port.
        var page = await browser.GetAsync(new Uri(console, "/services/anything"));
        Assert.Contains("nonce-", page.Headers.GetValues("Content-Security-Policy").Single(), StringComparison.Ordinal);
        Assert.Equal(
            HttpStatusCode.NoContent,
            (await browser.PostAsync(new Uri(console, "/api/sign-out"), null)).StatusCode
        );
        Assert.Equal(HttpStatusCode.Unauthorized, (await browser.GetAsync(api)).StatusCode);
    }

    [Fact]
    public async Task Another_account_is_known_by_the_kernel_and_refused()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as another account");
        await using var sentry = await Sentry.Start();
        var start = new System.Diagnostics.ProcessStartInfo(
            "setpriv",
            [
                "--reuid=65534",
                "--regid=65534",
                "--clear-groups",
                "curl",
                "-s",
                "--unix-socket",
                sentry.Places.ApiSocket,
                "http://sentry/api/services",
            ]
        )
        {
            RedirectStandardOutput = true,
        };
        using var process = System.Diagnostics.Process.Start(start)!;
        var said = await process.StandardOutput.ReadToEndAsync();
        Assert.Contains("The account nobody may not direct this sentry", said, StringComparison.Ordinal);
    }
}
