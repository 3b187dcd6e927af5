using System.Net;
using System.Net.Sockets;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Api;
using CalmSentry.Server.Console;
using CalmSentry.Server.Checks;
using CalmSentry.Server.Drills;
using CalmSentry.Server.Rehearsals;
using CalmSentry.Server.Services;
using CalmSentry.Server.SignIn;
using CalmSentry.Store;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Server;

/// <summary><c>calm-sentry serve</c>: takes running keepers up again, then listens. Ends on SIGTERM or Ctrl-C; programs go on.</summary>
internal static partial class Serve
{
    public static async Task<int> Run(string? root, int? port, CancellationToken cancellation)
    {
        var places = Places.From(root);
        if (Refuse(places) is { } refusal)
        {
            await System.Console.Error.WriteLineAsync(refusal).ConfigureAwait(false);
            return 1;
        }

        using var only = FileLock.TryTake(places.Lock);
        if (only is null)
        {
            await System.Console.Error.WriteLineAsync($"calm-sentry: another sentry already serves {places.Root}. Stop it first, or give this one a root of its own with --root DIR.").ConfigureAwait(false);
            return 1;
        }

        var (settings, wrong) = Settings.Read(places.Settings);
        if (settings is null)
        {
            // A mistake in its settings must not keep a machine's services down.
            await System.Console.Error.WriteLineAsync($"calm-sentry: {wrong}\ncalm-sentry: serving with the defaults instead.").ConfigureAwait(false);
            settings = new();
        }

        SentryStore store;
        try
        {
            // Definitions may hold what others must not read; the write-ahead log takes its rights from this file.
            if (!File.Exists(places.Database)) await new FileStream(places.Database, new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write, UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite }).DisposeAsync().ConfigureAwait(false);
            store = SentryStore.Open(places.Database);
        }
        catch (SqliteException error)
        {
            await System.Console.Error.WriteLineAsync($"calm-sentry: the store {places.Database} cannot be opened: {error.Message}").ConfigureAwait(false);
            return 1;
        }

        await using (store.ConfigureAwait(false))
        {
            var (listen, trouble) = PortToServe(port ?? settings.Port, asked: port is not null);
            var app = Build(places, store, settings, listen);
            await using (app.ConfigureAwait(false))
            {
                await Rehearsal.Clear(app.Services.GetRequiredService<House>()).ConfigureAwait(false);
                if (trouble is not null) app.Services.GetRequiredService<House>().Log(null, "trouble", trouble);
                if (wrong is not null) app.Services.GetRequiredService<House>().Log(null, "trouble", $"{wrong}. It serves with the defaults instead.");
                File.Delete(places.TellSocket); // programs taken up may speak before anything else listens
                var began = await app.Services.GetRequiredService<Registry>().TakeUp().ConfigureAwait(false);
                if (began is not null && app.Services.GetRequiredService<Registry>().All.Count > 0) app.Services.GetRequiredService<DrillRoom>().FollowBoot(began);
                File.Delete(places.ApiSocket);
                try
                {
                    await app.StartAsync(cancellation).ConfigureAwait(false);
                }
                catch (Exception error) when (error is IOException or SocketException)
                {
                    await System.Console.Error.WriteLineAsync($"calm-sentry: cannot listen: {error.Message} Choose another port with --port N, or --port 0 for any free one.").ConfigureAwait(false);
                    return 1;
                }

                Announce(app, places);
                using var guard = GuardWatch.Begin(app.Services.GetRequiredService<House>(), Path.Combine(AppContext.BaseDirectory, "calm-keeper"));
                using var upkeep = new Upkeep(app.Services.GetRequiredService<House>(), app.Services.GetRequiredService<Registry>());
                await app.WaitForShutdownAsync(cancellation).ConfigureAwait(false);
                app.Services.GetRequiredService<House>().CleanUp();
            }

            File.Delete(places.PortFile);
        }

