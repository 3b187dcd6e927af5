using System.Net;
using System.Net.Sockets;
using System.Text.Json;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Entries;
using CalmSentry.Engine;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Terminals;
using CalmSentry.Inspection.Checks;
using CalmSentry.Inspection.Drills;
using CalmSentry.Inspection.Files;
using CalmSentry.Inspection.Rehearsals;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Api;
using CalmSentry.Server.Console;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Server.Self;
using CalmSentry.Server.Terminals;
using CalmSentry.Server.Windows;
using CalmSentry.Store;
using CalmSentry.Telling;
using CalmSentry.Telling.Forwarding;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.AspNetCore.Server.Kestrel.Core;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Server;

/// <summary>
/// <c>calm-sentry serve</c>: takes running keepers up again, then listens. Ends on SIGTERM or Ctrl-C; programs go on.
/// </summary>
internal static partial class Serve
{
    public static async Task<int> Run(string? root, int? port, CancellationToken cancellation)
    {
        try
        {
            await Whole(Places.From(root), port, cancellation).ConfigureAwait(false);
            return 0;
        }
        catch (NotServingException error)
        {
            await System.Console.Error.WriteLineAsync(error.Message).ConfigureAwait(false);
            return 1;
        }
    }

    /// <summary>It does not serve; the message says why, and what to do.</summary>
    private sealed class NotServingException(string why) : Exception($"calm-sentry: {why}");

    private static async Task Whole(Places places, int? port, CancellationToken cancellation)
    {
        OwnStanding.KeepFromMemoryChoice();
        Demand(places);
        using var only = await TakeOnly(places.Lock, places).ConfigureAwait(false);
        using var earlier = await TakeOnly(places.EarlierLock, places).ConfigureAwait(false);
        using var heartbeat = new Heartbeat(places);
        // A mistake in its settings must not keep a machine's services down, nor silence anybody.
        var file = new SettingsFile(places);
        var settings = file.Load();
        if (file.Trouble is { } mistake)
            await System.Console.Error.WriteLineAsync($"calm-sentry: {mistake}").ConfigureAwait(false);
        var store = await Open(places).ConfigureAwait(false);
        await using (store.ConfigureAwait(false))
        {
            var clocks = new Clocks(TimeProvider.System) { Moments = come => new ExactTimer(come) };
            var house = new House(places, store, Keeper, clocks) { JobsAtOnce = settings.JobsAtOnce };
            var says = new SayDoors(places, house.Tools.Groups.Mark);
            house.Tools.Says = says;
            var doors = new DoorPlaces(places, says);
            var (listen, trouble) = TakePort(doors, port, settings);
            var rooms = new Rooms(house);
            var app = Build(rooms, doors, file, listen);
            await using (app.ConfigureAwait(false))
            {
                DemandPermissions(app);
                var teller = app.Services.GetRequiredService<Teller>(); // it hears of entries from here on
                house.Tools.Groups.Sweep();
                Rehearsal.Clear(house.Tools, house.Logbook, house.Clocks);
                if (trouble is not null)
                    house.Logbook.Trouble(trouble);
                file.TellAtStart(house.Logbook, store);
                if (GuardWatch.Fell is { } fell)
                    house.Logbook.Note(new GuardEntry(fell)); // before anything else: the next fall may come at once
                var drills = app.Services.GetRequiredService<DrillRoom>(); // before plans are taken up that end in it
                rooms.Settling.Steps = app.Services.GetRequiredService<SettleSteps>();
                var began = await rooms.TakeUp().ConfigureAwait(false);
                NoteAbsence(house, heartbeat.Before);
                if (began is { } kind && rooms.Registry.All.Count > 0)
                    drills.FollowBoot(kind);
                await Listen(app, cancellation).ConfigureAwait(false);
                Announce(app, house);
                doors.GiveToGuard();
                await Attend(app, rooms, doors, teller, file, cancellation).ConfigureAwait(false);
                store.SetFact(EndedFact, "asked");
                house.CleanUp();
            }

            File.Delete(places.PortFile);
        }
    }

    private const string EndedFact = "ended";

