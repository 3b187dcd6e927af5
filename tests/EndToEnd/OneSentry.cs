namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// One sentry for all tests of a class (a class fixture): for tests that only look, or that leave no service behind.
/// </summary>
public sealed class OneSentry : IAsyncLifetime
{
    public Sentry Sentry { get; private set; } = null!;

    public async ValueTask InitializeAsync() => Sentry = await Sentry.Start();

    public ValueTask DisposeAsync() => Sentry.DisposeAsync();

    /// <summary>Nothing of the test that has ended is left for the next.</summary>
    public async Task Empty()
    {
        await Sentry.Calm("stop", "--all");
        foreach (var service in (await Sentry.Ok("list", "--json")).Json.EnumerateArray())
            await Sentry.Ok("unwrap", service.GetProperty("name").GetString()!, "--alone", "--yes");
    }
}
