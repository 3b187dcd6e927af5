using System.Security.Cryptography;
using CalmSentry.Server.Doors;
using Microsoft.Extensions.FileProviders;
using Microsoft.Extensions.Primitives;

namespace CalmSentry.Server.Console;

/// <summary>
/// The console's files, beside the program, and its one page, under a strict content security policy with a new nonce
/// each time.
/// </summary>
internal static class ConsoleFiles
{
    private const string NoncePlace = "__CALM_NONCE__",
        Page = "index.html";

    private static string Folder => Path.Combine(AppContext.BaseDirectory, "console");

    public static void UseConsoleFiles(this WebApplication app)
    {
        if (!Directory.Exists(Folder))
            return;
        app.UseStaticFiles(
            new StaticFileOptions
            {
                FileProvider = new AllButThePage(new PhysicalFileProvider(Folder)),
                // Names under assets hold a hash of their content.
                OnPrepareResponse = context =>
                    context.Context.Response.Headers.CacheControl = context.Context.Request.Path.StartsWithSegments(
                        "/assets",
                        StringComparison.Ordinal
                    )
                        ? "public, max-age=31536000, immutable"
                        : "no-cache",
            }
        );
    }

    public static void MapConsole(this WebApplication app)
    {
        var page = Path.Combine(Folder, Page);
        var html = File.Exists(page)
            ? File.ReadAllText(page)
            : $"<!doctype html><title>Calm Sentry</title><p>The console's files are not in {Folder}. ./build.sh "
                + $"puts them there.</p>";
        IResult Show(HttpContext context)
        {
            if (
                context.Request.Path.StartsWithSegments("/api", StringComparison.OrdinalIgnoreCase)
                || !HttpMethods.IsGet(context.Request.Method)
            )
                return TypedResults.NotFound();
            var nonce = Convert.ToBase64String(RandomNumberGenerator.GetBytes(16));
            context.Response.Headers.ContentSecurityPolicy =
                $"default-src 'none'; script-src 'self' 'nonce-{nonce}'; style-src 'self' 'nonce-{nonce}'; "
                + $"img-src 'self' data:; font-src 'self'; connect-src 'self'; manifest-src 'self'; base-uri "
                + $"'none'; form-action 'none'; frame-ancestors 'none'";
            context.Response.Headers.CacheControl = "no-store";
            return TypedResults.Text(
                html.Replace(NoncePlace, nonce, StringComparison.Ordinal),
                "text/html; charset=utf-8"
            );
        }

        app.MapFallback("{**path:nonfile}", Show).May(Permission.Anyone).ExcludeFromDescription();
        app.MapGet("/" + Page, Show).May(Permission.Anyone).ExcludeFromDescription();
    }

    /// <summary>
    /// The page is never served as a file, however its path is spelled: without its nonce and policy it is not the
    /// page.
    /// </summary>
    private sealed class AllButThePage(IFileProvider files) : IFileProvider
    {
        public IDirectoryContents GetDirectoryContents(string subpath) => NotFoundDirectoryContents.Singleton;

        public IFileInfo GetFileInfo(string subpath) =>
            files.GetFileInfo(subpath) is { Name: not Page } file ? file : new NotFoundFileInfo(subpath);

        public IChangeToken Watch(string filter) => NullChangeToken.Singleton;
    }
}
