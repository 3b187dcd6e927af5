using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;

namespace CalmSentry.Bench;

/// <summary>The floor of an answer: the same bytes by the same framework, and nothing else.</summary>
internal static class Bare
{
    /// <summary>Serves a file's bytes on a Unix socket until it is ended; says so with one line as soon as it listens.</summary>
    public static async Task Serve(string socket, string file)
    {
        var bytes = await File.ReadAllBytesAsync(file);
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(kestrel => kestrel.ListenUnixSocket(socket));
        await using var app = builder.Build();
        app.MapGet("/", () => Results.Bytes(bytes, "application/json"));
        await app.StartAsync();
        Console.WriteLine("serves");
        await Task.Delay(Timeout.Infinite);
    }
}
