using System.CommandLine;
using System.Globalization;
using System.Text;
using System.Text.Json;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm output</c>: what services printed, also in files that were turned over; what is looked for in it; live.</summary>
internal sealed class OutputCommand
{
    private const int Usual = 20;

    private readonly Command command = new("output", "What services printed; control codes are shown as text");
    private readonly Selection services;

    private readonly Option<int?> last = new("--last")
    {
        Description = $"How many lines, the latest; {Usual} unless something is looked for",
        HelpName = "LINES",
    };

    private readonly Option<bool> follow = new("--follow") { Description = "Go on with what comes, until Ctrl-C" };

    private readonly Option<string?> since = Common.Since();

    private readonly Option<string?> until = Common.Until();

    private readonly Option<long?> run = new("--run")
    {
        Description = "Only what this run printed; 'calm runs NAME' has the numbers",
        HelpName = "RUN",
    };

    private readonly Option<string?> file = new("--file")
    {
        Description = "Of this log file of its own, as output.files names it, instead of what it printed",
        HelpName = "FILE",
    };

    private readonly Option<bool> errors = new("--errors") { Description = "Only standard error" };

    private readonly Option<string?> find = new("--find") { Description = "With this text", HelpName = "TEXT" };

    private readonly Option<string?> match = new("--match")
    {
        Description = "That this regular expression matches; (?i) in front for any case",
        HelpName = "REGEX",
    };

    private readonly Option<int> around = new("--around")
    {
        Description = "With --find, --match or --errors: so many lines before and after each",
        HelpName = "LINES",
    };

    private readonly Option<bool> times = new("--times") { Description = "When each line came, and what is an error" };

    private readonly Option<bool> raw = new("--raw")
    {
        Description = "Byte for byte, control codes too: for a file or a pipe, as a terminal obeys them",
    };

    private readonly Option<bool> json = new("--json")
    {
        Description = "A list of JSON objects; with --follow an object a line",
    };

    private OutputCommand() => services = new(command, mayBeAll: true);

    public static Command Make()
    {
        var made = new OutputCommand();
        foreach (
            var option in (Option[])
                [
                    made.last,
                    made.follow,
                    made.since,
                    made.until,
                    made.run,
                    made.file,
                    made.errors,
                    made.find,
                    made.match,
                    made.around,
                    made.times,
                    made.raw,
                    made.json,
                ]
        )
            made.command.Add(option);
        made.command.SetAction(made.Run);
        return made.command;
    }

