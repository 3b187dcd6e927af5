using System.Security.Cryptography;
using Microsoft.Extensions.FileProviders;

namespace CalmSentry.Server.Console;

/// <summary>The console's files, beside the program, under a strict content security policy with a new nonce for each page.</summary>
internal static class ConsoleFiles
{
    private const string NoncePlace = "__CALM_NONCE__";

    public static void UseConsole(this WebApplication app)
    {
        var directory = Path.Combine(AppContext.BaseDirectory, "console");
        var page = Path.Combine(directory, "index.html");
        var html = File.Exists(page) ? File.ReadAllText(page) : $"<!doctype html><title>Calm Sentry</title><p>The console's files are not in {directory}. ./build.sh puts them there.</p>";
        if (Directory.Exists(directory))
        {
            app.UseStaticFiles(new StaticFileOptions
            {
                FileProvider = new PhysicalFileProvider(directory),
                OnPrepareResponse = context =>
                {
                    context.Context.Response.Headers.XContentTypeOptions = "nosniff";
                    // Names under assets hold a hash of their content.
                    context.Context.Response.Headers.CacheControl = context.Context.Request.Path.StartsWithSegments("/assets", StringComparison.Ordinal) ? "public, max-age=31536000, immutable" : "no-cache";
                },
            });
        }

        app.MapFallback("{**path:nonfile}", IResult (HttpContext context) =>
        {
            if (context.Request.Path.StartsWithSegments("/api", StringComparison.Ordinal) || !HttpMethods.IsGet(context.Request.Method)) return TypedResults.NotFound();
            var nonce = Convert.ToBase64String(RandomNumberGenerator.GetBytes(16));
            var headers = context.Response.Headers;
            headers.ContentSecurityPolicy = $"default-src 'none'; script-src 'self' 'nonce-{nonce}'; style-src 'self' 'nonce-{nonce}'; img-src 'self' data:; font-src 'self'; connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";
            headers.XContentTypeOptions = "nosniff";
            headers["Referrer-Policy"] = "no-referrer";
            headers.CacheControl = "no-store";
            return TypedResults.Text(html.Replace(NoncePlace, nonce, StringComparison.Ordinal), "text/html; charset=utf-8");
        }).ExcludeFromDescription();
    }
}
