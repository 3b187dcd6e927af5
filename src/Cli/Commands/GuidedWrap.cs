using System.Text.Json;
using System.Text.Json.Nodes;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Guided;
using CalmSentry.Cli.Rehearsing;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Text;

namespace CalmSentry.Cli.Commands;

/// <summary>
/// Wrapping by question and answer, in the order of the work: what it is, what runs it, where, as whom, with what; then
/// a
/// rehearsal, a summary, and only then is anything registered. Each answer is checked by the sentry at once.
/// </summary>
/// <param name="like">A service to copy: then only what must differ is asked for.</param>
internal sealed class GuidedWrap(SentryClient client, string? like)
{
    private JsonObject definition = new()
    {
        ["program"] = new JsonObject(),
        ["identity"] = new JsonObject(),
        ["begin"] = new JsonObject(),
    };
    private readonly HashSet<string> shown = [];
    private JsonElement? sibling;

    public async Task<int> Run(CancellationToken cancellation)
    {
        Asking.Tell(
            "A program you start by hand becomes a service. Nothing is registered before you have seen it all; "
                + $"Ctrl-C leaves, {Asking.Back} goes back to the question before."
        );
        if (like is not null)
            sibling = (
                await client
                    .Get(SentryClient.PathOf(like), ApiJson.Default.ServiceDetail, cancellation)
                    .ConfigureAwait(false)
            ).Definition;
        await Steps(
                like is null
                    ? [Name, Program, Interpreter, Directory, Account, Environment, Begin, Mend, Rehearse, Confirm]
                    : [Name, Program, Environment, Mend, Rehearse, Confirm],
                cancellation
            )
            .ConfigureAwait(false);
        var answer = await WrapCommand
            .Send(client, Body.Of(definition), like, permit: false, cancellation)
            .ConfigureAwait(false);
        Asking.Tell(answer.Said);
        var made = answer.Service!.Name;
        var exit = Asking.YesNo("Start it now?", otherwise: true)
            ? await AskCommands
                .Ask(client, HttpMethod.Post, $"{SentryClient.PathOf(made)}/start", made, json: false, cancellation)
                .ConfigureAwait(false)
            : Exit.True;
        Asking.Tell("\nThe same again, as one command:\n");
        Console.WriteLine(
            answer.Repeat?.Command is { } command ? $"  {CommandLine.Of(command)}" : "  (only a file can say all of it)"
        );
        var file = Asking.Line("\nWrite it as a file too? Its name, or nothing:", needed: false);
        if (file.Length > 0)
        {
            await File.WriteAllTextAsync(file, answer.Repeat!.File, cancellation).ConfigureAwait(false);
            Asking.Tell($"Written; on another machine: calm wrap --from {CommandLine.Quoted(file)}");
        }

        return exit;
    }

    /// <summary>One after the other; back to the beginning of a step, and from there to the one before, as it was then.</summary>
    private async Task Steps(IReadOnlyList<Func<CancellationToken, Task>> steps, CancellationToken cancellation)
    {
        Asking.MayGoBack = true;
        var before = new JsonObject[steps.Count];
        for (var at = 0; at < steps.Count; )
        {
            before[at] = (JsonObject)definition.DeepClone();
            var answered = Asking.Answered;
            try
            {
                await steps[at](cancellation).ConfigureAwait(false);
                at++;
            }
            catch (BackException)
            {
                // A step without a question is passed over on the way back, too.
                if (Asking.Answered == answered)
                    for (at = Math.Max(0, at - 1); at > 0 && !asked.Contains(at); at--) { }
                definition = (JsonObject)before[at].DeepClone();
                continue;
            }

            if (Asking.Answered > answered)
                asked.Add(at - 1);
        }

        Asking.MayGoBack = false;
    }

    /// <summary>Steps in which something was asked.</summary>
    private readonly HashSet<int> asked = [];

