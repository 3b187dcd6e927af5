using System.Runtime.ExceptionServices;

namespace CalmSentry.Linux.Foreign;

/// <summary>The same for each of some files: a tree of many small ones keeps all processors busy.</summary>
internal static class Together
{
    /// <summary>Files that are held for it at a time.</summary>
    public const int AtOnce = 128;

    private static readonly ParallelOptions AllProcessors = new()
    {
        MaxDegreeOfParallelism = Environment.ProcessorCount,
    };

    /// <summary>Returns when all of it is done; the first that failed is thrown as it was.</summary>
    public static void Each(int count, Action<int> work)
    {
        try
        {
            _ = Parallel.For(0, count, AllProcessors, work);
        }
        catch (AggregateException failed)
        {
            ExceptionDispatchInfo.Throw(failed.InnerExceptions[0]);
        }
    }
}
