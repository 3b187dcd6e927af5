using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Engine.Swaps;

/// <summary>The program files of a service, with its versions where they lie now.</summary>
internal static class ServiceFiles
{
    /// <param name="directory">Without links.</param>
    /// <exception cref="IOException">The way to it cannot be gone, or there is no place for versions; in words.</exception>
    public static ProgramFiles Open(RunTools tools, ServiceId service, string directory)
    {
        var files = ProgramFiles.Open(directory, $"{tools.Groups.Mark}.{service}");
        try
        {
            files.BringEarlier(
                $"{service}",
                () =>
                    tools
                        .Store.Versions(service)
                        .Where(version => version.Directory == directory)
                        .Select(version => (version.Number, version.Identity))
            );
            return files;
        }
        catch
        {
            files.Dispose();
            throw;
        }
    }

    /// <summary>The directory whose files a swap exchanges; null: that cannot be told.</summary>
    public static string? DirectoryOf(Definition definition, Contract.Places places)
    {
        if (definition.Files.Directory is { } named)
            return named;
        var own = Path.GetDirectoryName(definition.Program.Path) ?? "/";
        var works = LaunchOrder.DirectoryOf(definition, places);
        return definition.Program.Path.StartsWith(works.TrimEnd('/') + "/", StringComparison.Ordinal) ? works
            : HostPlaces.HoldsPrograms(own) ? null
            : own;
    }
}
