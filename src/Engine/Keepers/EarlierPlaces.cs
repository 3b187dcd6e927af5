using CalmSentry.Contract;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Linux.Groups;

namespace CalmSentry.Engine.Keepers;

/// <summary>
/// Versions before services had an id named run directories and groups after them. What such a version left running is
/// taken up where it is.
/// </summary>
internal static class EarlierPlaces
{
    /// <summary>
    /// The directory gets its name of today. Its keeper goes on by the path it was started with, which leads there; its
    /// lock is on the directory itself.
    /// </summary>
    public static void Bring(Places places, string name, ServiceId id)
    {
        var (was, now) = (places.RunOf(name), places.RunOf(id.ToString()));
        if (Directory.Exists(now) || !Directory.Exists(was) || new DirectoryInfo(was).LinkTarget is not null)
            return;
        Directory.Move(was, now);
        Directory.CreateSymbolicLink(was, id.ToString());
    }

    /// <summary>No keeper of an earlier version serves the service any more.</summary>
    public static void Forget(Places places, Ceilings ceilings, string name)
    {
        var link = new DirectoryInfo(places.RunOf(name));
        if (link.LinkTarget is null)
            return;
        link.Delete();
        ceilings.Forget(name);
    }
}
