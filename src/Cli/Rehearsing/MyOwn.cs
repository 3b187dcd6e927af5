using System.Diagnostics;
using System.Globalization;
using CalmSentry.Cli.Host;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;

namespace CalmSentry.Cli.Rehearsing;

/// <summary>
/// The same program run as the caller, in the caller's own shell surroundings, and what differs from its service's.
/// </summary>
internal static class MyOwn
{
    /// <summary>Variables every login has and no program needs.</summary>
    private static readonly string[] Idle =
    [
        "_",
        "SHLVL",
        "OLDPWD",
        "PWD",
        "TERM",
        "SHELL",
        "MAIL",
        "LS_COLORS",
        "COLORTERM",
        "CALM_ROOT",
    ];

    public static async Task Compare(
        SentryClient client,
        string path,
        Body? body,
        RehearsalReport service,
        string length,
        CancellationToken cancellation
    )
    {
        var check = await client
            .Send(
                body is null ? HttpMethod.Get : HttpMethod.Post,
                body is null ? path + "/check" : "check",
                body?.Content(),
                ApiJson.Default.CheckView,
                cancellation
            )
            .ConfigureAwait(false);
        var command =
            check.Command ?? throw new Failure(Exit.NotTrue, "The definition has errors; there is nothing to compare.");
        Console.WriteLine();
        var (me, whyNot) = Person.Behind();
        whyNot ??= me is { } person ? ChangedByOthers(command, check, person.Uid) : null;
        if (whyNot is null)
            Console.Error.WriteLine($"… The same as {me!.Name}, in {Environment.CurrentDirectory}.");
        var mine = whyNot is null
            ? await Run(command, check, me!, length, cancellation).ConfigureAwait(false)
            : $"It was not run as you: {whyNot}. Only the surroundings are compared.";
        Console.WriteLine($"As its service: {service.Said}");
        Console.WriteLine($"As you, here:   {mine}");
        Console.WriteLine("What differs:");
        var there = service.Surroundings;
        var any =
            Different("account", me?.Name ?? Environment.UserName, there.Account)
            | Different("directory", Environment.CurrentDirectory, there.Directory)
            | Different("umask", Umask(), there.Umask);
        var groups = me is { IsAnother: true } ? me.Groups() : Groups();
        foreach (var group in groups.Except(there.Groups).Order(StringComparer.Ordinal))
            any |= Say($"group {group}: you are a member, the service is not");
        foreach (var group in there.Groups.Except(groups).Order(StringComparer.Ordinal))
            any |= Say($"group {group}: the service is a member, you are not");
        foreach (System.Collections.DictionaryEntry pair in Environment.GetEnvironmentVariables())
        {
            var (name, value) = ((string)pair.Key, (string?)pair.Value ?? "");
            if (Idle.Contains(name))
                continue;
            if (!there.Environment.TryGetValue(name, out var other))
                any |= Say($"variable {name}: you have it, the service does not");
            else if (other != value)
                any |= Say(
                    $"variable {name}: '{Short(SecretLooks.MaskedVariable(name, value))}' for you, '{Short(SecretLooks.MaskedVariable(name, other))}' for the service"
                );
        }

        foreach (
            var name in there
                .Environment.Keys.Where(name => Environment.GetEnvironmentVariable(name) is null)
                .Order(StringComparer.Ordinal)
        )
            any |= Say($"variable {name}: the service has it, you do not");
        if (me is not { IsAnother: true } && Environment.UserName == "root" && there.Account != "root")
            any |= Say("rights: you are root and may do everything; the service may only what its account may");
        foreach (
            var finding in check.Findings.Where(finding =>
                finding.Code
                    is FindingCode.AccountCannotRun
                        or FindingCode.DirectoryUnreachable
                        or FindingCode.FileUnreadable
                        or FindingCode.DirectoryReadOnly
            )
        )
            any |= Say($"rights: {finding.Seen}");
        if (!any)
            Console.WriteLine("  nothing that could be seen");
    }

    /// <summary>Variables that name where a program's modules and libraries come from.</summary>
    private static readonly string[] ModulePaths =
    [
        "LD_LIBRARY_PATH",
        "LD_PRELOAD",
        "PYTHONPATH",
        "PYTHONHOME",
        "NODE_PATH",
        "PERL5LIB",
        "RUBYLIB",
        "CLASSPATH",
    ];

