using System.Collections.Concurrent;
using System.Runtime.CompilerServices;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using System.Threading.Channels;
using CalmSentry.Contract.Api;

namespace CalmSentry.Server.Events;

/// <summary>One event as it goes out: its name and its data as JSON, written once for all who listen.</summary>
internal readonly record struct LiveEvent(string Name, string Data);

/// <summary>
/// Tells every listener what changes, as it changes. A listener that does not keep up is cut off and comes back for the
/// whole.
/// </summary>
internal sealed class EventHub
{
    private const int Backlog = 4096;

    /// <summary>Streams at the same time: each costs a queue.</summary>
    public const int Most = 128;

    /// <summary>There is no room for another stream.</summary>
    public bool Full => listeners.Count >= Most;

    private readonly ConcurrentDictionary<Channel<LiveEvent>, bool> listeners = [];
    private volatile bool closed;

    public void Changed(ServiceView view) => Send("service", view, ApiJson.Plain.ServiceView);

    public void Removed(string name) =>
        Send("removed", JsonSerializer.SerializeToElement(name, ApiJson.Plain.String), ApiJson.Plain.JsonElement);

    /// <summary>There is a new report of a boot or a drill.</summary>
    public void Began(string kind) =>
        Send("began", JsonSerializer.SerializeToElement(kind, ApiJson.Plain.String), ApiJson.Plain.JsonElement);

    public void Logged(LogEntry entry) => Send("logged", entry, ApiJson.Plain.LogEntry);

    public async IAsyncEnumerable<LiveEvent> Listen(
        Func<LiveEvent> first,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        var channel = Channel.CreateBounded<LiveEvent>(new BoundedChannelOptions(Backlog) { SingleReader = true });
        listeners[channel] = true;
        if (closed)
            channel.Writer.TryComplete();
        try
        {
            yield return first();
            while (true)
            {
                var more = await More(channel.Reader, cancellation).ConfigureAwait(false);
                if (more is null)
                {
                    yield return new("beat", "{}");
                    continue;
                }

                if (more is false)
                    yield break;
                while (channel.Reader.TryRead(out var next))
                    yield return next;
            }
        }
        finally
        {
            listeners.TryRemove(channel, out _);
        }
    }

    /// <summary>Ends every stream: the sentry is about to end.</summary>
    public void Close()
    {
        closed = true;
        foreach (var channel in listeners.Keys)
            channel.Writer.TryComplete();
    }

    /// <summary>Null when nothing came for a while: then a beat shows that the line still stands.</summary>
    private static async Task<bool?> More(ChannelReader<LiveEvent> reader, CancellationToken cancellation)
    {
        using var beat = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        beat.CancelAfter(TimeSpan.FromSeconds(15));
        try
        {
            return await reader.WaitToReadAsync(beat.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
        {
            return null;
        }
    }

    private void Send<T>(string name, T value, JsonTypeInfo<T> type)
    {
        if (listeners.IsEmpty)
            return;
        var live = new LiveEvent(name, JsonSerializer.Serialize(value, type));
        foreach (var channel in listeners.Keys)
            if (!channel.Writer.TryWrite(live))
                channel.Writer.TryComplete();
    }
}
