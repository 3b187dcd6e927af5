using System.Collections.Concurrent;

namespace CalmSentry.Engine.Begin;

/// <summary>Tells whoever waits that a service has come to another state. It does not say which: look.</summary>
internal sealed class Readiness(TaskCreationOptions promises)
{
    private const string Any = "";

    private readonly ConcurrentDictionary<string, TaskCompletionSource> waited = new(StringComparer.Ordinal);

    /// <summary>Completes at the next change. Take it before looking, so that no change falls between.</summary>
    public Task NextChange(string service) => waited.GetOrAdd(service, _ => new(promises)).Task;

    public Task NextChange() => NextChange(Any);

    public void Changed(string service)
    {
        if (waited.TryRemove(service, out var one))
            one.TrySetResult();
        if (waited.TryRemove(Any, out var all))
            all.TrySetResult();
    }
}