    /// <summary>Why it is not run with a person's rights: somebody else could have written what is run; null: nobody could.</summary>
    private static string? ChangedByOthers(IReadOnlyList<string> command, CheckView check, int me)
    {
        var environment =
            check.Definition is { } definition
            && definition.GetProperty("program").TryGetProperty("environment", out var set)
                ? set.EnumerateObject()
                    .ToDictionary(one => one.Name, one => one.Value.GetString() ?? "", StringComparer.Ordinal)
                : [];
        var modules = ModulePaths.SelectMany(name =>
            (environment.GetValueOrDefault(name) ?? Environment.GetEnvironmentVariable(name) ?? "").Split(
                [':', ' '],
                StringSplitOptions.RemoveEmptyEntries
            )
        );
        // An interpreter also looks beside the script, and some look where they are called from.
        var files = command
            .Where(word => word.StartsWith('/') && Path.Exists(word))
            .Concat(modules)
            .Append(Environment.CurrentDirectory)
            .Distinct();
        return Untouched.WhyNot(files, me);
    }

    private static async Task<string> Run(
        IReadOnlyList<string> command,
        CheckView check,
        Person me,
        string length,
        CancellationToken cancellation
    )
    {
        var line = me.Become(command);
        var start = new ProcessStartInfo(line[0], line.Skip(1)) { RedirectStandardInput = true };
        if (me.IsAnother)
            (start.Environment["HOME"], start.Environment["USER"], start.Environment["LOGNAME"]) = (
                me.Home,
                me.Name,
                me.Name
            );
        // What its definition sets is the program's own; the rest is the caller's.
        if (
            check.Definition is { } definition
            && definition.GetProperty("program").TryGetProperty("environment", out var set)
        )
            foreach (var variable in set.EnumerateObject())
                start.Environment[variable.Name] = variable.Value.GetString();
        Process process;
        try
        {
            process = Process.Start(start)!;
        }
        catch (System.ComponentModel.Win32Exception error)
        {
            return $"It was never launched: {error.Message}.";
        }

        using (process)
        {
            process.StandardInput.Close();
            var clock = Stopwatch.StartNew();
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
            limit.CancelAfter(Length(length));
            try
            {
                await process.WaitForExitAsync(limit.Token).ConfigureAwait(false);
                return string.Create(
                    CultureInfo.InvariantCulture,
                    $"It exited with code {process.ExitCode} after {clock.Elapsed.TotalSeconds:0.0} s."
                );
            }
            catch (OperationCanceledException)
            {
                using var term = Process.Start(
                    "/bin/kill",
                    ["-TERM", process.Id.ToString(CultureInfo.InvariantCulture)]
                );
                using var patience = new CancellationTokenSource(TimeSpan.FromSeconds(10));
                await process.WaitForExitAsync(patience.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                if (!process.HasExited)
                    process.Kill(entireProcessTree: true);
                return string.Create(
                    CultureInfo.InvariantCulture,
                    $"It stayed up for {clock.Elapsed.TotalSeconds:0.0} s, until it was asked to end."
                );
            }
        }
    }

    /// <summary>The sentry has read the length before us and refused what is none.</summary>
    private static TimeSpan Length(string text)
    {
        var digits = new string([.. text.Trim().TakeWhile(c => char.IsAsciiDigit(c) || c == '.')]);
        var number = double.Parse(digits, CultureInfo.InvariantCulture);
        return text.Trim()[digits.Length..].Trim() switch
        {
            "ms" => TimeSpan.FromMilliseconds(number),
            "min" => TimeSpan.FromMinutes(number),
            "h" => TimeSpan.FromHours(number),
            "d" => TimeSpan.FromDays(number),
            _ => TimeSpan.FromSeconds(number),
        };
    }

    private static bool Different(string what, string mine, string theirs) =>
        mine != theirs && Say($"{what}: '{mine}' for you, '{theirs}' for the service");

    private static bool Say(string what)
    {
        Console.WriteLine($"  {what}");
        return true;
    }

    private static string Short(string text) => text.Length > 60 ? text[..57] + "…" : text;

    private static string Umask() => Status("Umask") ?? "";

    private static List<string> Groups()
    {
        var names = File.ReadLines("/etc/group")
            .Select(line => line.Split(':'))
            .Where(part => part.Length > 2)
            .DistinctBy(part => part[2])
            .ToDictionary(part => part[2], part => part[0]);
        var ids = (Status("Groups") ?? "")
            .Split(' ', StringSplitOptions.RemoveEmptyEntries)
            .Append((Status("Gid") ?? "0").Split('\t')[0])
            .Distinct();
        return [.. ids.Select(id => names.GetValueOrDefault(id, $"gid {id}"))];
    }

    private static string? Status(string name) =>
        File.ReadLines("/proc/self/status")
            .FirstOrDefault(line => line.StartsWith(name + ":", StringComparison.Ordinal))
            ?[(name.Length + 1)..].Trim();
}
