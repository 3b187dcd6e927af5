using System.Globalization;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Text;
using CalmSentry.Linux.Accounts;
using CalmSentry.Store;

namespace CalmSentry.Telling;

/// <summary>A command as an account: the message is its standard input, what is known of it in its environment.</summary>
internal sealed class CommandSender(CommandWay way, SenderHouse house) : ISender
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);

    public async Task<string> Send(StoredMessage one, Message message, Exchange? seen, CancellationToken cancellation)
    {
        var account = way.Account is { } name ? Account.Named(name) : Account.WithId(Account.OwnId);
        if (account is null)
            throw new NotTakenException($"there is no account {way.Account}");
        seen?.Invoke($"> {string.Join(' ', way.Command)} (as {account.Name})");
        (int ExitCode, string Output, string Error)? end;
        try
        {
            end = await house.AsAccount.Run(
                account,
                [],
                "/",
                new Dictionary<string, string>
                {
                    ["PATH"] = "/usr/local/bin:/usr/bin:/bin",
                    ["CALM_MESSAGE_ID"] = one.Id,
                    ["CALM_MESSAGE_KIND"] = Words.Of(message.Kind),
                    ["CALM_ALERT"] = message.Alert.ToString(CultureInfo.InvariantCulture),
                    ["CALM_SUBJECT"] = message.Headline,
                    ["CALM_URGENCY"] = Words.Of(message.Urgency),
                    ["CALM_SERVICE"] = message.Service ?? "",
                },
                [.. way.Command],
                Patience,
                input: MessageText.Plain(message),
                cancellation: cancellation
            );
        }
        catch (IOException error)
        {
            throw new NotTakenException($"{way.Command[0]}: {Shown.Line(error.Message.TrimEnd('.'))}");
        }

        if (end is not var (code, output, errors))
            throw new NotTakenException(
                $"{way.Command[0]} could not be run as {account.Name}, or took longer than {Duration.Write(Patience)}"
            );
        foreach (var line in (output + errors).Split('\n', StringSplitOptions.RemoveEmptyEntries).Take(50))
            seen?.Invoke($"< {Shown.Line(line)}");
        seen?.Invoke(string.Create(CultureInfo.InvariantCulture, $"— exit code {code}"));
        return code == 0
            ? $"{way.Command[0]} took it"
            : throw new NotTakenException(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"{way.Command[0]} exited with code {code}{(LastLine(errors) is { } said ? $": {said}" : "")}"
                )
            );
    }

    private static string? LastLine(string text) =>
        text.Split('\n', StringSplitOptions.RemoveEmptyEntries).LastOrDefault() is { } line
            ? Shown.Line(line.Length > 200 ? line[..200] + "…" : line)
            : null;
}

/// <summary>A syslog message of severity alert (RFC 5424); nobody says whether it arrived.</summary>
internal sealed class SyslogSender(SyslogWay way, SenderHouse house) : ISender
{
    public async Task<string> Send(StoredMessage one, Message message, Exchange? seen, CancellationToken cancellation)
    {
        var target = new Core.Forwarding.ForwardTarget(
            way.Address.StartsWith('/') ? Core.Forwarding.ForwardBy.Unix : Core.Forwarding.ForwardBy.Udp,
            way.Address
        );
        var line = Core.Forwarding.SyslogMessage.Of(message, one.Id, house.Host);
        seen?.Invoke($"> {Shown.Line(System.Text.Encoding.UTF8.GetString(line))}");
        try
        {
            await using var collector = await Forwarding.Collector.Reach(target, cancellation);
            await collector.Send([line], cancellation);
            return $"sent to {way.Address}; syslog has no answer";
        }
        catch (IOException error)
        {
            throw new NotTakenException($"{way.Address}: {Shown.Line(error.Message.TrimEnd('.'))}");
        }
    }
}
