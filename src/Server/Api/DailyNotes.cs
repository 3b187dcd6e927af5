using System.Collections.Concurrent;
using CalmSentry.Contract.Api;
using CalmSentry.Engine.Background;
using CalmSentry.Server.Doors;

namespace CalmSentry.Server.Api;

/// <summary>What a person is to know beside answers, and is told once a day, not with each of them.</summary>
internal sealed class DailyNotes(Clocks clocks)
{
    private const int Most = 1000;

    private static readonly TimeSpan Day = TimeSpan.FromDays(1);

    private readonly ConcurrentDictionary<(string Who, string Note), DateTimeOffset> said = [];

    /// <param name="note">Null: there is nothing.</param>
    public void Say(string? note, HttpContext context)
    {
        if (note is null)
            return;
        var (key, now) = ((Caller.Of(context).Who.Name, note), clocks.Now);
        if (said.TryGetValue(key, out var at) && (now - at).Duration() < Day)
            return;
        if (said.Count >= Most)
            said.Clear(); // then it is said once too often
        said[key] = now;
        context.Response.Headers[OwnHeaders.Note] = note;
    }
}
