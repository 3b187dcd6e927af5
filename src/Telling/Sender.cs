using CalmSentry.Core.Telling;
using CalmSentry.Store;

namespace CalmSentry.Telling;

/// <summary>A message that its way did not take.</summary>
/// <param name="why">A clause.</param>
/// <param name="forGood">It will not take it another time either.</param>
/// <param name="pause">How long the way wants to be left alone; null: it does not say.</param>
internal sealed class NotTakenException(string why, bool forGood = false, TimeSpan? pause = null) : Exception(why)
{
    public bool ForGood => forGood;

    public TimeSpan? Pause => pause;
}

/// <summary>What goes to and fro, a line each, for whoever wants to see it.</summary>
internal delegate void Exchange(string line);

/// <summary>Carries messages to one recipient. Whatever is at the other end, it ends within a bounded time.</summary>
internal interface ISender
{
    /// <returns>What the other end said, as a clause: it has it.</returns>
    /// <exception cref="NotTakenException">It has not.</exception>
    Task<string> Send(StoredMessage one, Message message, Exchange? seen, CancellationToken cancellation);
}

/// <summary>What senders need of the sentry.</summary>
/// <param name="Identity">Stands for this sentry, for ever.</param>
/// <param name="Secret">Opens a secret of the sentry's.</param>
/// <param name="Picture">What the window of a service showed last, as a PNG, and when; null: nothing is kept.</param>
internal sealed record SenderHouse(
    string Host,
    string Identity,
    MailSettings? Mail,
    Func<string, string> Secret,
    Func<string, (byte[] Png, DateTimeOffset At)?> Picture,
    Linux.Accounts.AsAccount AsAccount
)
{
    public ISender For(Recipient recipient) =>
        recipient.Way switch
        {
            MailWay mail => new MailSender(mail, recipient.Name, this),
            WebhookWay hook => new WebhookSender(hook, this),
            CommandWay command => new CommandSender(command, this),
            SyslogWay syslog => new SyslogSender(syslog, this),
            _ => throw new InvalidOperationException($"no way {recipient.Way}"),
        };
}
