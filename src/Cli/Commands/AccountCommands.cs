using System.CommandLine;
using System.Globalization;
using System.Text;
using System.Text.Json;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Guided;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm account create | list | show | permit | forbid | grant | take | hand-over | remove</c></summary>
internal static class AccountCommands
{
    public static Command Make() =>
        new("account", "Accounts that run services: make, permit, give rights on folders")
        {
            List(),
            Show(),
            Create(),
            Of("permit", HttpMethod.Post, "/permit", "Permit an account to run services"),
            Of("forbid", HttpMethod.Post, "/forbid", "Forbid an account to run services; what is live goes on"),
            Folder("grant", "Give an account just the right it lacks on a folder"),
            Folder("take", "Take back what was granted on a folder"),
            HandOver(),
            Of("remove", HttpMethod.Delete, "", "Remove an account that was made here and runs no service"),
        };

    public static string PathOf(string account) => $"accounts/{Uri.EscapeDataString(account)}";

    private static Argument<string> Name() => new("account") { Description = "An account of this host" };

    private static Command Create()
    {
        var home = new Option<string?>("--home")
        {
            Description =
                "Its home, made for it alone; left out: its services keep such things in their state directories",
            HelpName = "DIR",
        };
        return Of(
            "create",
            HttpMethod.Post,
            "",
            "Make a locked system account and permit it to run services",
            home,
            parsed =>
                parsed.GetValue(home) is { } given ? $"home={Uri.EscapeDataString(Path.GetFullPath(given))}" : null
        );
    }

    /// <param name="option">A further flag.</param>
    /// <param name="query">What it makes of the call's address.</param>
    private static Command Of(
        string what,
        HttpMethod method,
        string path,
        string description,
        Option? option = null,
        Func<ParseResult, string?>? query = null
    )
    {
        var (name, dry) = (Name(), Common.Dry());
        var command = new Command(what, description) { name, dry };
        if (option is not null)
            command.Add(option);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                return SecretCommands.Say(
                    await client
                        .Send(
                            method,
                            $"{PathOf(parsed.GetValue(name)!)}{path}?{query?.Invoke(parsed)}&dry={(parsed.GetValue(dry) ? "true" : "false")}",
                            null,
                            ApiJson.Default.Answer,
                            cancellation
                        )
                        .ConfigureAwait(false)
                );
            }
        );
        return command;
    }

    private static Command Folder(string what, string description)
    {
        var name = Name();
        var folder = new Argument<string>("folder") { Description = "A folder; what is in it is included" };
        var read = new Option<bool>("--read") { Description = "Only to read" };
        var dry = Common.Dry();
        var yes = new Option<bool>("--yes")
        {
            Description = "Do not ask, where a link leads elsewhere or very many files are concerned",
        };
        var command = new Command(what, description) { name, folder, dry };
        if (what == "grant")
        {
            command.Add(read);
            command.Add(yes);
        }

        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var right = new FolderRight(
                    Path.GetFullPath(parsed.GetValue(folder)!),
                    what == "grant" && parsed.GetValue(read) ? "read" : null
                );
                var path = $"{PathOf(parsed.GetValue(name)!)}/{what}{Common.Query(parsed, dry)}";
                var sure = what == "grant" && parsed.GetValue(yes);
                try
                {
                    return await Change(sure).ConfigureAwait(false);
                }
                catch (Failure failure) when (failure.Code == ProblemCode.GrantAsks && !Console.IsInputRedirected)
                {
                    Console.WriteLine(failure.Message);
                    return Asking.YesNo("Grant it?", otherwise: false)
                        ? await Change(sure: true).ConfigureAwait(false)
                        : Exit.NotTrue;
                }

                async Task<int> Change(bool sure)
                {
                    using var content = new StringContent(
                        JsonSerializer.Serialize(right, ApiJson.Default.FolderRight),
                        Encoding.UTF8,
                        "application/json"
                    );
                    return SecretCommands.Say(
                        await client
                            .Send(
                                HttpMethod.Post,
                                sure
                                    ? path + (path.Contains('?', StringComparison.Ordinal) ? "&" : "?") + "yes=true"
                                    : path,
                                content,
                                ApiJson.Default.Answer,
                                cancellation
                            )
                            .ConfigureAwait(false)
                    );
                }
            }
        );
        return command;
    }

    private static Command HandOver()
    {
        var name = Name();
        var service = new Argument<string>("service") { Description = "The service whose kept files wait" };
        var dry = Common.Dry();
        var command = new Command("hand-over", "Give an account what a service kept under an account that was removed")
        {
            name,
            service,
            dry,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                return SecretCommands.Say(
                    await client
                        .Send(
                            HttpMethod.Post,
                            $"{PathOf(parsed.GetValue(name)!)}/hand-over?service={Uri.EscapeDataString(parsed.GetValue(service)!)}"
                                + (parsed.GetValue(dry) ? "&dry=true" : ""),
                            null,
                            ApiJson.Default.Answer,
                            cancellation
                        )
                        .ConfigureAwait(false)
                );
            }
        );
        return command;
    }

    private static Command List()
    {
        var json = Common.Json();
        var command = new Command("list", "Accounts that may run services, and those that do") { json };
        command.Shows(
            json,
            parsed => "accounts",
            () => ApiJson.Plain.IReadOnlyListAccountView,
            accounts =>
            {
                if (accounts.Count == 0)
                    Console.WriteLine(
                        "No account may run services yet. Make one: calm account create NAME; or permit one: calm "
                            + "account permit NAME"
                    );
                else
                    Table.Write(
                        ["ACCOUNT", "UID", "MAY RUN SERVICES", "MADE HERE", "SERVICES"],
                        [
                            .. accounts.Select(account =>
                                new[]
                                {
                                    account.Name,
                                    account.Uid < 0 ? "gone" : account.Uid.ToString(CultureInfo.InvariantCulture),
                                    account.Permitted ? "yes" : "no",
                                    account.Made ? "yes" : "no",
                                    account.Services.Count == 0 ? "-" : string.Join(", ", account.Services),
                                }
                            ),
                        ],
                        row => !accounts[row].Permitted && accounts[row].Services.Count > 0
                    );
            }
        );
        return command;
    }

    private static Command Show()
    {
        var (name, json) = (Name(), Common.Json());
        var command = new Command("show", "One account: its services, what it may do, which folders it can write")
        {
            name,
            json,
        };
        command.Shows(
            json,
            parsed => PathOf(parsed.GetValue(name)!),
            () => ApiJson.Plain.AccountDetail,
            detail =>
            {
                var account = detail.Account;
                Console.WriteLine(
                    $"{account.Name} (uid {account.Uid}){(account.Made ? ", made here" : "")}; "
                        + $"{(account.Permitted ? "permitted to run services" : "not permitted to run services")}"
                );
                Rows("services", account.Services);
                Rows("groups", detail.Groups);
                Rows("home", [detail.Home]);
                Rows("may", detail.May);
                Rows("writes", detail.Writes);
                Rows("granted", detail.Granted);
            }
        );
        return command;
    }

    private static void Rows(string name, IReadOnlyList<string> lines)
    {
        if (lines.Count == 0)
            lines = ["none"];
        for (var i = 0; i < lines.Count; i++)
            Console.WriteLine($"  {(i == 0 ? name : ""), -10} {lines[i]}");
    }
}