    private async Task<int> Run(ParseResult parsed, CancellationToken cancellation)
    {
        if (parsed.GetValue(follow) && parsed.GetValue(until) is not null)
            throw new Failure(Exit.Usage, "--follow does not go with --until: it has no end. Nothing was read.");
        if (parsed.GetValue(around) > 0 && !LooksFor(parsed))
            throw new Failure(Exit.Usage, "--around goes with --find, --match or --errors. Nothing was read.");
        using var client = Common.Client(parsed);
        var names = await services.Of(client, parsed, cancellation).ConfigureAwait(false);
        if (names.Count == 0)
            throw new Failure(
                Exit.NoSuchThing,
                $"There is no service to read from: none of {services.InWords(parsed)}."
            );
        using var read = Terminal.WhileRead(cancellation);
        try
        {
            if (parsed.GetValue(raw))
                return await Raw(client, names, parsed, read.Token).ConfigureAwait(false);
            return await Lines(client, names, parsed, read.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            return Exit.True;
        }
        catch (HttpIOException)
        {
            throw SentryClient.WentAway("the program goes on and its output is kept");
        }
    }

    private bool LooksFor(ParseResult parsed) =>
        parsed.GetValue(errors) || parsed.GetValue(find) is not null || parsed.GetValue(match) is not null;

    private async Task<int> Raw(
        SentryClient client,
        IReadOnlyList<string> names,
        ParseResult parsed,
        CancellationToken cancellation
    )
    {
        if (
            names.Count > 1
            || LooksFor(parsed)
            || parsed.GetValue(since) is not null
            || parsed.GetValue(until) is not null
            || parsed.GetValue(run) is not null
            || parsed.GetValue(times)
            || parsed.GetValue(json)
        )
            throw new Failure(
                Exit.Usage,
                "--raw goes with one service, --last and --follow alone: it passes bytes on and knows no lines. Nothing was read."
            );
        using var response = await client
            .Stream(
                $"{SentryClient.PathOf(names[0])}/output?last={parsed.GetValue(last) ?? Usual}"
                    + (parsed.GetValue(file) is { } own ? $"&file={Uri.EscapeDataString(own)}" : "")
                    + (parsed.GetValue(follow) ? "&follow=true" : ""),
                cancellation
            )
            .ConfigureAwait(false);
        var from = await response.Content.ReadAsStreamAsync(cancellation).ConfigureAwait(false);
        await using (from.ConfigureAwait(false))
        {
            var bytes = new byte[65536];
            int got;
            while (Terminal.Lost is null && (got = await from.ReadAsync(bytes, cancellation).ConfigureAwait(false)) > 0)
                Terminal.Raw(bytes.AsSpan(0, got));
        }

        return Exit.True;
    }

    private string Query(ParseResult parsed, string name)
    {
        var all = parsed.GetValue(since) ?? parsed.GetValue(until) ?? (parsed.GetValue(run) is null ? null : "");
        var query = new StringBuilder($"{SentryClient.PathOf(name)}/output/lines?");
        foreach (
            var (key, value) in ((string, string?)[])
                [
                    ("last", Text(parsed.GetValue(last) ?? (LooksFor(parsed) || all is not null ? null : Usual))),
                    ("since", parsed.GetValue(since)),
                    ("until", parsed.GetValue(until)),
                    ("file", parsed.GetValue(file)),
                    ("run", Text(parsed.GetValue(run))),
                    ("errors", parsed.GetValue(errors) ? "true" : null),
                    ("find", parsed.GetValue(find)),
                    ("match", parsed.GetValue(match)),
                    ("around", parsed.GetValue(around) is > 0 and var lines ? Text(lines) : null),
                    ("follow", parsed.GetValue(follow) ? "true" : null),
                ]
        )
            if (value is not null)
                query.Append(key).Append('=').Append(Uri.EscapeDataString(value)).Append('&');
        return query.ToString().TrimEnd('&', '?');

        static string? Text(long? number) => number?.ToString(CultureInfo.InvariantCulture);
    }

    private async Task<int> Lines(
        SentryClient client,
        IReadOnlyList<string> names,
        ParseResult parsed,
        CancellationToken cancellation
    )
    {
        var form = new Form(names)
        {
            AsJson = parsed.GetValue(json),
            IsList = !parsed.GetValue(follow),
            Times = parsed.GetValue(times),
            Parted = parsed.GetValue(around) > 0,
        };
        if (parsed.GetValue(follow))
            await Follow(client, names, parsed, form, cancellation).ConfigureAwait(false);
        else
            await Merge(client, names, parsed, form, cancellation).ConfigureAwait(false);
        if (parsed.GetValue(follow))
            return Exit.True;
        if (parsed.GetValue(json))
            Console.WriteLine(form.Shown == 0 ? "[]" : "]");
        if (form.Shown > 0)
            return Exit.True;
        var looks = LooksFor(parsed) || parsed.GetValue(since) is not null || parsed.GetValue(until) is not null;
        if (!parsed.GetValue(json))
            Console.Error.WriteLine(looks ? "No line of its output fits." : "Nothing was printed.");
        return looks ? Exit.NotTrue : Exit.True;
    }

    /// <summary>What there is of all of them, by the time at which each line came.</summary>
    private async Task Merge(
        SentryClient client,
        IReadOnlyList<string> names,
        ParseResult parsed,
        Form form,
        CancellationToken cancellation
    )
    {
        var readers = new List<LineReader>();
        try
        {
            foreach (var name in names)
                readers.Add(
                    await LineReader.Open(client, Query(parsed, name), name, cancellation).ConfigureAwait(false)
                );
            var next = new PriorityQueue<LineReader, (DateTimeOffset, int)>();
            for (var i = 0; i < readers.Count; i++)
                if (await readers[i].Step(cancellation).ConfigureAwait(false))
                    next.Enqueue(readers[i], (readers[i].Latest, i));
            while (Terminal.Lost is null && next.TryDequeue(out var reader, out var turn))
            {
                form.Write(reader.Name, reader.Line!);
                if (await reader.Step(cancellation).ConfigureAwait(false))
                    next.Enqueue(reader, (reader.Latest, turn.Item2));
            }
        }
        finally
        {
            readers.ForEach(reader => reader.Dispose());
        }
    }

    /// <summary>What comes of all of them, as it comes.</summary>
    private async Task Follow(
        SentryClient client,
        IReadOnlyList<string> names,
        ParseResult parsed,
        Form form,
        CancellationToken cancellation
    )
    {
        using var turn = new SemaphoreSlim(1);
        using var over = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var all = names.Select(One).ToList();
        try
        {
            await (await Task.WhenAny(all).ConfigureAwait(false)).ConfigureAwait(false);
        }
        finally
        {
            await over.CancelAsync().ConfigureAwait(false);
            await Task.WhenAll(all).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }

        async Task One(string name)
        {
            using var reader = await LineReader
                .Open(client, Query(parsed, name), name, over.Token)
                .ConfigureAwait(false);
            while (Terminal.Lost is null && await reader.Step(over.Token).ConfigureAwait(false))
            {
                await turn.WaitAsync(over.Token).ConfigureAwait(false);
                form.Write(name, reader.Line!);
                turn.Release();
            }
        }
    }

    /// <summary>How lines are shown.</summary>
    private sealed class Form(IReadOnlyList<string> names)
    {
        public required bool AsJson { get; init; }

        /// <summary>It has an end: JSON is one list.</summary>
        public required bool IsList { get; init; }

        public required bool Times { get; init; }

        /// <summary>It shows where lines were left out.</summary>
        public required bool Parted { get; init; }

        private readonly int width = names.Max(name => name.Length);

        public int Shown { get; private set; }

        public void Write(string name, OutputLineView line)
        {
            if (AsJson)
            {
                var before =
                    !IsList ? ""
                    : Shown == 0 ? "[\n "
                    : " ,";
                Console.WriteLine(before + JsonSerializer.Serialize(line, ApiJson.Plain.OutputLineView));
                Shown++;
                return;
            }

            Shown++;

            if (line.Apart && Parted)
                Console.WriteLine("…");
            var front = names.Count > 1 ? $"{name.PadRight(width)}  " : "";
            if (Times || names.Count > 1)
                front = $"{(line.At is { } at ? Lengths.Moment(at) : "(no time)")}  {front}";
            if (Times && line.Stream is "error")
                front += "(error) ";
            var cut = line.Cut > 0 ? $" … and {line.Cut} bytes more" : "";
            Console.WriteLine($"{front}{line.Text}{cut}");
        }
    }

    /// <summary>Lines of one service as they come over the wire.</summary>
    private sealed class LineReader : IDisposable
    {
        private readonly HttpResponseMessage response;
        private readonly StreamReader from;

        private LineReader(string name, HttpResponseMessage response, StreamReader from) =>
            (Name, this.response, this.from) = (name, response, from);

        public string Name { get; }

        public OutputLineView? Line { get; private set; }

        /// <summary>When the latest line came: one without a time stands where it stood.</summary>
        public DateTimeOffset Latest { get; private set; }

        public static async Task<LineReader> Open(
            SentryClient client,
            string path,
            string name,
            CancellationToken cancellation
        )
        {
            var response = await client.Stream(path, cancellation).ConfigureAwait(false);
            return new(
                name,
                response,
                new(await response.Content.ReadAsStreamAsync(cancellation).ConfigureAwait(false), Encoding.UTF8)
            );
        }

        public async Task<bool> Step(CancellationToken cancellation)
        {
            if (await from.ReadLineAsync(cancellation).ConfigureAwait(false) is not { } text)
                return false;
            Line = JsonSerializer.Deserialize(text, ApiJson.Default.OutputLineView)!;
            if (Line.At is { } at && at > Latest)
                Latest = at;
            return true;
        }

        public void Dispose()
        {
            from.Dispose();
            response.Dispose();
        }
    }
}