    /// <summary>What a guard makes up for at once is told by the guard.</summary>
    private static readonly TimeSpan ShortestAbsence = TimeSpan.FromSeconds(10);

    private static void NoteAbsence(House house, DateTimeOffset? before)
    {
        if (before is { } last && house.Clocks.Now - last is var away && away > ShortestAbsence)
            house.Logbook.Note(new AbsentEntry(last, away, Asked: house.Store.Fact(EndedFact) is "asked"));
        house.Store.SetFact(EndedFact, "");
    }

    private static string Keeper => Path.Combine(AppContext.BaseDirectory, "calm-keeper");

    /// <exception cref="NotServingException">The store cannot be opened.</exception>
    private static async Task<SentryStore> Open(Places places)
    {
        try
        {
            // Definitions may hold what others must not read; the write-ahead log takes its rights from this file.
            if (!File.Exists(places.Database))
                await NewFile.Begin(places.Database).DisposeAsync().ConfigureAwait(false);
            return SentryStore.Open(places.Database, places.DatabaseAsides);
        }
        catch (Exception error) when (error is SqliteException or IOException or UnauthorizedAccessException)
        {
            throw new NotServingException($"the store {places.Database} cannot be opened: {error.Message}");
        }
    }

    /// <exception cref="NotServingException">The port that was asked for is taken.</exception>
    private static (int? Listen, string? Trouble) TakePort(DoorPlaces doors, int? port, Settings settings)
    {
        try
        {
            return doors.TakePort(port ?? settings.Port, asked: port is not null);
        }
        catch (SocketException error)
        {
            throw new NotServingException(
                $"cannot listen on 127.0.0.1:{port}: {error.Message} Choose another port with --port N, or --port 0 "
                    + "for any free one."
            );
        }
    }

    /// <exception cref="NotServingException">A call names no permission, or more than one.</exception>
    internal static void DemandPermissions(WebApplication app)
    {
        // What it has mapped; the service of that name has nothing before it listens.
        var all = ((IEndpointRouteBuilder)app).DataSources.SelectMany(source => source.Endpoints);
        if (Permissions.Unnamed(all) is { Count: > 0 } unnamed)
            throw new NotServingException(
                "these calls name no permission, or more than one, so it does not serve: " + string.Join(", ", unnamed)
            );
    }

    /// <exception cref="NotServingException">It cannot.</exception>
    private static async Task Listen(WebApplication app, CancellationToken cancellation)
    {
        try
        {
            await app.StartAsync(cancellation).ConfigureAwait(false);
        }
        catch (Exception error) when (error is IOException or SocketException)
        {
            throw new NotServingException(
                $"cannot listen: {error.Message} Choose another port with --port N, or --port 0 for any free one."
            );
        }
    }

    /// <summary>All that goes on beside its calls, until it is to end.</summary>
    private static async Task Attend(
        WebApplication app,
        Rooms rooms,
        DoorPlaces doors,
        Teller teller,
        SettingsFile file,
        CancellationToken cancellation
    )
    {
        var house = rooms.House;
        using var guard = GuardWatch.Begin(
            house.Logbook,
            house.Places,
            Keeper,
            doors.GiveToGuard,
            app.Lifetime.StopApplication
        );
        using var upkeep = new Upkeep(house.Store, house.Clocks.Time, rooms.Registry, house.Logbook, file);
        var sessions = app.Services.GetRequiredService<Sessions>();
        using var unused = house.Clocks.Time.CreateTimer(
            _ => sessions.ForgetOld(),
            null,
            Sessions.LookBeat,
            Sessions.LookBeat
        );
        using var keeping = new OutputKeeping(house, () => rooms.Registry.All);
        teller.Begin(file.Now.Telling);
        var lookout = new Inspection.Lookout.Lookout(
            house.Store,
            house.Places,
            house.Logbook,
            house.Clocks,
            rooms.Registry,
            app.Services.GetRequiredService<Checker>(),
            file.Now.Lookout,
            file.Now.Certificates
        ).Begin();
        await using var looks = lookout.ConfigureAwait(false);
        var forwarders = app.Services.GetRequiredService<Forwarders>();
        await forwarders.Take(file.Now.Forward, Machine.HostName).ConfigureAwait(false);
        using var again = new SettingsWatch(house.Places.Settings, file, Hold, house.Logbook);
        await app.WaitForShutdownAsync(cancellation).ConfigureAwait(false);

        async Task Hold(Settings now)
        {
            house.Jobs.Set(now.JobsAtOnce);
            lookout.Take(now.Lookout, now.Certificates);
            await teller.Take(now.Telling).ConfigureAwait(false);
            await forwarders.Take(now.Forward, Machine.HostName).ConfigureAwait(false);
        }
    }

