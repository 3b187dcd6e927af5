using CalmSentry.Contract;
using CalmSentry.Engine;
using CalmSentry.Engine.Background;
using CalmSentry.Server;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Self;
using CalmSentry.Store;
using Microsoft.AspNetCore.Builder;

namespace CalmSentry.Tests.Front;

/// <summary>The server's calls as they ship, put together in this process; no port is listened on.</summary>
internal sealed class ServerApp : IAsyncDisposable
{
    private readonly string root = Directory.CreateTempSubdirectory("calm's app ").FullName;
    private readonly SentryStore store;
    private readonly SayDoors says;

    public ServerApp()
    {
        var places = new Places(root);
        Directory.CreateDirectory(Path.GetDirectoryName(places.Database)!);
        Directory.CreateDirectory(places.RunDirectory);
        store = SentryStore.Open(places.Database, places.DatabaseAsides);
        var house = new CalmSentry.Engine.Services.House(places, store, "", new Clocks(TimeProvider.System));
        says = new SayDoors(places, house.Tools.Groups.Mark);
        App = Serve.Build(new Rooms(house), new(places, says), new SettingsFile(places), port: null);
    }

    public WebApplication App { get; }

    public async ValueTask DisposeAsync()
    {
        await App.DisposeAsync();
        says.Dispose();
        await store.DisposeAsync();
        Directory.Delete(root, recursive: true);
    }
}
