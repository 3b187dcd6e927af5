using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Rhythms;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Checks;
using CalmSentry.Linux.Accounts;
using CalmSentry.Server.Http;

namespace CalmSentry.Server.Api;

/// <summary>What a check came to, as an answer, and as the reason why something is refused.</summary>
internal static class CheckReplies
{
    public static IResult Refusal(IReadOnlyList<Finding> blocking, string what) =>
        Problems.Of(
            blocking[0].Code == FindingCode.AccountNeeded ? 400 : 422,
            blocking[0].Code,
            $"It would not {what}",
            string.Join("\n", blocking.Select(finding => Shown.Line(finding.Seen))),
            string.Join("\n", blocking.Select(finding => finding.Mend).Distinct()),
            [
                .. blocking.Select(finding => new Mistake(
                    finding.Word,
                    finding.Seen,
                    null,
                    null,
                    null,
                    null,
                    $"{finding.Word}: {finding.Seen}"
                )),
            ]
        );

    /// <param name="registered">The service that has the name already, when the definition is not its own.</param>
    public static async Task<CheckView> Check(
        Sent sent,
        Checker checker,
        RunTools tools,
        Clocks clocks,
        Askers askers,
        ServiceActor? registered = null
    )
    {
        if (sent.Definition is not { } definition)
        {
            var errors = sent.Errors.Select(Problems.Of).ToList();
            return new CheckView
            {
                Clear = false,
                Said = $"The definition has {Count(errors.Count, "mistake")}; nothing else was looked at.",
                Findings = [],
                Errors = errors,
            };
        }

        var findings = await checker.All(definition, askers).ConfigureAwait(false);
        if (registered is not null)
        {
            findings =
            [
                .. findings,
                new Finding(
                    FindingCode.NameTaken,
                    Severity.Note,
                    $"There is a service called '{definition.Name}' already.",
                    "Wrapping another one under that name is refused.",
                    $"Choose another name; or, to change that one: calm adjust {definition.Name} --from FILE"
                ),
            ];
        }

        var left = FindingViews.Left(findings, definition.Accept, forStart: true);
        using var whole = JsonDocument.Parse(JsonNodes.Write(DefinitionWriter.Write(definition)));
        return new CheckView
        {
            Clear = left.Count == 0,
            Said = Said(definition, findings, left),
            Findings = FindingViews.Of(findings, definition.Accept),
            Errors = [],
            Definition = whole.RootElement.Clone(),
            Moments = Ahead.Moments(definition, clocks.Now),
            Command = LaunchOrder.CommandOf(definition.Program),
            Interpreters = await InterpretersOf(definition, tools).ConfigureAwait(false),
            Repeat = RepeatOf(definition, sent.Given),
        };
    }

    public static RepeatView RepeatOf(Definition definition, MapNode given) =>
        new(
            DefinitionWriter.Words(definition) is { } words ? ["calm", "wrap", definition.Name, .. words] : null,
            YamlNodes.Write(given)
        );

    private static string Said(Definition definition, IReadOnlyList<Finding> findings, IReadOnlyList<Finding> left)
    {
        var rest = findings.Count - left.Count;
        var more = rest == 0 ? "" : $" {Count(rest, "more thing")} to know.";
        if (left.Count == 0)
            return $"{definition.Title} could be started: nothing stands in its way.{more}";
        return left.All(finding => finding.OnlyNow)
            ? $"{definition.Title} can be wrapped, but not be started now: {Count(left.Count, "finding")} in "
                + $"its way.{more}"
            : $"{definition.Title} would not run: {Count(left.Count, "finding")} in its way.{more}";
    }

    private static string Count(int number, string what) => number == 1 ? $"1 {what}" : $"{number} {what}s";

    private static async Task<IReadOnlyList<InterpreterView>?> InterpretersOf(Definition definition, RunTools tools)
    {
        var program = definition.Program;
        if (!File.Exists(program.Path) || (program.With is null && Interpreters.FirstLine(program.Path) is null))
            return null;
        var candidates = Interpreters.For(program.Path, []).ToList();
        if (program.With is { } with && !candidates.Exists(one => one.Path == with))
            candidates.Insert(0, new(with, ScriptKind.OfInterpreter(with), "it was named"));
        var account =
            Linux.Accounts.Account.Named(definition.Account)
            ?? Linux.Accounts.Account.WithId(Linux.Accounts.Account.OwnId);
        if (candidates.Count == 0 || account is null)
            return null;
        var environment = LaunchOrder.EnvironmentOf(definition, account, Checker.Label, tools.Places);
        var chosen = program.With ?? Interpreters.FirstLine(program.Path);
        // Each says its own version, as the account: what cannot be run as it has none.
        return await Task.WhenAll(
                candidates.Select(async candidate =>
                {
                    var said = candidate.Kind is { Version.Length: > 0 } kind
                        ? await tools
                            .AsAccount.Run(
                                account,
                                [],
                                "/",
                                environment,
                                [candidate.Path, .. kind.Version],
                                AsAccount.Patience
                            )
                            .ConfigureAwait(false)
                        : null;
                    var version = said is { ExitCode: 0 } answer
                        ? (answer.Output + answer.Error).Split('\n')[0].Trim()
                        : null;
                    return new InterpreterView(
                        candidate.Path,
                        version,
                        candidate.Why,
                        candidate.Path == chosen || (program.With is null && Path.GetFileName(candidate.Path) == chosen)
                    );
                })
            )
            .ConfigureAwait(false);
    }
}