    private async Task Confirm(CancellationToken cancellation)
    {
        var check = await Check(cancellation).ConfigureAwait(false);
        Asking.Tell("\nThis is what would be registered:\n");
        foreach (var line in check.Repeat!.File.TrimEnd().Split('\n'))
            Console.WriteLine($"  {line}");
        Console.WriteLine();
        if (!Asking.YesNo(stayedUp ? "Register it?" : "It did not stay up. Register it all the same?", stayedUp))
            throw new Failure(Exit.NotTrue, "Nothing was registered.");
    }

    /// <summary>When it was last rehearsed; true while it was not.</summary>
    private bool stayedUp = true;

    private Task Begin(CancellationToken cancellation)
    {
        string[] words = ["boot", "boot-late", "request", "never"];
        Part("begin")["at"] = words[
            Asking.Choice(
                "When does it start?",
                [
                    "with the machine, before anyone logs in",
                    "with the machine, once everything that starts at boot is ready",
                    "when somebody asks",
                    "never: every start is refused",
                ],
                0
            )
        ];
        var needs = new JsonArray();
        Asking.Tell("  What must be true before: network, service:NAME, tcp:HOST:PORT, path:DIR, after-boot:30s");
        while (Asking.Line("Something it needs, or nothing:", needed: false) is { Length: > 0 } word)
        {
            try
            {
                needs.Add(DefinitionFlags.Item("begin.needs", word));
            }
            catch (Failure failure)
            {
                Asking.Tell($"  {failure.Message}");
            }
        }

        if (needs.Count > 0)
            Part("begin")["needs"] = needs;
        return Task.CompletedTask;
    }

    private JsonObject Part(string name) => (JsonObject)definition[name]!;

    private async Task Name(CancellationToken cancellation)
    {
        while (true)
        {
            var name = Asking.Line("What is it called? A title such as 'Fare ledger', or a short name:");
            try
            {
                var taken = await client
                    .Get(SentryClient.PathOf(name), ApiJson.Default.ServiceDetail, cancellation)
                    .ConfigureAwait(false);
                Asking.Tell($"  There is a service '{taken.Title}' ({taken.Name}) already; choose another name.");
            }
            catch (Failure failure) when (failure.ExitCode == Exit.NoSuchThing)
            {
                definition["name"] = name;
                return;
            }
        }
    }

    private async Task Program(CancellationToken cancellation)
    {
        var before = sibling is { } other
            ? CommandLine.Of([
                Value(other, "path"),
                .. other
                    .GetProperty("program")
                    .GetProperty("arguments")
                    .EnumerateArray()
                    .Select(one => one.GetString()!),
            ])
            : null;
        while (true)
        {
            var words = CommandLine.Words(
                Asking.Line("How do you start it by hand? Program and arguments, just as you type them:", before),
                out var open
            );
            if (open is { } quote)
            {
                Asking.Tell($"  A {quote} is open to the end. Close it, or put a \\ before it.");
                continue;
            }

            if (words.Length == 0)
                continue;
            try
            {
                Part("program")["path"] = DefinitionFlags.Find(words[0]);
            }
            catch (Failure failure)
            {
                Asking.Tell($"  {failure.Message} {failure.Next}");
                continue;
            }

            Part("program")["arguments"] = DefinitionFlags.Texts(words[1..]);
            if (
                await Show(["program"], cancellation).ConfigureAwait(false)
                || Asking.YesNo("Go on with it all the same?", otherwise: false)
            )
                return;
        }
    }

    private async Task Interpreter(CancellationToken cancellation)
    {
        var check = await Check(cancellation).ConfigureAwait(false);
        if (
            check.Interpreters is not { Count: > 1 } candidates
            || check.Definition?.GetProperty("program").TryGetProperty("with", out _) != true
        )
            return; // the kernel executes it by itself
        Asking.Tell("This machine has several interpreters for it:");
        var at = candidates.ToList().FindIndex(one => one.Chosen);
        var chosen = Asking.Choice(
            "Which one is right?",
            [.. candidates.Select(one => $"{one.Path}  {one.Version ?? ""}  {one.Why}")],
            Math.Max(0, at)
        );
        if (chosen != at)
            Part("program")["with"] = candidates[chosen].Path;
    }

