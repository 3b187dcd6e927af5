using System.CommandLine;
using System.Globalization;
using System.Text;
using System.Text.Json;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Text;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm swap NAME</c>: which versions of its files there are, and another one in their place.</summary>
internal static class SwapCommand
{
    /// <summary>Files of each kind that are named.</summary>
    private const int MostNamed = 8;

    public static Command Make()
    {
        var (name, wait, dry, json) = (Common.Name(), Common.Wait(), Common.Dry(), Common.Json());
        var from = new Option<string?>("--from")
        {
            Description =
                "The new files: a directory, an archive (tar, tar.gz, zip), or one file of the name that the program is given",
            HelpName = "PATH",
        };
        var over = new Option<bool>("--over") { Description = "Files that the new ones do not replace stay" };
        var back = new Option<long?>("--back")
        {
            Description = "Bring an earlier version back: the one before, or this one",
            HelpName = "VERSION",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var watch = new Option<string?>("--watch-for")
        {
            Description = "So long it must stay well with them; by default as its definition says",
            HelpName = "LENGTH",
        };
        var accept = new Option<string[]>("--accept")
        {
            Description = "Overrule a finding by its code; may be given several times",
            HelpName = "CODE",
        };
        var with = new Option<bool>("--with-dependents")
        {
            Description = "Services that need it are stopped and started with it",
        };
        var alone = new Option<bool>("--alone") { Description = "Services that need it are left as they are" };
        var command = new Command(
            "swap",
            "Put new program files in: looked at first, and the old ones come back if it does not stay well"
        )
        {
            name,
            from,
            over,
            back,
            watch,
            accept,
            with,
            alone,
            wait,
            dry,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var path = SentryClient.PathOf(parsed.GetValue(name)!);
                var (source, wantsBack, asJson) = (
                    parsed.GetValue(from),
                    parsed.GetResult(back) is not null,
                    parsed.GetValue(json)
                );
                if (source is not null && wantsBack)
                    throw new Failure(
                        Exit.Usage,
                        "--from and --back are two different things; nothing was done.",
                        "Give one of them."
                    );
                if (source is null && !wantsBack)
                    return await Versions(client, parsed.GetValue(name)!, asJson, cancellation).ConfigureAwait(false);
                var order = new SwapOrder
                {
                    From = source is null ? null : Path.GetFullPath(source),
                    Over = parsed.GetValue(over),
                    Back = wantsBack ? parsed.GetValue(back) ?? 0 : null,
                    Accept = parsed.GetValue(accept),
                    Dependents = Dependents(parsed.GetValue(with), parsed.GetValue(alone)),
                    WatchMs = Milliseconds(parsed.GetValue(watch)),
                };
                return await Play(
                        client,
                        $"{path}/swap?wait={(parsed.GetValue(wait) ? "true" : "false")}{(parsed.GetValue(dry) ? "&dry=true" : "")}",
                        order,
                        asJson,
                        cancellation
                    )
                    .ConfigureAwait(false);
            }
        );
        return command;
    }

    private static string? Dependents(bool with, bool alone) =>
        with ? "stop"
        : alone ? "leave"
        : null;

    private static async Task<int> Versions(
        SentryClient client,
        string name,
        bool asJson,
        CancellationToken cancellation
    )
    {
        var versions = await client
            .Get($"{SentryClient.PathOf(name)}/versions", ApiJson.Default.VersionsView, cancellation)
            .ConfigureAwait(false);
        if (asJson)
            Common.WriteJson(versions, ApiJson.Plain.VersionsView);
        else
            Write(name, versions);
        return Exit.True;
    }

    private static long? Milliseconds(string? text) =>
        text is null ? null
        : Duration.TryRead(text, out var length) ? (long)length.TotalMilliseconds
        : throw new Failure(Exit.Usage, $"--watch-for is '{text}'; allowed: {Duration.Allowed}.", null);