        return 0;
    }

    /// <summary>A console that cannot be served must not keep a machine's services down: unless its port was asked for, another is taken, or none.</summary>
    private static (int? Port, string? Trouble) PortToServe(int port, bool asked)
    {
        using var probe = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
        try
        {
            probe.Bind(new IPEndPoint(IPAddress.Loopback, port));
            return (port, null);
        }
        catch (SocketException error) when (!asked)
        {
            return error.SocketErrorCode == SocketError.AddressAlreadyInUse
                ? (0, $"The console's port {port} is taken; it is served on another one, which 'calm open' knows. Set a free one in the settings.")
                : (null, $"There is no console: 127.0.0.1:{port} cannot be listened on ({error.Message}). Services and calm are not affected.");
        }
        catch (SocketException)
        {
            return (port, null); // whoever asked for it is told by the listening itself
        }
    }

    private static WebApplication Build(Places places, SentryStore store, Settings settings, int? port)
    {
        var builder = WebApplication.CreateSlimBuilder(new WebApplicationOptions { ContentRootPath = AppContext.BaseDirectory });
        builder.Logging.ClearProviders().AddSimpleConsole(options =>
        {
            options.SingleLine = true;
            options.TimestampFormat = "yyyy-MM-dd HH:mm:ss ";
        }).SetMinimumLevel(LogLevel.Warning).AddFilter("calm-sentry", LogLevel.Information);
        builder.WebHost.ConfigureKestrel(kestrel =>
        {
            kestrel.AddServerHeader = false;
            kestrel.ListenUnixSocket(places.ApiSocket, socket => socket.Use(Caller.AskKernel));
            kestrel.ListenUnixSocket(places.TellSocket, socket => socket.Use(Caller.AskKernel));
            if (port is { } console) kestrel.Listen(IPAddress.Loopback, console);
        });
        // What waits for something to come true is given up when the sentry ends; programs and what was asked go on.
        builder.Services.Configure<HostOptions>(options => options.ShutdownTimeout = TimeSpan.FromSeconds(1));
        builder.Services.ConfigureHttpJsonOptions(json =>
        {
            json.SerializerOptions.TypeInfoResolverChain.Insert(0, ApiJson.Plain);
            json.SerializerOptions.TypeInfoResolverChain.Add(ParameterJson.Default);
            json.SerializerOptions.PropertyNamingPolicy = ApiJson.Plain.Options.PropertyNamingPolicy;
            json.SerializerOptions.NumberHandling = ApiJson.Plain.Options.NumberHandling;
            json.SerializerOptions.RespectNullableAnnotations = true;
            json.SerializerOptions.Encoder = ApiJson.Plain.Options.Encoder;
        });
        builder.Services.AddOpenApi("openapi", options => options.AddDocumentTransformer((document, _, _) =>
        {
            document.Info.Title = "Calm Sentry";
            document.Info.Version = SentrySelf.Version;
            document.Servers?.Clear();
            return Task.CompletedTask;
        }));
        var house = new House(places, store, Path.Combine(AppContext.BaseDirectory, "calm-keeper"), TimeProvider.System) { ShutdownWithin = settings.ShutdownWithin };
        builder.Services.AddSingleton(house).AddSingleton(house.Events).AddSingleton(new Registry(house))
            .AddSingleton(new Sessions(store, house.Clock)).AddSingleton(new SentrySelf(house.Clock))
            .AddSingleton(settings).AddSingleton<DrillRoom>().AddSingleton<Checker>().AddSingleton<RehearsalRoom>();

        var app = builder.Build();
        app.UseExceptionHandler(failed => failed.Run(context =>
            Problems.Of(500, "internal", "Something went wrong in the sentry", "The call failed inside the sentry; the services it keeps are not affected.", "Look at the sentry's own log.").ExecuteAsync(context)));
        app.UseStatusCodePages(async status =>
        {
            var context = status.HttpContext;
            var code = context.Response.StatusCode;
            await Problems.Of(code, code == 405 ? "wrong-method" : code == 404 ? "no-such-call" : "bad-call", "No such call", $"{context.Request.Method} {context.Request.Path} is not a call of this API.", "GET /api/openapi.json lists them all.")
                .ExecuteAsync(context).ConfigureAwait(false);
        });
        app.UseTell(places);
        app.Use(next => context => Door.Watch(context, next));
        app.UseConsole();
        app.MapGet("/sign-in", (string? key, Sessions sessions, HttpContext context) => Door.SignIn(key, sessions, context)).ExcludeFromDescription();
        app.MapOpenApi("/api/{documentName}.json");
        var api = app.MapGroup("/api");
        api.MapServices();
        api.MapOutput();
        api.MapChecks();
        api.MapSecrets();
        api.MapAccounts();
        api.MapDrills();
        api.MapSentry();
        app.Lifetime.ApplicationStopping.Register(house.Events.Close);
        return app;
    }

    private static void Announce(WebApplication app, Places places)
    {
        foreach (var socket in new[] { places.ApiSocket, places.TellSocket }) File.SetUnixFileMode(socket, (UnixFileMode)0b110_110_110); // anyone may knock: the kernel says who it is
        var address = app.Services.GetRequiredService<IServer>().Features.Get<IServerAddressesFeature>()!.Addresses.FirstOrDefault(a => a.StartsWith("http://127", StringComparison.Ordinal));
        var self = app.Services.GetRequiredService<SentrySelf>();
        self.Console = address is null ? "" : address + "/";
        File.WriteAllText(places.ServerPid, Environment.ProcessId + "\n");
        if (address is not null) File.WriteAllText(places.PortFile, new Uri(address).Port + "\n");
        var house = app.Services.GetRequiredService<House>();
        house.Log(null, "serving", $"calm-sentry {SentrySelf.Version} serves {places.Root} on {Machine.HostName} as pid {Environment.ProcessId}.");
        house.Keepers.ReserveSoon();
        Ready(app.Logger, SentrySelf.Version, places.ApiSocket, address is null ? "no console" : self.Console);
    }

    [LoggerMessage(1, LogLevel.Information, "calm-sentry {Version} serves {Socket} and {Console}")]
    private static partial void Ready(ILogger logger, string version, string socket, string console);

    /// <summary>Makes the places, or says why it cannot.</summary>
    private static string? Refuse(Places places)
    {
        var length = System.Text.Encoding.UTF8.GetByteCount(places.ApiSocket);
        if (length > Places.LongestSocketPath)
            return $"calm-sentry: the root {places.Root} is too deep: its socket's path {places.ApiSocket} has {length} bytes, {Places.LongestSocketPath} are allowed. Choose a shorter --root.";
        try
        {
            Directory.CreateDirectory(places.Library, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute);
            Directory.CreateDirectory(places.Logs);
            Directory.CreateDirectory(places.RunDirectory);
            File.SetUnixFileMode(places.RunDirectory, (UnixFileMode)0b111_101_101); // every account's programs reach the tell socket
            return null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return $"calm-sentry: the places under {places.Root} cannot be made: {error.Message} As root they can; or give a root of your own with --root DIR.";
        }
    }
}
