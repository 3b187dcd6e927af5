using System.Net.Sockets;
using System.Text;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Probing;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Native;

namespace CalmSentry.Engine.Services;

/// <summary>What came of a step: an answer as a clause, and whether the step could not be taken at all.</summary>
internal readonly record struct StepEffect(string Answer, bool Failed);

/// <summary>Takes the steps of a wind-down that are more than a signal.</summary>
/// <param name="site">Where its run takes place.</param>
/// <param name="input">Gives the keeper an order about the program's input; the errno that came of it.</param>
internal sealed class StepTaker(
    Definition definition,
    RunTools tools,
    RunSite site,
    int? pid,
    Func<Message, CancellationToken, Task<int>> input
)
{
    private const int LongestAnswer = 200,
        LongestBody = 64 << 10;

    private const string Taken = "it was taken without an answer";

    /// <returns>Null when the step's wait was over, or the program gone, before anything came back.</returns>
    public async Task<StepEffect?> Take(WindDownStep step, CancellationToken gone)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(gone);
        limit.CancelAfter(step.Wait);
        try
        {
            return step switch
            {
                SendStep { To.Kind: SendKind.Input } send => await Input(
                    new Message(KeeperWord.Input).With("text", send.Text),
                    "its input took it",
                    limit.Token
                ),
                SendStep send => await Send(send, limit.Token),
                CloseInputStep => await Input(new Message(KeeperWord.CloseInput), "its input has ended", limit.Token),
                KeyStep key => await Input(
                    new Message(KeeperWord.Input).With("text", key.Key == TerminalKey.Quit ? "\x1c" : "\x03"),
                    "its terminal took it",
                    limit.Token
                ),
                HttpStep http => await Ask(http, limit.Token),
                CommandStep command => await Run(command, limit.Token),
                _ => null,
            };
        }
        catch (OperationCanceledException)
        {
            return null;
        }
        catch (Exception error) when (error is SocketException or IOException or HttpRequestException)
        {
            return new((error.InnerException as SocketException ?? error).Message.TrimEnd('.'), Failed: true);
        }
    }

    private async Task<StepEffect?> Input(Message order, string words, CancellationToken cancellation) =>
        await input(order, cancellation) is var errno and not 0
            ? new($"its input cannot be written: {Names.Errno(errno)}", Failed: true)
            : new(words, Failed: false);

    private async Task<StepEffect?> Send(SendStep step, CancellationToken cancellation)
    {
        if (step.To.Kind == SendKind.Unix)
            return await SendAs(step, cancellation);
        using var socket = new Socket(SocketType.Stream, ProtocolType.Tcp);
        var (host, port) = NetworkAddress.Read(step.To.Address)!.Value;
        await socket.ConnectAsync(host, port, cancellation);
        await socket.SendAsync(Encoding.UTF8.GetBytes(step.Text), cancellation);
        var room = new byte[4096];
        var got = 0;
        try
        {
            // The first line is the answer; the connection stays open for as long as the program wants it.
            while (got < room.Length && Array.IndexOf(room, (byte)'\n', 0, got) < 0)
            {
                var more = await socket.ReceiveAsync(room.AsMemory(got), cancellation);
                if (more == 0)
                    break;
                got += more;
            }
        }
        catch (SocketException)
        {
            // It was sent, which is what counts.
        }

        return new(Answered(Encoding.UTF8.GetString(room, 0, got), Taken), Failed: false);
    }

    /// <summary>
    /// A socket's path is the account's to change: who connects there is the account, so that it leads to nothing but
    /// what the account reaches anyway.
    /// </summary>
    private async Task<StepEffect?> SendAs(SendStep step, CancellationToken cancellation)
    {
        if (Account.Named(definition.Account) is not { } account)
            return new($"there is no account {definition.Account}", Failed: true);
        return await tools.AsAccount.Send(
            account,
            AccountGroup.IdsOf(definition.Identity.Groups),
            step.To.Address,
            step.Text,
            step.Wait,
            cancellation
        ) switch
        {
            null => null,
            { ExitCode: 0, Output: var said } => new(Answered(said, Taken), Failed: false),
            { ExitCode: var errno } => new($"{step.To.Address} does not take it ({Names.Errno(errno)})", Failed: true),
        };
    }

    private static async Task<StepEffect?> Ask(HttpStep step, CancellationToken cancellation)
    {
        using var request = new HttpRequestMessage(new HttpMethod(step.Method), step.Url);
        if (step.Body is { } body)
            request.Content = new StringContent(body, Encoding.UTF8);
        using var response = await Probes.Http.SendAsync(
            request,
            HttpCompletionOption.ResponseHeadersRead,
            cancellation
        );
        var said = Answered(await Probes.Body(response, LongestBody, cancellation), "");
        return new(
            $"it answered {(int)response.StatusCode}{(said.Length > 0 ? $", and {said}" : "")}",
            Failed: (int)response.StatusCode >= 400
        );
    }

    private async Task<StepEffect?> Run(CommandStep step, CancellationToken cancellation)
    {
        if (Account.Named(definition.Account) is not { } account)
            return new($"there is no account {definition.Account}", Failed: true);
        var environment = LaunchOrder.EnvironmentOf(definition, account, site.Name, tools.Places);
        if (pid is { } main)
            environment["CALM_PID"] = main.ToString(System.Globalization.CultureInfo.InvariantCulture);
        var end = await tools.AsAccount.Run(
            account,
            AccountGroup.IdsOf(definition.Identity.Groups),
            LaunchOrder.DirectoryOf(definition, tools.Places),
            environment,
            step.Command,
            step.Wait,
            site.Commands(tools),
            cancellation: cancellation
        );
        return end switch
        {
            null => new(
                $"{step.Command[0]} cannot be run, or had not ended after {Duration.Write(step.Wait)}",
                Failed: true
            ),
            { ExitCode: var code } => new(
                $"it ended with exit code "
                    + $"{code}{(Answered(end.Value.Output + end.Value.Error, "") is { Length: > 0 } said ? $", and {said}" : "")}",
                Failed: code != 0
            ),
        };
    }

    private static string Answered(string text, string nothing)
    {
        var line = text.Split('\n').Select(line => line.Trim()).FirstOrDefault(line => line.Length > 0);
        return line is null
            ? nothing
            : $"it said '{(line.Length > LongestAnswer ? line[..LongestAnswer] + "…" : line)}'";
    }
}
