using System.CommandLine;
using System.Globalization;
using System.Text;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm logbook</c>: what fits, as a table or as data, live, and the proof that it is as it was written.</summary>
internal static class LogbookCommand
{
    private const int Most = 100_000;

    private static readonly Argument<string?> Name = new("name")
    {
        Description = "Only of this service, also of one that is no more",
        Arity = ArgumentArity.ZeroOrOne,
    };

    private static readonly Option<int?> Last = new("--last")
    {
        Description = "How many entries; 30 unless --since or --until is given",
    };

    private static readonly Option<string?> Since = Common.Since();

    private static readonly Option<string?> Until = Common.Until();

    private static readonly Option<string[]> Kind = new("--kind")
    {
        Description = "Of this kind, such as fell or stop-asked; of several, of any of them",
        HelpName = "KIND",
    };

    private static readonly Option<string?> Severity = new("--severity")
    {
        Description = "As bad as this, or worse: alert, critical, error, warning, notice, informational",
        HelpName = "SEVERITY",
    };

    private static readonly Option<string?> By = new("--by")
    {
        Description = "Asked for by this account",
        HelpName = "ACCOUNT",
    };

    private static readonly Option<string?> Find = new("--find")
    {
        Description = "With this text in it",
        HelpName = "TEXT",
    };

    private static readonly Option<bool> Follow = new("--follow")
    {
        Description = "Go on with what comes, until Ctrl-C",
    };

    private static readonly Option<bool> Csv = new("--csv")
    {
        Description = "Comma-separated values with a header line (RFC 4180)",
    };

    private static readonly Option<bool> Lines = new("--json-lines") { Description = "A JSON object a line" };

    private static readonly Option<bool> Prove = new("--prove")
    {
        Description = "Follow the chain of hashes from the first entry to the last: is it as it was written?",
    };

    private static readonly Option<string?> Head = new("--head")
    {
        Description = "With --prove: a hash that an earlier proof ended with, kept elsewhere",
        HelpName = "HASH",
    };

    private static readonly Option<bool> Json = Common.Json();

    public static Command Make()
    {
        var command = new Command("logbook", "What the sentry saw and did, and who asked") { Name };
        foreach (
            var option in (Option[])
                [Last, Since, Until, Kind, Severity, By, Find, Follow, Csv, Lines, Json, Prove, Head]
        )
            command.Add(option);
        command.SetAction(Run);
        return command;
    }

    private static async Task<int> Run(ParseResult parsed, CancellationToken cancellation)
    {
        var forms = new[] { Csv, Lines, Json }.Where(form => parsed.GetValue(form)).ToList();
        if (forms.Count > 1)
            throw new Failure(Exit.Usage, $"Either {forms[0].Name} or {forms[1].Name}; nothing was read.");
        if (parsed.GetValue(Head) is not null && !parsed.GetValue(Prove))
            throw new Failure(Exit.Usage, "--head goes with --prove.");
        using var client = Common.Client(parsed);
        if (parsed.GetValue(Prove))
            return await Proof(client, parsed, cancellation).ConfigureAwait(false);
        if (parsed.GetValue(Follow) && forms is [var other] && other != Lines)
            throw new Failure(
                Exit.Usage,
                $"--follow does not go with {other.Name}, which has an end; --json-lines has none."
            );
        if (forms is [var asText] && asText != Json && !parsed.GetValue(Follow))
        {
            using var response = await client
                .Stream($"{Query(parsed)}&form={(asText == Csv ? "csv" : "json-lines")}", cancellation)
                .ConfigureAwait(false);
            Terminal.Raw(await response.Content.ReadAsByteArrayAsync(cancellation).ConfigureAwait(false));
            return Exit.True;
        }

        var entries = await Get(client, Query(parsed), cancellation).ConfigureAwait(false);
        if (parsed.GetValue(Json))
            Common.WriteJson(entries, ApiJson.Plain.IReadOnlyListLogEntry);
        else if (parsed.GetValue(Follow))
            await Go(client, parsed, entries, cancellation).ConfigureAwait(false);
        else if (entries.Count == 0)
        {
            // One that was unwrapped may be asked for; one that never was is a mistake in its name.
            if (parsed.GetValue(Name) is { } name)
                _ = await client
                    .Get(SentryClient.PathOf(name), ApiJson.Default.ServiceDetail, cancellation)
                    .ConfigureAwait(false);
            Console.WriteLine(IsNarrowed(parsed) ? "Nothing in the logbook fits." : "Nothing in the logbook.");
        }
        else
            Write(entries);
        return Exit.True;
    }

    private static bool IsNarrowed(ParseResult parsed) =>
        parsed.GetValue(Name) is not null
        || parsed.GetValue(Since) is not null
        || parsed.GetValue(Until) is not null
        || parsed.GetValue(By) is not null
        || parsed.GetValue(Severity) is not null
        || parsed.GetValue(Find) is not null
        || parsed.GetValue(Kind) is { Length: > 0 };