    internal static WebApplication Build(Rooms rooms, DoorPlaces doors, SettingsFile file, int? port)
    {
        var house = rooms.House;
        var builder = WebApplication.CreateSlimBuilder(
            new WebApplicationOptions
            {
                ContentRootPath = AppContext.BaseDirectory,
                // No settings file of the framework's is used; left on, every folder below the programs would be watched for a change of one.
                Args = ["--hostBuilder:reloadConfigOnChange=false"],
            }
        );
        builder
            .Logging.ClearProviders()
            .AddSimpleConsole(options =>
            {
                options.SingleLine = true;
                options.TimestampFormat = "yyyy-MM-dd HH:mm:ss ";
            })
            .SetMinimumLevel(LogLevel.Warning)
            .AddFilter("calm-sentry", LogLevel.Information);
        builder.Services.AddSingleton(doors).AddSingleton<IConnectionListenerFactory, DoorTransport>();
        builder.WebHost.ConfigureKestrel(kestrel =>
        {
            Limit(kestrel);
            kestrel.ListenUnixSocket(house.Places.RootSocket);
            kestrel.ListenUnixSocket(house.Places.ApiSocket);
            kestrel.ListenUnixSocket(house.Places.SayDirectory);
            if (port is { } console)
                kestrel.Listen(IPAddress.Loopback, console);
        });
        // What waits for something to come true is given up when the sentry ends; programs and what was asked go on.
        builder.Services.Configure<HostOptions>(options => options.ShutdownTimeout = TimeSpan.FromSeconds(1));
        builder.Services.ConfigureHttpJsonOptions(json => Written(json.SerializerOptions));
        builder.Services.AddOpenApi("openapi", Description.Of);
        builder.Services.AddPermissions();
        AddParts(builder.Services, rooms, file);
        var app = builder.Build();
        app.Use(next => context => Headers(context, next));
        app.Use(next => context => Failures.Watch(context, next));
        app.UseStatusCodePages(status => NoSuchCall(status.HttpContext));
        app.Use(next => context => Incoming.Watch(context, next));
        app.Use(next => context => Door.Watch(context, next));
        app.UseRouting(); // what is a call is not looked for among the console's files
        app.UseConsoleFiles();
        app.UseAuthorization();
        app.UseWebSockets();
        app.Use(next => context => Unrecorded.Watch(house.Store, house.Clocks, context, next));
        app.MapConsole();
        app.MapSay();
        app.MapGet("/sign-in", SignInPage.Use).May(Permission.Anyone).ExcludeFromDescription();
        app.MapOpenApi("/api/{documentName}.json").May(Permission.Read);
        var api = app.MapGroup("/api");
        var kept = api.MapGroup("").WithMetadata(new Unrecorded.Refused());
        api.MapServices();
        kept.MapWrapping();
        kept.MapRevisions();
        kept.MapRenaming();
        kept.MapSettling();
        api.MapFiles();
        kept.MapSwaps();
        api.MapRunning();
        api.MapTogether();
        api.MapOutput();
        api.MapTerminals();
        api.MapWindows();
        api.MapChecks();
        kept.MapSecrets();
        kept.MapAccounts();
        api.MapDrills();
        api.MapAhead();
        api.MapSessions();
        api.MapSentry();
        api.MapLogbook();
        api.MapTelling();
        app.Lifetime.ApplicationStopping.Register(house.Events.Close);
        return app;
    }

