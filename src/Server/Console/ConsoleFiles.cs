using System.Diagnostics.CodeAnalysis;
using System.Security.Cryptography;
using CalmSentry.Server.Doors;
using Microsoft.AspNetCore.StaticFiles;
using Microsoft.Extensions.FileProviders;
using Microsoft.Extensions.Primitives;
using Microsoft.Net.Http.Headers;

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
        var files = new AllButThePage(new PhysicalFileProvider(Folder));
        app.Use(
            (context, next) =>
            {
                if (SmallOf(context.Request, files) is { } small)
                    context.Request.Path += small.Ending;
                return next(context);
            }
        );
        app.UseStaticFiles(
            new StaticFileOptions
            {
                FileProvider = files,
                ContentTypeProvider = new AsWhatItHolds(),
                OnPrepareResponse = context =>
                {
                    var headers = context.Context.Response.Headers;
                    if (!IsAsset(context.Context.Request.Path))
                    {
                        headers.CacheControl = "no-cache";
                        return;
                    }

                    // Names under assets hold a hash of their content.
                    headers.CacheControl = "public, max-age=31536000, immutable";
                    headers.Vary = HeaderNames.AcceptEncoding;
                    if (
                        Smaller.FirstOrDefault(one =>
                            context.File.Name.EndsWith(one.Ending, StringComparison.Ordinal)
                        ) is
                        { } small
                    )
                        headers.ContentEncoding = small.Coding;
                },
            }
        );
    }

    /// <summary>An asset as it was made small when the console was built, and the content coding (RFC 9110, 8.4.1) that it is in.</summary>
    private sealed record Small(string Ending, string Coding);

    private static readonly Small[] Smaller = [new(".br", "br"), new(".gz", "gzip")]; // the smallest first

    private static bool IsAsset(PathString path) => path.StartsWithSegments("/assets", StringComparison.Ordinal);

    /// <returns>The smallest form of an asset that whoever asks takes; null: it is sent as it is.</returns>
    private static Small? SmallOf(HttpRequest request, IFileProvider files) =>
        IsAsset(request.Path)
            ? Smaller.FirstOrDefault(one =>
                request.GetTypedHeaders().AcceptEncoding.Any(taken => taken.Value == one.Coding && taken.Quality != 0)
                && files.GetFileInfo(request.Path + one.Ending).Exists
            )
            : null;

    private sealed class AsWhatItHolds : IContentTypeProvider
    {
        private readonly FileExtensionContentTypeProvider usual = new();

        public bool TryGetContentType(string subpath, [MaybeNullWhen(false)] out string contentType)
        {
            var small = Smaller.FirstOrDefault(one => subpath.EndsWith(one.Ending, StringComparison.Ordinal));
            return usual.TryGetContentType(small is null ? subpath : subpath[..^small.Ending.Length], out contentType);
        }
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
