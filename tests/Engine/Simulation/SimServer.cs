using System.Text.Json;
using CalmSentry.Contract;
using CalmSentry.Core.Definitions;
using CalmSentry.Engine;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Services;
using CalmSentry.Store;
using CalmSentry.Telling;
using TheHouse = CalmSentry.Engine.Services.House;

namespace CalmSentry.Tests.Engine.Simulation;

/// <summary>
/// One server of the simulation: the real actors, plans and store, on simulated threads and a simulated machine. With its
/// death everything it had not committed is gone.
/// </summary>
internal sealed class SimServer
{
    private readonly SimServerTime time;
    private readonly SimRunHost host;
    private readonly List<(string What, Task Task)> errands = [];

    public SimServer(SimMachine machine, Places places, SimPeople people, Action<bool> committed)
    {
        time = new(machine.Loop);
        host = new(machine, time);
        Store = SentryStore.Open(
            places.Database,
            [],
            new()
            {
                Clock = time.Clock,
                Tasks = time.Tasks,
                Promises = TaskCreationOptions.None, // the scheduler sees to that
                Refuses = () =>
                {
                    machine.Refused |= machine.NoDisk;
                    return machine.NoDisk ? "database or disk is full" : null;
                },
                Committed = committed,
            }
        );
        House = new(
            places,
            Store,
            "/nowhere/calm-keeper",
            new(time.Clock) { Tasks = time.Tasks, Promises = TaskCreationOptions.None }
        )
        {
            Host = host,
        };
        Rooms = new(House);
        Teller = new(Store, House.Tools, House.Logbook, House.Events, House.Clocks, Registry)
        {
            SenderFor = (_, _) => people,
        };
        machine.Say = label => Registry.All.FirstOrDefault(one => one.Id.ToString() == label)?.Says(true, true, null);
        Do(
            "take up",
            async () =>
            {
                await Rooms.TakeUp();
                Teller.Begin(
                    new()
                    {
                        Tell = [SimPeople.Anna],
                        Pace = new() { MostAnHour = 10_000 },
                    }
                );
                Serves = true;
            }
        );
    }

    public SentryStore Store { get; }

    public TheHouse House { get; }

    public Rooms Rooms { get; }

    public Registry Registry => Rooms.Registry;

    public Teller Teller { get; }

    /// <summary>It has found out what became of its services.</summary>
    public bool Serves { get; private set; }

    /// <summary>What was begun and is not over.</summary>
    public IEnumerable<string> UnderWay => errands.Where(one => !one.Task.IsCompleted).Select(one => one.What);

    public IEnumerable<string> Failed =>
        errands.Where(one => one.Task.IsFaulted).Select(one => $"{one.What}: {one.Task.Exception!.InnerException}");

    public void Do(string what, Func<Task> work)
    {
        errands.RemoveAll(one => one.Task.IsCompletedSuccessfully);
        errands.Add((what, House.Clocks.Run(work)));
    }

    public void Die()
    {
        time.Dead = true;
        Store.Abandon();
        host.Die();
    }

    public static (Definition Definition, string Document) Define(string json)
    {
        using var document = JsonDocument.Parse(json);
        var (definition, errors) = DefinitionReader.Read(JsonNodes.Read(document.RootElement));
        return (definition ?? throw new InvalidOperationException(string.Join("; ", errors)), json);
    }
}
