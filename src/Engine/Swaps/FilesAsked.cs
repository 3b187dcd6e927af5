using CalmSentry.Contract.Api;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Engine.Services;
using CalmSentry.Store;

namespace CalmSentry.Engine.Swaps;

/// <summary>Why new files are not taken; nothing was changed.</summary>
internal sealed class FilesNotTakenException(Problem problem) : Exception(problem.Detail)
{
    public FilesNotTakenException(ProblemWord code, string title, string detail, string next)
        : this(new(title, 422, detail, code, next, null)) { }

    /// <summary>The code of a refusal that another try may not meet.</summary>
    public const ProblemCode FilesMove = ProblemCode.FilesInMotion;

    public Problem Problem { get; } = problem;
}

/// <summary>New files that somebody asks for.</summary>
/// <param name="Dependents">Those that need it, and are stopped and begun again with it.</param>
/// <param name="Say">What is being done, a line at a time.</param>
internal sealed record FilesAsked(
    ServiceActor Actor,
    SwapOrder Order,
    IReadOnlySet<string> Dependents,
    Principal By,
    Action<string> Say
);

/// <summary>New files, lying beside those there are, as they were looked at.</summary>
internal sealed record Prepared(
    SwapPlan Plan,
    Swap Swap,
    IReadOnlyList<Finding> Findings,
    IReadOnlyList<StoredVersion> Unrecorded
);
