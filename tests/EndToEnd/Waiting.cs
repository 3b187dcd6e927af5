using System.Diagnostics;
using System.Runtime.CompilerServices;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Something a test waits for. After ten seconds it says on standard error what that is: whoever watches need not guess.</summary>
internal sealed class Waiting : IDisposable
{
    private static readonly TimeSpan Unusual = TimeSpan.FromSeconds(10);

    private readonly Stopwatch clock = Stopwatch.StartNew();
    private readonly Timer timer;

    /// <param name="what">What is waited for.</param>
    /// <param name="seen">What is so instead.</param>
    public Waiting(string what, Func<string>? seen = null)
    {
        var test = TestContext.Current.Test?.TestDisplayName ?? "a test";
        timer = new(
            _ => Console.Error.WriteLine($"… {test} has waited {Unusual.TotalSeconds} s for: {what}{Of(seen)}"),
            null,
            Unusual,
            Timeout.InfiniteTimeSpan
        );
    }

    public TimeSpan Elapsed => clock.Elapsed;

    public void Dispose() => timer.Dispose();

    private static string Of(Func<string>? seen) => seen is null ? "" : $"; last seen: {seen()}";
}

/// <summary>Waits with an end of what another process does.</summary>
internal static class WaitingInTime
{
    public static async Task InTime(this Task task, [CallerArgumentExpression(nameof(task))] string what = "")
    {
        using var wait = new Waiting(what);
        await task.WaitAsync(Sentry.Limit);
    }

    public static async Task<T> InTime<T>(this Task<T> task, [CallerArgumentExpression(nameof(task))] string what = "")
    {
        using var wait = new Waiting(what);
        return await task.WaitAsync(Sentry.Limit);
    }
}