    private static async Task<int> Play(
        SentryClient client,
        string path,
        SwapOrder order,
        bool json,
        CancellationToken cancellation
    )
    {
        using var content = new StringContent(
            JsonSerializer.Serialize(order, ApiJson.Plain.SwapOrder),
            Encoding.UTF8,
            "application/json"
        );
        SwapPlan? plan = null;
        await foreach (
            var happened in client
                .Lines(HttpMethod.Post, path, content, ApiJson.Default.SwapEvent, GoesOn, cancellation)
                .ConfigureAwait(false)
        )
        {
            if (happened.Text is { } text && !json)
                Console.Error.WriteLine($"… {text}");
            if (happened.Plan is { } planned)
            {
                plan = planned;
                if (!json)
                    Write(planned);
            }

            if (happened.Refused is { } refused)
                throw new Failure(Exit.NotTrue, refused.Detail, refused.Next, refused.Code);
            if (happened.Answer is not { } answer)
                continue;
            if (json)
                Common.WriteJson(new SwapEvent { Plan = plan, Answer = answer }, ApiJson.Plain.SwapEvent);
            else
                AskCommands.Show(answer);
            return answer.CameTrue ? Exit.True : Exit.NotTrue;
        }

        throw SentryClient.WentAway(GoesOn);
    }

    private const string GoesOn = "the swap goes on with the next one: 'calm swap NAME' shows how far it is";

    private static void Write(SwapPlan plan)
    {
        var owner = plan.SourceOwner is { } whose ? $" ({whose}'s)" : "";
        Console.WriteLine(
            $"Version {plan.Version} of {plan.Directory}, from {Shown.Line(plan.Source)}{owner}, for version {plan.Before}"
        );
        Row("changed", plan.Changed);
        Row("new", plan.Added);
        Row("gone", plan.Gone);
        Console.WriteLine($"  the same   {plan.Same}");
        if (plan.Data.Count > 0)
            Console.WriteLine($"  data       {string.Join(", ", plan.Data)}: stays as it is");
        if (plan.LeftOut.Count > 0)
            Console.WriteLine($"  left out   {Named(plan.LeftOut, plan.LeftOut.Count)}: data here");
        if (plan.GivenUp.Count > 0)
            Console.WriteLine(
                $"  given up   {plan.GivenUp.Count}: {Named(plan.GivenUp.Paths, plan.GivenUp.Count)}: others than root can write there"
            );
        if (plan.EarlierPlace is { } earlier)
            Console.WriteLine(
                $"  left over  {earlier}: from an earlier sentry, known to no service; look at it, then remove it"
            );
        Console.WriteLine($"  room       {Size.About(plan.Bytes)}, of {Size.About(plan.Room)} that are free");
        foreach (var user in plan.UsedBy)
            Console.WriteLine($"  also used  by {Shown.Line(user)}");
        Console.WriteLine($"  {plan.Interrupts}");
        FindingText.Write(plan.Findings, Console.Out);
    }

    private static void Row(string what, FileList files)
    {
        if (files.Count > 0)
            Console.WriteLine($"  {what, -10} {files.Count}: {Named(files.Paths, files.Count)}");
    }

    private static string Named(IReadOnlyList<string> paths, int count) =>
        string.Join(", ", paths.Take(MostNamed).Select(Shown.Line)) + (count > MostNamed ? ", …" : "");

    private static void Write(string name, VersionsView view)
    {
        if (view.UnderWay is { } doing)
            Console.WriteLine($"Under way: {doing}.");
        if (view.Versions.Count == 0)
        {
            Console.WriteLine(
                view.Directory is { } directory
                    ? $"Its files in {directory} have not been swapped yet: calm swap {name} --from DIRECTORY-OR-ARCHIVE"
                    : $"Which directory holds its files cannot be told: calm adjust {name} --files-directory PATH"
            );
            return;
        }

        Table.Write(
            ["VERSION", "PUT IN", "BY", "RUNS", "", "FROM"],
            [
                .. view.Versions.Select(version =>
                    new[]
                    {
                        version.Number.ToString(CultureInfo.InvariantCulture),
                        version.At is { } at ? Lengths.At(at) : "-",
                        version.By ?? "-",
                        version.Runs.ToString(CultureInfo.InvariantCulture),
                        version.Present ? "in place"
                        : version.Failed is { } why ? $"did not stay: {why}"
                        : version.Kept ? "kept"
                        : "let go",
                        version.Source ?? "it was there",
                    }
                ),
            ]
        );
    }
}
