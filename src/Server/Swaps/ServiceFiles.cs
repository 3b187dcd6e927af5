using CalmSentry.Core.Lifecycle;
using CalmSentry.Linux.Foreign;
using CalmSentry.Server.Services;

namespace CalmSentry.Server.Swaps;

/// <summary>The program files of a service, with its versions where they lie now.</summary>
internal static class ServiceFiles
{
    /// <param name="directory">Without links.</param>
    /// <exception cref="IOException">The way to it cannot be gone, or there is no place for versions; in words.</exception>
    public static ProgramFiles Open(House house, ServiceId service, string directory)
    {
        var files = ProgramFiles.Open(directory, $"{house.Groups.Mark}.{service}");
        try
        {
            files.BringEarlier(
                $"{service}",
                () =>
                    house
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
}
