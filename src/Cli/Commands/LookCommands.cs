using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;

namespace CalmSentry.Cli.Commands;

/// <summary><c>list</c>, <c>show</c>: everything that only looks.</summary>
internal static class LookCommands
{
    public static Command List()
    {
        var json = Common.Json();
        var labels = new Option<string[]>("--label")
        {
            Description = "Only services with this label; of several, with any of them",
            HelpName = "LABEL",
        };
        var states = new Option<string[]>("--state")
        {
            Description = "Only services in this state; poor: of poor health; attention: who needs a person",
            HelpName = "STATE",
        };
        states.CompletionSources.Add([.. States]);
        var names = new Argument<string[]>("name")
        {
            Description = "Only these, by short name or title; 'till-*' is each whose name begins so",
            Arity = ArgumentArity.ZeroOrMore,
        };
        names.CompletionSources.Add(Common.ServiceNames);
        var usage = new Option<bool>("--usage") { Description = "With the memory and processor that each uses now" };
        var sort = new Option<string?>("--sort")
        {
            Description = "By this column: names and words from the first on, figures from the largest on",
            HelpName = "COLUMN",
        };
        sort.CompletionSources.Add([.. Columns.Select(column => column.Name.ToLowerInvariant())]);
        var command = new Command("list", "All services: what they do now and why; those that need attention first")
        {
            names,
            labels,
            states,
            usage,
            sort,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var by = parsed.GetValue(sort) is { } given ? ColumnNamed(given) : null;
                var uses = parsed.GetValue(usage) || by?.OfUsage == true;
                var (with, within) = (parsed.GetValue(labels) ?? [], parsed.GetValue(states) ?? []);
                var named = parsed.GetValue(names) ?? [];
                var path = uses ? "services?usage=true" : "services";
                if (parsed.GetValue(json) && by is null && (with, within, named) is ([], [], []))
                {
                    await Common.WriteJson(client, path, cancellation).ConfigureAwait(false);
                    return Exit.True;
                }

                var services = await client
                    .Get(path, ApiJson.Default.IReadOnlyListServiceView, cancellation)
                    .ConfigureAwait(false);
                if (named.FirstOrDefault(name => !services.Any(view => Selection.Means(name, view))) is { } nobody)
                    throw await Selection.NotThere(client, nobody, cancellation).ConfigureAwait(false);
                if (within.FirstOrDefault(state => !States.Contains(state)) is { } unknown)
                    throw new Failure(
                        Exit.Usage,
                        $"--state: found '{unknown}'; allowed: {string.Join(" | ", States)}.",
                        Spelling.Nearest(unknown, States) is { } near ? $"--state {near}" : null
                    );
                IEnumerable<ServiceView> shown =
                [
                    .. services.Where(view =>
                        (named.Length == 0 || named.Any(name => Selection.Means(name, view)))
                        && (with.Length == 0 || view.Labels.Any(with.Contains))
                        && (
                            within.Length == 0
                            || within.Contains(Words.Of(view.State))
                            || within.Contains(Words.Of(view.Health))
                            || (within.Contains("attention") && view.Attention is not null)
                        )
                    ),
                ];
                if (by is not null)
                    shown = by.Sort(shown);
                if (parsed.GetValue(json))
                {
                    Common.WriteJson([.. shown], ApiJson.Plain.IReadOnlyListServiceView);
                    return Exit.True;
                }

                if (!shown.Any())
                {
                    Console.WriteLine(
                        services.Count == 0 ? "No services yet. The first one: calm wrap NAME -- PROGRAM [ARGUMENT…]"
                        : within is ["attention"] && named.Length == 0 && with.Length == 0
                            ? "No service needs attention."
                        : $"Of {services.Count} services none is so."
                    );
                    return Exit.True;
                }

                Write(by is null ? shown.OrderBy(Urgency).ThenBy(view => view.Name, NaturalOrder.Names) : shown, uses);
                return Exit.True;
            }
        );
        return command;
    }

    /// <summary>A column of the list, and how it is sorted by it.</summary>
    /// <param name="Text">What stands in it.</param>
    /// <param name="Figure">Of a column of figures: which; null: it is sorted by its text.</param>
    private sealed record Column(string Name, Func<ServiceView, string> Text, Func<ServiceView, double?>? Figure = null)
    {
        /// <summary>Only where that was asked for.</summary>
        public bool OfUsage { get; init; }

        /// <summary>Figures from the largest on, what has none last; among equals by name.</summary>
        public IEnumerable<ServiceView> Sort(IEnumerable<ServiceView> views) =>
            (
                Figure is null
                    ? views.OrderBy(Text, NaturalOrder.Names)
                    : views.OrderByDescending(view => Figure(view) ?? double.NegativeInfinity)
            ).ThenBy(view => view.Name, NaturalOrder.Names);
    }

    private static readonly IReadOnlyList<Column> Columns =
    [
        new("SERVICE", view => view.Name),
        new("TITLE", view => HasOwnTitle(view) ? view.Title : ""),
        new("STATE", view => view.Health == HealthLevel.Poor ? $"{Words.Of(view.State)}, poor" : Words.Of(view.State)),
        new(
            "UP",
            view => view.UpSince is { } up ? Lengths.Of(DateTimeOffset.UtcNow - up) : "-",
            view => view.UpSince is { } up ? -up.ToUnixTimeMilliseconds() : null
        ),
        new("PID", view => Text(view.Pid), view => view.Pid),
        new(
            "MEMORY",
            view => view.Usage is { } usage ? Size.About(usage.MemoryBytes) : "-",
            view => view.Usage?.MemoryBytes
        )
        {
            OfUsage = true,
        },
        new(
            "CPU",
            view =>
                view.Usage?.CpuPercent is { } percent
                    ? string.Create(CultureInfo.InvariantCulture, $"{percent:0} %")
                    : "-",
            view => view.Usage?.CpuPercent
        )
        {
            OfUsage = true,
        },
        new("RUN", view => Text(view.Run), view => view.Run),
        new("RESTARTS", view => Text(view.Restarts), view => view.Restarts),
        new("STARTS", view => view.At),
        new("WHY", view => view.Why),
    ];

    /// <exception cref="Failure">There is none of that name.</exception>
    private static Column ColumnNamed(string name)
    {
        var names = Columns.Select(column => column.Name.ToLowerInvariant()).ToArray();
        return Columns.FirstOrDefault(column => column.Name.Equals(name, StringComparison.OrdinalIgnoreCase))
            ?? throw new Failure(
                Exit.Usage,
                $"--sort: found '{name}'; allowed: {string.Join(" | ", names)}.",
                Spelling.Nearest(name, names) is { } near ? $"--sort {near}" : null
            );
    }

    private static void Write(IEnumerable<ServiceView> shown, bool uses)
    {
        var ordered = shown.ToList();
        var titled = ordered.Exists(HasOwnTitle);
        List<Column> columns =
        [
            .. Columns.Where(column => (uses || !column.OfUsage) && (titled || column.Name != "TITLE")),
        ];
        Table.Write(
            [.. columns.Select(column => column.Name)],
            [.. ordered.Select(view => columns.Select(column => column.Text(view)).ToArray())],
            row => Urgency(ordered[row]) == 0
        );
    }

    /// <summary>Its title says more than its name does.</summary>
    private static bool HasOwnTitle(ServiceView view) => ServiceName.From(view.Title) != view.Name;

    private static readonly string[] States = [.. Words.All<ServiceState>(), Words.Of(HealthLevel.Poor), "attention"];

    /// <summary>0: asks for a person. 1: on its way. 2: quiet.</summary>
    private static int Urgency(ServiceView view) =>
        view switch
        {
            { Attention: not null } => 0,
            { State: ServiceState.Waiting or ServiceState.Starting or ServiceState.Stopping } => 1,
            _ => 2,
        };

    public static Command Show()
    {
        var json = Common.Json();
        var yaml = new Option<bool>("--yaml")
        {
            Description = "Its definition as a file, to be kept or brought in again with wrap --from or adjust --from",
        };
        var command = new Command(
            "show",
            "Services: their state, every effective value of their definitions, their latest runs"
        );
        var selection = new Selection(command);
        command.Add(yaml);
        command.Add(json);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var services = await selection.Of(client, parsed, cancellation).ConfigureAwait(false);
                if (services.Count == 0)
                    Console.WriteLine($"There is none of {selection.InWords(parsed)}.");
                for (var i = 0; i < services.Count; i++)
                {
                    var path = SentryClient.PathOf(services[i]);
                    if (parsed.GetValue(yaml))
                    {
                        if (services.Count > 1)
                            Console.WriteLine("---");
                        using var file = await client.Stream($"{path}/definition", cancellation).ConfigureAwait(false);
                        Console.Write(await file.Content.ReadAsStringAsync(cancellation).ConfigureAwait(false));
                        continue;
                    }

                    var service = await client
                        .Get(path, ApiJson.Default.ServiceDetail, cancellation)
                        .ConfigureAwait(false);
                    if (parsed.GetValue(json))
                    {
                        Common.WriteJson(service, ApiJson.Plain.ServiceDetail);
                        continue;
                    }

                    if (i > 0)
                        Console.WriteLine();
                    Write(service);
                }

                return Exit.True;
            }
        );
        return command;
    }

    private static void Write(ServiceDetail service)
    {
        Console.WriteLine($"{service.Title} ({service.Name} on {service.Host})");
        Console.WriteLine(service.Why);
        Console.WriteLine();
        WriteHealth(service);
        Row(
            "clean stop",
            $"waits {Lengths.Of(TimeSpan.FromMilliseconds(service.WindDownMs))} in "
                + $"all{(service.UsualStopMs is { } took ? $"; its stops usually take {Lengths.Exactly(took)}" : "")}"
        );
        if (service.Pid is { } pid)
            Row(
                "pid",
                $"{pid}, run {service.Run}, up "
                    + $"{Lengths.Of(DateTimeOffset.UtcNow - (service.UpSince ?? service.Since))}, "
                    + $"{service.Restarts} restarts"
            );
        Row(
            "starts",
            service.At switch
            {
                "boot" => "boot, before anyone logs in",
                "boot-late" => "boot, after everything that starts at boot",
                "never" => "never: every start is refused",
                _ => "request: only when asked",
            }
        );
        foreach (var wait in service.Awaits ?? [])
            Row(
                "waits for",
                $"{wait.For}{(wait.Missing is null ? "" : $" ({wait.Missing})")}, since {Lengths.At(wait.Since)}"
                    + (wait.Until is { } until ? $", until {Lengths.At(until)}: then {wait.Follows}" : "")
            );
        Row(
            "proof",
            service.Proof is { Seen: { } seen } proof
                ? $"{seen}, {Lengths.Exactly(proof.TookMs ?? 0)} after its launch"
                    + (proof.UsualMs is { } usual ? $" (usually {Lengths.Exactly(usual)})" : "")
                : $"none yet: it serves once {service.Proof.Awaited}"
        );
        if (service.Said is { } said)
            Row("says", said);
        if (service.Needs.Count > 0)
            Row("needs", string.Join("; ", service.Needs));
        if (service.NeededBy.Count > 0)
            Row("needed by", string.Join(", ", service.NeededBy));
        if (service.RunningCommand is { } running)
            Row("runs now", CommandLine.Folded(running));
        Row(service.RunningCommand is null ? "command" : "next start", CommandLine.Folded(service.Command));
        Row("directory", service.Directory + (service.Given.Contains("program.directory") ? "" : "  (default)"));
        Row("output", service.Output);
        WriteWhereSeen(service);
        Row("state dir", service.StateDirectory);
        Row("revision", Text(service.Revision));
        WriteDefinition(service);
        if (service.Runs.Count == 0)
            return;
        Console.WriteLine("\nLatest runs:");
        WhyCommands.Write(service.Runs);
    }

    private static void WriteHealth(ServiceDetail service)
    {
        Row("state", $"{Words.Of(service.State)} since {Lengths.At(service.Since)}");
        Row(
            "health",
            $"{Words.Of(service.Health)}{(service.HealthSince is { } well ? $" since {Lengths.At(well)}" : "")}: "
                + $"{service.HealthWhy}"
        );
        if (service.Attention is { } asks)
            Row("attention", asks);
        if (service.WatchesPausedUntil is { } paused)
            Row("watches", $"paused until {Lengths.At(paused)}: nothing is done about what they find");
        foreach (var watch in service.Watches)
            Row(
                "watch",
                $"{watch.What}: {Words.Of(watch.Health)}{(watch.Seen is { } sight ? $", {sight}" : "")}"
                    + $"{(watch.Bad > 0 ? $" ({watch.Bad} of {watch.Patience} bad looks)" : "")}; "
                    + $"if not: {watch.Follows}{(watch.Implied ? "  (default)" : "")}"
            );
    }

    /// <summary>Where what it does can be seen: its output, log files of its own, its terminal.</summary>
    private static void WriteWhereSeen(ServiceDetail service)
    {
        var program = service.Definition.GetProperty("program");
        if (program.GetProperty("kind").GetString() == Words.Of(ProgramKind.Toggles))
        {
            Row("seen in", "nothing: none of it runs between its two commands");
            return;
        }

        Row("seen in", $"its output: calm output {service.Name}");
        if (
            service.Definition.TryGetProperty("output", out var output) && output.TryGetProperty("files", out var files)
        )
            foreach (var file in files.EnumerateObject())
                Row("", $"its log file {file.Value}: calm output {service.Name} --file {file.Name}");
        if (
            program.TryGetProperty("terminal", out var terminal)
            && terminal.ToString().Contains('x', StringComparison.Ordinal)
        )
            Row("", $"its terminal, {terminal}: calm terminal {service.Name}");
        if (program.TryGetProperty("window", out var window))
            Row("", $"its window, {window}: calm window {service.Name} --to FILE.png");
    }

    private static void WriteDefinition(ServiceDetail service)
    {
        Console.WriteLine("\nDefinition, in effect:");
        var values = Flat(service.Definition, "").ToList();
        var width = values.Max(value => value.Key.Length) + 1;
        foreach (var (key, value) in values)
            Row(
                key,
                value
                    + (
                        service.Given.Any(given =>
                            key == given
                            || key.StartsWith(given + "[", StringComparison.Ordinal)
                            || key.StartsWith(given + ".", StringComparison.Ordinal)
                                && given.StartsWith("program.", StringComparison.Ordinal)
                        )
                            ? (
                                service.CameFrom?.GetValueOrDefault(key)
                                ?? service.CameFrom?.GetValueOrDefault($"{key}[0]")
                            )
                                is { } from
                                ? $"  ({from})"
                                : ""
                            : "  (default)"
                    ),
                width
            );
        if (service.InForce.Count > 0)
        {
            Console.WriteLine("\nIn force now, by the kernel's word:");
            foreach (var value in service.InForce)
                Row(value.Key, value.Kernel + (value.Same ? "" : $"  (set: {value.Set})"), width);
        }

        if (service.Secrets.Count > 0)
            Console.WriteLine("\nSecrets:");
        foreach (var secret in service.Secrets)
            Row(
                secret.Key,
                (secret.HasValue ? "sealed" : "no value yet")
                    + (secret.Used ? "" : ", not asked for by the definition"),
                width
            );
    }

    private static IEnumerable<(string Key, string Value)> Flat(JsonElement element, string key)
    {
        switch (element.ValueKind)
        {
            case JsonValueKind.Object:
                foreach (var property in element.EnumerateObject())
                foreach (var row in Flat(property.Value, key.Length == 0 ? property.Name : $"{key}.{property.Name}"))
                    yield return row;
                break;
            case JsonValueKind.Array when element.EnumerateArray().All(item => item.ValueKind == JsonValueKind.String):
                if (element.GetArrayLength() > 0)
                    yield return (
                        key,
                        CommandLine.Folded([.. element.EnumerateArray().Select(item => item.GetString()!)])
                    );
                break;
            case JsonValueKind.Array:
                var i = 0;
                foreach (var item in element.EnumerateArray())
                foreach (var row in Flat(item, $"{key}[{i++}]"))
                    yield return row;
                break;
            default:
                yield return (
                    key,
                    Masked(key, element.ToString())
                        .Replace("\n", "\\n", StringComparison.Ordinal)
                        .Replace("\t", "\\t", StringComparison.Ordinal)
                ); // a value a line
                break;
        }
    }

    private static string Masked(string key, string value) =>
        key.StartsWith(Variables, StringComparison.Ordinal)
            ? SecretLooks.MaskedVariable(key[Variables.Length..], value)
            : value;

    private const string Variables = "program.environment.";

    private static void Row(string key, string value, int width = 12) =>
        Console.WriteLine($"  {key.PadRight(width)} {value}");

    private static string Text(long? number) => number?.ToString(CultureInfo.InvariantCulture) ?? "-";
}
