using Xunit.Runner.InProc.SystemConsole;

namespace CalmSentry.Tests.EndToEnd.Queue;

/// <summary>
/// The entry of these tests. <c>--queue</c> runs all classes by several workers; with the runner's own words they run in
/// this process, as in any other assembly.
/// </summary>
internal static class Program
{
    public static async Task<int> Main(string[] arguments) =>
        arguments switch
        {
            ["--queue", .. var words] => await Coordinator.Run(QueueOptions.Read(words)),
            ["--worker"] => await Worker.Run(),
            _ => await ConsoleRunner.Run(arguments),
        };
}
