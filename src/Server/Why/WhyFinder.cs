using System.Globalization;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Wording;
using CalmSentry.Linux.Boot;
using CalmSentry.Server.Api;
using CalmSentry.Server.Checks;
using CalmSentry.Server.Services;

namespace CalmSentry.Server.Why;

/// <summary>Answers why a service is, or was, as it is: from the record alone.</summary>
internal static class WhyFinder
{
    private const int Entries = 2000,
        Told = 10;

    public static async Task<IResult> Of(ServiceActor actor, DateTimeOffset? at, House house)
    {
        await house.Store.Flush().ConfigureAwait(false); // what was just seen is part of the record
        var name = actor.Definition.Name;
        if (at is { } time)
        {
            if (time > house.Now)
                return Problems.Of(
                    400,
                    "time-ahead",
                    "Not yet",
                    $"{Local(time)} is still to come; only the past and the present can be answered for.",
                    $"calm why {name}"
                );
            if (house.Store.MomentAt(name, time) is not { } then)
                return Problems.Of(
                    404,
                    "no-record",
                    "Before its record",
                    $"The record of {name} begins later than {Local(time)}.",
                    $"calm logbook {name}"
                );
            return Answer(
                new WhyView
                {
                    Name = name,
                    Title = actor.Definition.Title,
                    At = time,
                    Past = true,
                    State = then.State,
                    Health = then.Health,
                    Since = then.At,
                    Said = then.Why,
                    Because = Because(name, time, house),
                    Next =
                    [
                        .. then
                            .Next.Split('\n', StringSplitOptions.RemoveEmptyEntries)
                            .Select(line => new WhyNext(null, line)),
                    ],
                    Could = [new("See its runs of that time", $"calm runs {name} --before '{Local(time)}'")],
                }
            );
        }

        var (definition, now, view) = (actor.Definition, actor.Situation, actor.View);
        var could = Outlook.Could(definition, now).Select(one => new WhyCould(one.Text, one.Command)).ToList();
        if (StopChecks.Advice(definition, house).Length > 0)
            could.Add(new("Give its wind-down the time its stops take", $"calm check {name}"));
        return Answer(
            new WhyView
            {
                Name = name,
                Title = definition.Title,
                At = house.Now,
                Past = false,
                State = view.State,
                Health = view.Health,
                Since = view.Since,
                Said = view.Why + (view.Health == "good" ? $" Health good: {view.HealthWhy}." : ""),
                Because = Because(name, null, house),
                Next = [.. Outlook.Next(definition, now).Select(next => new WhyNext(next.At, next.Text))],
                Could = could,
            }
        );
    }

    public static async Task<BoardView> Board(Registry registry, House house)
    {
        await house.Store.Flush().ConfigureAwait(false);
        var views = registry.Views;
        var rest = views.Where(view => view.Asks is null).ToList();
        var moving = rest.Where(view => view.State is "waiting" or "starting" or "stopping").ToList();
        return new()
        {
            Host = Machine.HostName,
            At = house.Now,
            Asking = [.. views.Where(view => view.Asks is not null).OrderBy(view => view.HealthSince ?? view.Since)],
            Moving = moving,
            Well = rest.Count(view => view.State is "running" or "resting"),
            Down = rest.Count(view => view.State == "stopped"),
            Told = house.Store.ToldEntries(
                Told,
                (id, at, of, what, text, by, tells) => new LogEntry(id, at, of, what, text, by, tells)
            ),
        };
    }

    private static List<WhyStep> Because(string name, DateTimeOffset? until, House house)
    {
        var entries = house.Store.Logbook(
            name,
            Entries,
            (_, at, _, what, text, by, _) => new StoryEntry(at, what, text, by),
            until
        );
        return [.. Story.Of(entries, out _).Select(step => new WhyStep(step.At, step.Until, step.Text, step.By))];
    }

    private static Microsoft.AspNetCore.Http.HttpResults.JsonHttpResult<WhyView> Answer(WhyView view) =>
        TypedResults.Json(view, ApiJson.Plain.WhyView);

    private static string Local(DateTimeOffset time) =>
        time.ToLocalTime().ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture);
}
