using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Engine.Services;

namespace CalmSentry.Server.Http;

/// <summary>Errors as Problem Details (RFC 9457): what, where, what is allowed, what to do next.</summary>
internal static class Problems
{
    public static IResult Of(
        int status,
        ProblemWord code,
        string title,
        string detail,
        string? next = null,
        IReadOnlyList<Mistake>? errors = null
    ) =>
        TypedResults.Json(
            new Problem(title, status, detail, code, next, errors),
            ApiJson.Plain.Problem,
            "application/problem+json",
            status
        );

    public static Mistake Of(DefinitionError error) =>
        new(
            error.Key,
            error.Found,
            error.Allowed,
            error.Place?.Line,
            error.Place?.Column,
            error.Nearest,
            error.ToString()
        );

    public static IResult BadTicket() =>
        Of(
            StatusCodes.Status401Unauthorized,
            ProblemCode.BadTicket,
            "No such ticket",
            "This ticket was never given, was used, is older than half a minute, or is another's.",
            "Ask for a new one."
        );

    /// <summary>So many of something are not shown at a time.</summary>
    public static IResult NotSoMany(int? last, int most) =>
        Of(400, ProblemCode.BadNumber, "Not a number of them", $"last is {last}; allowed: 1 to {most}.");

    /// <param name="renamed">What a service is called that had this name.</param>
    public static IResult NoSuchService(string called, string? nearest, string? renamed = null) =>
        Of(
            StatusCodes.Status404NotFound,
            ProblemCode.NoSuchService,
            "No such service",
            $"There is no service called '{called}' here"
                + (
                    renamed is not null ? $": it was renamed to '{renamed}'."
                    : nearest is null ? "."
                    : $"; did you mean '{nearest}'?"
                ),
            renamed is null ? "'calm list' shows all there are." : $"calm show {renamed}"
        );

    public static IResult Unreadable(Unreadable one, Places places) =>
        Of(
            StatusCodes.Status409Conflict,
            ProblemCode.Unreadable,
            "Its definition cannot be read",
            $"The stored definition of {one.Stored.Name} cannot be read: {one.Why}. Its program is left as it is.",
            one.Mend(places)
        );

    public static IResult NotPermitted(string who) =>
        Of(
            StatusCodes.Status403Forbidden,
            ProblemCode.NotPermitted,
            "Not permitted",
            $"The account {who} may not direct this sentry; root and the sentry's own account may.",
            "Ask as one of those: sudo calm …"
        );

    public static IResult SignInNeeded() =>
        Of(
            StatusCodes.Status401Unauthorized,
            ProblemCode.SignInNeeded,
            "Sign-in needed",
            "This browser is not signed in, or its session has ended.",
            "On the host, 'calm open' prints a link that signs it in."
        );
}