    private async Task Directory(CancellationToken cancellation)
    {
        while (true)
        {
            var place = Asking.Line("In which directory does it work?", "the program's own");
            if (place != "the program's own")
                Part("program")["directory"] = Path.GetFullPath(place);
            if (await Show(["program.directory"], cancellation).ConfigureAwait(false))
                return;
            Part("program").Remove("directory");
        }
    }

    private async Task Account(CancellationToken cancellation)
    {
        var accounts = await client
            .Get("accounts", ApiJson.Default.IReadOnlyListAccountView, cancellation)
            .ConfigureAwait(false);
        if (accounts.Any(account => account.Permitted))
            Asking.Tell(
                $"  Permitted to run services: "
                    + $"{string.Join(", ", accounts.Where(account => account.Permitted).Select(account => account.Name))}"
            );
        while (true)
        {
            var name = Asking.Line(
                "As which account does it run? One of its own is best; one that is not there can be made:",
                System.Environment.UserName == "root" ? null : System.Environment.UserName
            );
            Part("identity")["account"] = name;
            var check = await Check(cancellation).ConfigureAwait(false);
            if (
                check.Findings.Any(finding => finding.Code == FindingCode.AccountMissing)
                && Spelling.Nearest(name, HostAccounts().Concat(accounts.Select(account => account.Name))) is { } near
                && Asking.YesNo($"There is no account {name}. Did you mean {near}?", otherwise: true)
            )
            {
                Part("identity")["account"] = name = near;
                check = await Check(cancellation).ConfigureAwait(false);
            }

            try
            {
                if (
                    check.Findings.Any(finding => finding.Code == FindingCode.AccountMissing)
                    && Asking.YesNo(
                        $"There is no account {name}. Make it, locked and without a home?",
                        otherwise: false
                    )
                )
                    Asking.Tell(
                        (
                            await client
                                .Send(
                                    HttpMethod.Post,
                                    AccountCommands.PathOf(name),
                                    null,
                                    ApiJson.Default.Answer,
                                    cancellation
                                )
                                .ConfigureAwait(false)
                        ).Said
                    );
                else if (
                    check.Findings.Any(finding => finding.Code == FindingCode.AccountNotPermitted)
                    && Asking.YesNo($"{name} is not permitted to run services yet. Permit it?", otherwise: false)
                )
                    Asking.Tell(
                        (
                            await client
                                .Send(
                                    HttpMethod.Post,
                                    $"{AccountCommands.PathOf(name)}/permit",
                                    null,
                                    ApiJson.Default.Answer,
                                    cancellation
                                )
                                .ConfigureAwait(false)
                        ).Said
                    );
            }
            catch (Failure failure)
            {
                Asking.Tell($"  {failure.Message} {failure.Next}");
            }

            if (
                await Show(["identity", "program.directory", "program.arguments"], cancellation).ConfigureAwait(false)
                || Asking.YesNo("Go on with this account all the same?", otherwise: false)
            )
                return;
        }
    }

    /// <summary>Those in the host's own list (passwd(5)); only to guess at what was meant.</summary>
    private static List<string> HostAccounts()
    {
        try
        {
            return [.. File.ReadLines("/etc/passwd").Select(line => line.Split(':')[0])];
        }
        catch (IOException)
        {
            return [];
        }
    }

    private Task Environment(CancellationToken cancellation)
    {
        var variables = new JsonObject();
        if (sibling is { } other && other.GetProperty("program").TryGetProperty("environment", out var before))
            foreach (var variable in before.EnumerateObject())
                variables[variable.Name] = Asking.Line($"  {variable.Name}:", variable.Value.GetString());
        else
            while (
                Asking.Line("A variable it needs, as NAME=VALUE, or nothing:", needed: false) is { Length: > 0 } pair
            )
            {
                var equals = pair.IndexOf('=', StringComparison.Ordinal);
                if (equals < 1)
                    Asking.Tell("  NAME=VALUE, please.");
                else
                    variables[pair[..equals]] = pair[(equals + 1)..];
            }

        if (variables.Count > 0)
            Part("program")["environment"] = variables;
        return Task.CompletedTask;
    }

