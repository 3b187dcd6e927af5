using System.CommandLine;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Text;

namespace CalmSentry.Cli.Commands;

/// <summary>
/// Which services a command is about: names, titles and patterns such as <c>till-*</c>, those with a label, or all. One
/// of them that is not there, and none is touched.
/// </summary>
internal sealed class Selection
{
    private readonly Argument<string[]> names = new("name")
    {
        Description = "Services, by short name or title; 'till-*' is each whose name begins so",
        Arity = ArgumentArity.ZeroOrMore,
    };

    private readonly Option<bool> all = new("--all") { Description = "All services" };

    private readonly Option<string[]> labels = new("--label")
    {
        Description = "All services with this label; of several, with any of them",
        HelpName = "LABEL",
    };

    private readonly Command command;

    public Selection(Command command, bool mayBeAll = false)
    {
        this.command = command;
        names.CompletionSources.Add(Common.ServiceNames);
        command.Add(names);
        if (mayBeAll)
            command.Add(all);
        command.Add(labels);
    }

    /// <summary>Whether all of them are meant.</summary>
    public bool IsAll(ParseResult parsed) => command.Options.Contains(all) && parsed.GetValue(all);

    public bool IsGiven(ParseResult parsed) =>
        IsAll(parsed) || parsed.GetValue(names) is { Length: > 0 } || parsed.GetValue(labels) is { Length: > 0 };

    /// <summary>What was selected, as somebody would say it.</summary>
    public string InWords(ParseResult parsed) =>
        IsAll(parsed) ? "all services"
        : parsed.GetValue(labels) is { Length: > 0 } with ? $"services labelled {string.Join(" or ", with)}"
        : string.Join(", ", parsed.GetValue(names) ?? []);

    /// <summary>The services, each once, in their order; with --all or --label there may be none.</summary>
    /// <exception cref="Failure">Nothing was selected, two ways at once were, or one of them is not there.</exception>
    public async Task<IReadOnlyList<string>> Of(SentryClient client, ParseResult parsed, CancellationToken cancellation)
    {
        var (given, with) = (parsed.GetValue(names) ?? [], parsed.GetValue(labels) ?? []);
        var ways = (given.Length > 0 ? 1 : 0) + (IsAll(parsed) ? 1 : 0) + (with.Length > 0 ? 1 : 0);
        if (ways == 0)
            throw new Failure(
                Exit.Usage,
                $"Which service? calm {command.Name} NAME…, --label LABEL{(command.Options.Contains(all) ? ", or --all" : "")}."
            );
        if (ways > 1)
            throw new Failure(Exit.Usage, "Either names, or --label, or --all; nothing was done.");
        // What one name means, the sentry says, where the command itself meets it.
        if (given is [var single] && !IsPattern(single))
            return [single];
        var views = (
            await client.Get("services", ApiJson.Default.IReadOnlyListServiceView, cancellation).ConfigureAwait(false)
        )
            .OrderBy(view => view.Name, NaturalOrder.Names)
            .ToList();
        if (given.Length == 0)
            return [.. views.Where(view => IsAll(parsed) || view.Labels.Any(with.Contains)).Select(view => view.Name)];
        var found = new List<string>();
        foreach (var name in given)
        {
            var meant = views.Where(view => Means(name, view)).Take(IsPattern(name) ? views.Count : 1).ToList();
            if (meant.Count == 0)
                throw await NotThere(client, name, cancellation).ConfigureAwait(false);
            found.AddRange(meant.Select(view => view.Name));
        }

        return [.. found.Distinct(StringComparer.Ordinal)];
    }

    /// <summary>Whether a name, a title or a pattern means a service.</summary>
    public static bool Means(string name, ServiceView view) =>
        IsPattern(name) ? Matches(view.Name, name) : view.Name == name || view.Title == name;

    private static bool IsPattern(string name) => name.AsSpan().ContainsAny('*', '?');

    private static bool Matches(string name, string pattern) =>
        System.IO.Enumeration.FileSystemName.MatchesSimpleExpression(pattern, name, ignoreCase: false);

    /// <summary>That nothing has such a name, with what was probably meant.</summary>
    public static async Task<Failure> NotThere(SentryClient client, string name, CancellationToken cancellation)
    {
        if (IsPattern(name))
            return new(
                Exit.NoSuchThing,
                $"No service has a name like '{name}'. Nothing was done.",
                "'calm list' shows all there are."
            );
        try
        {
            _ = await client
                .Get(SentryClient.PathOf(name), ApiJson.Default.ServiceDetail, cancellation)
                .ConfigureAwait(false);
        }
        catch (Failure failure)
        {
            return new(failure.ExitCode, $"{failure.Message} Nothing was done.", failure.Next, failure.Code);
        }

        return new(Exit.NotTrue, $"'{name}' has come only now. Nothing was done.", "Ask again.");
    }
}