    private static Task<IReadOnlyList<LogEntry>> Get(
        SentryClient client,
        string path,
        CancellationToken cancellation
    ) => client.Get(path, ApiJson.Default.IReadOnlyListLogEntry, cancellation);

    private static string Query(ParseResult parsed)
    {
        var all = parsed.GetValue(Since) is not null || parsed.GetValue(Until) is not null ? Most : 30;
        var query = new StringBuilder(
            string.Create(CultureInfo.InvariantCulture, $"logbook?last={parsed.GetValue(Last) ?? all}")
        );
        foreach (
            var (key, value) in ((string, string?)[])
                [
                    ("service", parsed.GetValue(Name)),
                    ("since", parsed.GetValue(Since)),
                    ("until", parsed.GetValue(Until)),
                    ("severity", parsed.GetValue(Severity)),
                    ("by", parsed.GetValue(By)),
                    ("find", parsed.GetValue(Find)),
                    ("kind", parsed.GetValue(Kind) is { Length: > 0 } kinds ? string.Join(',', kinds) : null),
                ]
        )
            if (value is not null)
                query.Append('&').Append(key).Append('=').Append(Uri.EscapeDataString(value));
        return query.ToString();
    }

    private static void Write(IReadOnlyList<LogEntry> entries) =>
        Table.Write(
            ["WHEN", "SERVICE", "BY", "WHAT"],
            [
                .. entries.Select(entry =>
                    new[] { Lengths.At(entry.At), entry.Service ?? "(sentry)", Who(entry) ?? "-", entry.Text }
                ),
            ],
            row => entries[row].Tells
        );

    /// <summary>Who asked, and where that one sat.</summary>
    private static string? Who(LogEntry entry) => entry is { By: { } by, From: { } from } ? $"{by}, {from}" : entry.By;

    /// <summary>Whenever there is something new, what fits of it is asked for: nothing is judged twice.</summary>
    private static async Task Go(
        SentryClient client,
        ParseResult parsed,
        IReadOnlyList<LogEntry> entries,
        CancellationToken cancellation
    )
    {
        using var read = Terminal.WhileRead(cancellation);
        var last = 0L;
        Show();
        try
        {
            await client
                .Listen(
                    async kind =>
                    {
                        // Also at the first event: what came between the first answer and the stream is there by then.
                        if (kind is not ("logged" or "services"))
                            return;
                        entries = await Get(
                                client,
                                string.Create(CultureInfo.InvariantCulture, $"{Query(parsed)}&after={last}"),
                                read.Token
                            )
                            .ConfigureAwait(false);
                        Show();
                    },
                    read.Token
                )
                .ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            // Whoever read it has seen enough.
        }

        void Show()
        {
            foreach (var entry in entries)
            {
                last = Math.Max(last, entry.Id);
                Console.WriteLine(
                    parsed.GetValue(Lines)
                        ? System.Text.Json.JsonSerializer.Serialize(entry, ApiJson.Plain.LogEntry)
                        : $"{Lengths.At(entry.At)}  {entry.Service ?? "(sentry)"}  {(Who(entry) is { } by ? $"({by}) " : "")}{entry.Text.ReplaceLineEndings(" ")}"
                );
            }
        }
    }

    private static async Task<int> Proof(SentryClient client, ParseResult parsed, CancellationToken cancellation)
    {
        var head = parsed.GetValue(Head) is { } hash ? $"?head={Uri.EscapeDataString(hash)}" : "";
        var proof = await client
            .Get($"logbook/proof{head}", ApiJson.Default.LogProofView, cancellation)
            .ConfigureAwait(false);
        if (parsed.GetValue(Json))
        {
            Common.WriteJson(proof, ApiJson.Plain.LogProofView);
            return proof.Holds ? Exit.True : Exit.NotTrue;
        }

        var emptied = proof.Emptied == 0 ? "" : $" Of {Number(proof.Emptied)} more only the digest is kept.";
        if (!proof.Holds)
            throw new Failure(
                Exit.NotTrue,
                $"The logbook is not as it was written: {proof.Why}.",
                proof.BrokenAt is null
                    ? "A copy of it that was forwarded or kept elsewhere tells what it said."
                    : "What is before that entry holds; a copy that was forwarded or kept elsewhere tells what the rest said."
            );
        Console.WriteLine(
            $"The logbook is as it was written: {Number(proof.Entries)} entries, each follows from the one before it, up to number {proof.Last}.{emptied}"
        );
        Console.WriteLine($"  its hash   {proof.Head}");
        Console.WriteLine(
            "  Kept elsewhere, it shows later whether its end was cut off or all was written anew: calm logbook --prove --head HASH"
        );
        return Exit.True;
    }

    private static string Number(long count) => count.ToString("N0", CultureInfo.InvariantCulture);
}