    private static void Written(JsonSerializerOptions json)
    {
        json.TypeInfoResolverChain.Insert(0, ApiJson.Plain);
        json.TypeInfoResolverChain.Add(ParameterJson.Default);
        json.PropertyNamingPolicy = ApiJson.Plain.Options.PropertyNamingPolicy;
        json.NumberHandling = ApiJson.Plain.Options.NumberHandling;
        json.RespectNullableAnnotations = true;
        json.Encoder = ApiJson.Plain.Options.Encoder;
        foreach (var words in ApiJson.Plain.Options.Converters)
            json.Converters.Add(words);
    }

    private static void AddParts(IServiceCollection services, Rooms rooms, SettingsFile settings)
    {
        var house = rooms.House;
        services
            .AddSingleton(house.Events)
            .AddSingleton(house.Store)
            .AddSingleton(house.Logbook)
            .AddSingleton(house.Places)
            .AddSingleton(house.Clocks)
            .AddSingleton(house.Clocks.Time)
            .AddSingleton(house.Tools)
            .AddSingleton(house.Tools.Permits)
            .AddSingleton(house.Tools.States)
            .AddSingleton(house.Tools.Secrets)
            .AddSingleton(house.Tools.Groups)
            .AddSingleton(rooms.Registry)
            .AddSingleton(rooms.Plans)
            .AddSingleton(rooms.Swaps)
            .AddSingleton(rooms.Settling)
            .AddSingleton<SettleSteps>()
            .AddSingleton(new Sessions(house.Store, house.Clocks.Time))
            .AddSingleton(new SentrySelf(house.Clocks.Time))
            .AddSingleton<Pace>()
            .AddSingleton<Tickets>()
            .AddSingleton<TerminalRoom>()
            .AddSingleton<WindowRoom>()
            .AddSingleton<DailyNotes>()
            .AddSingleton(settings)
            .AddSingleton<SettingsCheck>()
            .AddSingleton<DrillRoom>()
            .AddSingleton(
                new Checker(
                    house.Tools,
                    house.Clocks,
                    () => settings.Now.ShutdownWithin,
                    () => settings.Now.Telling.Recipients,
                    rooms.Registry
                )
            )
            .AddSingleton(parts => new RehearsalRoom(
                house.Tools,
                house.Logbook,
                house.Clocks,
                rooms.Registry,
                parts.GetRequiredService<IHostApplicationLifetime>().ApplicationStopping
            ))
            .AddSingleton(new Renaming(house, rooms.Registry))
            .AddSingleton<NewFiles>()
            .AddSingleton<Forwarders>()
            .AddSingleton<Teller>();
    }

    /// <summary>What answers where no call does.</summary>
    private static async Task NoSuchCall(HttpContext context)
    {
        var code = context.Response.StatusCode;
        if (code == 400)
        {
            await Problems
                .Of(
                    400,
                    ProblemCode.BadCall,
                    "Not a call",
                    "A value in the path or the query is not of the kind this call takes.",
                    "GET /api/openapi.json says what each call takes."
                )
                .ExecuteAsync(context)
                .ConfigureAwait(false);
            return;
        }

        await Problems
            .Of(
                code,
                code == 405 ? ProblemCode.WrongMethod
                    : code == 404 ? ProblemCode.NoSuchCall
                    : ProblemCode.BadCall,
                "No such call",
                $"{context.Request.Method} {context.Request.Path} is not a call of this API.",
                "GET /api/openapi.json lists them all."
            )
            .ExecuteAsync(context)
            .ConfigureAwait(false);
    }

    /// <summary>What one connection may ask of the server: far above what any client of ours does.</summary>
    private static void Limit(KestrelServerOptions kestrel)
    {
        kestrel.AddServerHeader = false;
        kestrel.Limits.MaxRequestBodySize = Incoming.LongestDefinition;
        kestrel.Limits.MaxRequestHeadersTotalSize = 16 << 10;
        kestrel.Limits.MaxRequestHeaderCount = 60;
        kestrel.Limits.MaxRequestBufferSize = 64 << 10;
        kestrel.Limits.RequestHeadersTimeout = TimeSpan.FromSeconds(10);
        kestrel.Limits.KeepAliveTimeout = TimeSpan.FromSeconds(60);
    }