    /// <summary>Everything is checked; whoever asks may mend and check again.</summary>
    private async Task Mend(CancellationToken cancellation)
    {
        while (true)
        {
            var check = await Check(cancellation).ConfigureAwait(false);
            foreach (var error in check.Errors.Select(mistake => mistake.Text))
                Asking.Tell($"  {error}");
            FindingText.Write(
                check.Findings.Where(finding => shown.Add(finding.Seen) || finding.Severity == Severity.Blocks),
                Console.Out
            );
            Asking.Tell(check.Said);
            if (check.Clear)
                return;
            if (check.Errors.Count > 0)
                throw new Failure(Exit.Usage, "The definition has mistakes; nothing was registered.");
            switch (
                Asking.Line("Mend it in another terminal, then: [c]heck again, [a]ccept what blocks, [l]eave?", "c")
            )
            {
                case "a":
                    definition["accept"] = DefinitionFlags.Texts(
                        check
                            .Findings.Where(finding => finding.Severity == Severity.Blocks)
                            .Select(finding => Words.Of(finding.Code))
                            .Distinct()
                    );
                    break;
                case "l":
                    throw new Failure(Exit.NotTrue, "Left; nothing was registered.");
            }
        }
    }

    private async Task Rehearse(CancellationToken cancellation)
    {
        var query = like is null ? "" : $"&like={Uri.EscapeDataString(like)}";
        while (true)
        {
            var length = Asking.Line(
                "Rehearse it: it is run just as the service would run it, and nothing is registered. For how "
                    + "long, or no:",
                "10s"
            );
            if (length is "n" or "no")
                return;
            RehearsalReport report;
            try
            {
                report = await RehearseCommand
                    .Play(
                        client,
                        $"rehearsals?length={Uri.EscapeDataString(length)}{query}",
                        Body.Of(definition),
                        quiet: false,
                        cancellation
                    )
                    .ConfigureAwait(false);
            }
            catch (Failure failure)
            {
                Asking.Tell($"  {failure.Message}\n  {failure.Next}");
                continue;
            }

            ReportText.Write(report);
            stayedUp = report.StayedUp;
            if (report.Adoption is { } adoption && Asking.YesNo("Take over what is proposed?", otherwise: true))
                foreach (var part in adoption.EnumerateObject())
                    Lay(definition, part.Name, JsonNode.Parse(part.Value.GetRawText())!);
            if (report.StayedUp || !Asking.YesNo("It did not stay up. Mend it and rehearse again?", otherwise: true))
                return;
        }
    }

    private static void Lay(JsonObject under, string key, JsonNode over)
    {
        if (under[key] is JsonObject below && over is JsonObject above)
            foreach (var (inner, value) in above.ToList())
                Lay(below, inner, value!.DeepClone());
        else
            under[key] = over.DeepClone();
    }

    private async Task<CheckView> Check(CancellationToken cancellation)
    {
        using var content = Body.Of(definition).Content();
        return await client
            .Send(
                HttpMethod.Post,
                like is null ? "check" : $"check?like={Uri.EscapeDataString(like)}",
                content,
                ApiJson.Default.CheckView,
                cancellation
            )
            .ConfigureAwait(false);
    }

    /// <summary>Shows what was found about the latest answer. True when none of it blocks.</summary>
    private async Task<bool> Show(string[] keys, CancellationToken cancellation)
    {
        var check = await Check(cancellation).ConfigureAwait(false);
        var found = check
            .Findings.Where(finding =>
                keys.Any(key => finding.Key == key || finding.Key.StartsWith($"{key}.", StringComparison.Ordinal))
            )
            .ToList();
        FindingText.Write(found, Console.Out);
        shown.UnionWith(found.Select(finding => finding.Seen));
        return found.TrueForAll(finding => finding.Severity != Severity.Blocks || finding.OnlyNow);
    }

    private static string Value(JsonElement definition, string key) =>
        definition.GetProperty("program").GetProperty(key).GetString()!;
}
