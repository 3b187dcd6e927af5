using CalmSentry.Contract.Api;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Services;
using CalmSentry.Server.Http;

namespace CalmSentry.Server.Api;

/// <summary>Services that something else has in hand: a drill, a restart of several, new files.</summary>
internal static class Busy
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(1);

    /// <summary>Completes when nobody has any of them in hand.</summary>
    /// <param name="wait">Else it is refused at once.</param>
    /// <exception cref="BusyException">Somebody has.</exception>
    public static async Task Free(
        bool? wait,
        IReadOnlyCollection<string> services,
        Registry registry,
        Clocks clocks,
        CancellationToken gone
    )
    {
        while (registry.InHand.Of(services) is var (service, with))
        {
            if (wait != true)
                throw new BusyException(service, with);
            await Task.WhenAny(registry.Readiness.NextChange(), clocks.Delay(Beat, gone)).ConfigureAwait(false);
            gone.ThrowIfCancellationRequested();
        }
    }

    public static IResult Of(BusyException busy, Clocks clocks) =>
        Problems.Of(
            409,
            ProblemCode.Busy,
            "Something else has it in hand",
            $"{busy.With.What[..1].ToUpperInvariant()}{busy.With.What[1..]}, which {busy.With.By} asked for "
                + $"{Duration.Write(TimeSpan.FromSeconds(Math.Round((clocks.Now - busy.With.Began).TotalSeconds)))} ago, has {busy.Service} in hand: {busy.With.Ends()}. Nothing was done.",
            "Wait for its end with --wait, or see how far it is: calm list"
        );
}