    /// <summary>
    /// Whatever a browser is answered: nothing of it runs anything or is framed, unless the console's page says more.
    /// </summary>
    private static Task Headers(HttpContext context, RequestDelegate next)
    {
        var headers = context.Response.Headers;
        headers[OwnHeaders.Zone] = HostTime.Zone;
        if (context.Features.Get<DoorWord>() is { Door: not DoorKind.Console })
            return next(context);
        headers.ContentSecurityPolicy =
            "default-src 'none'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'";
        headers.XContentTypeOptions = "nosniff";
        headers.XFrameOptions = "DENY";
        headers["Referrer-Policy"] = "no-referrer";
        headers["Cross-Origin-Resource-Policy"] = "same-origin";
        headers["Cross-Origin-Opener-Policy"] = "same-origin";
        return next(context);
    }

    private static void Announce(WebApplication app, House house)
    {
        var address = app
            .Services.GetRequiredService<IServer>()
            .Features.Get<IServerAddressesFeature>()!
            .Addresses.FirstOrDefault(a => a.StartsWith("http://127", StringComparison.Ordinal));
        var self = app.Services.GetRequiredService<SentrySelf>();
        self.Console = address is null ? "" : address + "/";
        Tell(house.Places.ServerPid, Environment.ProcessId);
        if (address is not null)
            Tell(house.Places.PortFile, new Uri(address).Port);
        house.Logbook.Note(
            new ServingEntry(SentrySelf.Version, $"{house.Places.Root} on {Machine.HostName}", Environment.ProcessId)
        );
        house.Tools.Keepers.ReserveSoon();
        Ready(app.Logger, SentrySelf.Version, house.Places.ApiSocket, address is null ? "no console" : self.Console);

        // Whoever looks there is told less; a disk without room keeps nobody from being served.
        void Tell(string file, int number)
        {
            try
            {
                File.WriteAllText(file, $"{number}\n");
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                house.Logbook.Trouble($"{file} cannot be written: {error.Message.TrimEnd('.')}.");
            }
        }
    }

    [LoggerMessage(1, LogLevel.Information, "calm-sentry {Version} serves {Socket} and {Console}")]
    private static partial void Ready(ILogger logger, string version, string socket, string console);

    /// <summary>
    /// A server that was killed while it started a process leaves its lock to that one for the moment until it
    /// executes.
    /// </summary>
    /// <exception cref="NotServingException">Another one has it.</exception>
    private static async Task<FileLock> TakeOnly(string path, Places places)
    {
        const int tries = 20;
        for (var left = tries; left > 0; left--)
        {
            if (FileLock.TryTake(path) is { } only)
                return only;
            await Task.Delay(50).ConfigureAwait(false);
        }

        throw new NotServingException(
            $"another sentry already serves {places.Root}. Stop it first, or give this one a root of its own with "
                + "--root DIR."
        );
    }

    /// <summary>Makes the places.</summary>
    /// <exception cref="NotServingException">It cannot.</exception>
    private static void Demand(Places places)
    {
        var longest = Path.Combine(places.SayDirectory, new Core.Lifecycle.ServiceId(long.MaxValue).ToString());
        var length = System.Text.Encoding.UTF8.GetByteCount(longest);
        if (length > Places.LongestSocketPath)
            throw new NotServingException(
                $"the root {places.Root} is too deep: its sockets' paths, such as {longest}, have {length} bytes, "
                    + $"{Places.LongestSocketPath} are allowed. Choose a shorter --root."
            );
        try
        {
            Directory.CreateDirectory(
                places.Library,
                UnixFileMode.UserRead
                    | UnixFileMode.UserWrite
                    | UnixFileMode.UserExecute
                    | UnixFileMode.GroupExecute
                    | UnixFileMode.OtherExecute
            );
            Directory.CreateDirectory(places.Logs);
            Directory.CreateDirectory(places.RunDirectory);
            File.SetUnixFileMode(places.RunDirectory, (UnixFileMode)0b111_101_101); // every account's programs reach their own sockets
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new NotServingException(
                $"the places under {places.Root} cannot be made: {error.Message} As root they can; or give a root of "
                    + "your own with --root DIR."
            );
        }
    }
}
