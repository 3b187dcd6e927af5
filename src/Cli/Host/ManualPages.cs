using System.CommandLine;
using System.Text;

namespace CalmSentry.Cli.Host;

/// <summary>Man pages (man-pages(7)), made from the commands as they are.</summary>
internal static class ManualPages
{
    private const string Place = "/usr/local/share/man";

    /// <param name="commands">Null: only the paths matter.</param>
    public static IReadOnlyList<(string Path, string Text)> All(RootCommand? commands) =>
        [($"{Place}/man1/calm.1", commands is null ? "" : Client(commands)), ($"{Place}/man8/calm-sentry.8", Server)];

    private static string Client(RootCommand commands)
    {
        var page = new StringBuilder(
            ".TH CALM 1\n.SH NAME\ncalm \\- direct Calm Sentry, which keeps ordinary programs running as "
                + "background services\n.SH SYNOPSIS\n.B calm\n.I command\n.RI [ argument ...]\n.SH COMMANDS\n"
        );
        foreach (var command in commands.Subcommands)
            Command(page, command, "calm");
        page.Append(
            """
            .SH EXIT STATUS
            0 it came true, 1 it did not, 2 wrong usage, 3 not permitted, 4 no such thing, 5 the sentry cannot be reached.
            .SH ENVIRONMENT
            .TP
            .B CALM_ROOT
            Directory all places of the sentry lie under, as with
            .BR \-\-root .
            .SH SEE ALSO
            .BR calm-sentry (8)

            """
        );
        return page.ToString();
    }

    private static void Command(StringBuilder page, Command command, string above)
    {
        var name = $"{above} {command.Name}";
        page.Append(".SS ")
            .Append(Plain(name))
            .Append(
                string.Concat(
                    command
                        .Arguments.Where(argument => !argument.Hidden)
                        .Select(argument => $" {Plain(argument.Name).ToUpperInvariant()}")
                )
            )
            .Append('\n')
            .Append(Plain(command.Description))
            .Append(".\n");
        foreach (var option in command.Options.Where(option => !option.Hidden && option.Name != "--help"))
            page.Append(".TP\n.B ")
                .Append(Plain(option.Name))
                .Append('\n')
                .Append(Plain(option.Description))
                .Append('\n');
        foreach (var inner in command.Subcommands)
            Command(page, inner, name);
    }

    /// <summary>A line of text that roff takes as text.</summary>
    private static string Plain(string? text)
    {
        var plain = (text ?? "")
            .Replace("\\", "\\e", StringComparison.Ordinal)
            .Replace("-", "\\-", StringComparison.Ordinal);
        return plain.StartsWith('.') || plain.StartsWith('\'') ? "\\&" + plain : plain;
    }

    private const string Server = """
        .TH CALM-SENTRY 8
        .SH NAME
        calm-sentry \- the service that keeps ordinary programs running as background services
        .SH SYNOPSIS
        .B calm-sentry serve
        .RB [ \-\-root
        .IR DIR ]
        .RB [ \-\-port
        .IR N ]
        .br
        .B calm-keeper guard
        .I RUN-DIRECTORY SERVER ARGUMENT...
        .SH DESCRIPTION
        .B calm-sentry serve
        keeps services in the foreground and answers
        .BR calm (1)
        and the console. On SIGTERM it ends, and the programs go on; the next one takes them up again.
        .PP
        .B calm-keeper guard
        starts the server and starts it again whenever it ends: at once, then with growing pauses. On SIGTERM it ends the server and itself.
        .PP
        The init script
        .I /etc/init.d/calm-sentry
        starts the guard with the machine. Its
        .B stop
        winds all services down in order first; its
        .B restart
        leaves them running.
        .SH FILES
        .TP
        .I /etc/calm-sentry/sentry.yaml
        Settings: port, shutdown-within.
        .TP
        .I /var/lib/calm-sentry
        Definitions, history, secrets, and each service's own directory.
        .TP
        .I /var/log/calm-sentry
        Output of each service, and of the sentry itself.
        .SH SEE ALSO
        .BR calm (1)

        """;
}
