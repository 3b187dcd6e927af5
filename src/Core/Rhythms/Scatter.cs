namespace CalmSentry.Core.Rhythms;

/// <summary>Keeps apart what would come at one moment.</summary>
public static class Scatter
{
    /// <summary>
    /// A part of a whole, from 0 to below 1, scattered over services and their runs or moments; the same each time it is asked
    /// (SplitMix64), so that a decision can be played again.
    /// </summary>
    public static double ShareOf(string service, long number)
    {
        var mixed = (ulong)number;
        foreach (var letter in service)
            mixed = (mixed ^ letter) * 0x100000001B3;
        mixed += 0x9E3779B97F4A7C15;
        mixed = (mixed ^ (mixed >> 30)) * 0xBF58476D1CE4E5B9;
        mixed = (mixed ^ (mixed >> 27)) * 0x94D049BB133111EB;
        return (mixed >> 11) / (double)(1UL << 53);
    }
}
