using System.Diagnostics;
using System.Globalization;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>
/// Something an account does without pause while root is at work: half a second here, as long as CALM_RACE says (in seconds) in
/// <c>./test.sh attacks</c>.
/// </summary>
internal sealed class Race : IAsyncDisposable
{
    public static readonly TimeSpan Length = TimeSpan.FromSeconds(
        double.Parse(Environment.GetEnvironmentVariable("CALM_RACE") ?? "0.5", CultureInfo.InvariantCulture)
    );

    private readonly Process attacker;

    /// <param name="line">A shell's line that ends when it is killed.</param>
    public Race(string account, string line) => attacker = Sentry.Began(account, "/bin/sh", "-c", line);

    /// <summary>Does something again and again for as long as it races, at least twice.</summary>
    public static async Task While(Func<Task> work)
    {
        var clock = Stopwatch.StartNew();
        for (var times = 0; times < 2 || clock.Elapsed < Length; times++)
            await work();
    }

    public async ValueTask DisposeAsync() => await Sentry.End(attacker);
}
