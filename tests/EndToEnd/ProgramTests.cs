using System.Diagnostics;
using System.Net;
using System.Net.Sockets;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// Each kind of program that administrators have, with what Debian ships for it: from the first check to a client that is served. All
/// of them say 'tide' to whoever comes.
/// </summary>
[Needs("busybox", "default-jdk-headless", "perl", "php-cli", "python3", "python3-venv", "ruby")]
public class ProgramTests
{
    private const string Python = """
        import socket, sys
        def main():
            door = socket.create_server(("127.0.0.1", int(sys.argv[1])))
            while True:
                line, _ = door.accept()
                line.sendall(b"tide\n")
                line.close()

        """;

    /// <param name="Words">How it is started by hand in its directory; PORT stands for the port.</param>
    /// <param name="Script">What its interpreter reads; null: it is compiled.</param>
    /// <param name="With">What its interpreter's path ends with; null: it is executed.</param>
    private sealed record Kind(
        string[] Words,
        (string Name, string Text)? Script,
        string? With,
        Func<string, Task>? Make
    );

    private static Kind Of(string kind) =>
        kind switch
        {
            "python" => new(["board.py", "PORT"], ("board.py", $"{Python}main()\n"), "/usr/bin/python3", null),
            // What it needs is nowhere but in its own environment.
            "environment" => new(
                ["board.py", "PORT"],
                ("board.py", $"import only_here\n{Python}main()\n"),
                "venv/bin/python",
                async directory =>
                {
                    await Run(directory, "/usr/bin/python3", "-m", "venv", "--without-pip", "venv");
                    var packages = Directory.GetDirectories(Path.Combine(directory, "venv/lib"), "python3*").Single();
                    await File.WriteAllTextAsync(Path.Combine(packages, "site-packages/only_here.py"), "");
                }
            ),
            "module" => new(
                ["/usr/bin/python3", "-m", "board", "PORT"],
                ("board/__main__.py", $"{Python}main()\n"),
                null,
                null
            ),
            "node" => new(
                ["board.js", "PORT"],
                (
                    "board.js",
                    "require('net').createServer((line) => line.on('error', () => {}).end('tide\\n')).listen(+process.argv[2], '127.0.0.1');\n"
                ),
                "/node",
                null
            ),
            "java" => new(
                ["board.jar", "PORT"],
                null,
                "/java",
                async directory =>
                {
                    await File.WriteAllTextAsync(
                        Path.Combine(directory, "Board.java"),
                        """
                        import java.net.*;
                        public class Board {
                            public static void main(String[] words) throws Exception {
                                var door = new ServerSocket(Integer.parseInt(words[0]), 5, InetAddress.getByName("127.0.0.1"));
                                for (;;) try (var line = door.accept()) { line.getOutputStream().write("tide\n".getBytes()); }
                            }
                        }
                        """
                    );
                    await Run(directory, "javac", "Board.java");
                    await Run(directory, "jar", "cfe", "board.jar", "Board", "Board.class");
                }
            ),
            "perl" => new(
                ["board.pl", "PORT"],
                (
                    "board.pl",
                    """
                    use strict; use warnings; use IO::Socket::INET;
                    my $door = IO::Socket::INET->new(LocalAddr => '127.0.0.1', LocalPort => $ARGV[0], Listen => 5, ReuseAddr => 1) or die $!;
                    while (my $line = $door->accept) { print $line "tide\n"; close $line; }

                    """
                ),
                "/usr/bin/perl",
                null
            ),
            "ruby" => new(
                ["board.rb", "PORT"],
                (
                    "board.rb",
                    "require 'socket'\ndoor = TCPServer.new('127.0.0.1', ARGV[0].to_i)\nloop { line = door.accept; line.puts 'tide'; line.close }\n"
                ),
                "/usr/bin/ruby",
                null
            ),
            "php" => new(
                ["board.php", "PORT"],
                (
                    "board.php",
                    """
                    <?php
                    $door = stream_socket_server("tcp://127.0.0.1:$argv[1]");
                    while (true) { $line = stream_socket_accept($door, -1); fwrite($line, "tide\n"); fclose($line); }

                    """
                ),
                "/usr/bin/php",
                null
            ),
            "shell" => new(
                ["board.sh", "PORT"],
                ("board.sh", "while :; do echo tide | busybox nc -l -p \"$1\"; done\n"),
                "/sh",
                null
            ),
            _ => new(
                ["./board", "PORT"],
                null,
                null,
                async directory =>
                {
                    await File.WriteAllTextAsync(
                        Path.Combine(directory, "board.c"),
                        """
                        #include <arpa/inet.h>
                        #include <stdlib.h>
                        #include <unistd.h>
                        int main(int n, char **words) {
                            struct sockaddr_in at = { .sin_family = AF_INET, .sin_port = htons(atoi(words[1])), .sin_addr.s_addr = htonl(INADDR_LOOPBACK) };
                            int door = socket(AF_INET, SOCK_STREAM, 0), yes = 1;
                            setsockopt(door, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
                            if (bind(door, (void *)&at, sizeof at) < 0 || listen(door, 5) < 0) return 1;
                            for (;;) { int line = accept(door, 0, 0); if (write(line, "tide\n", 5) < 0) return 1; close(line); }
                        }
                        """
                    );
                    await Run(directory, "gcc", "-o", "board", "board.c");
                }
            ),
        };

    [Theory]
    [InlineData("python")]
    [InlineData("environment")]
    [InlineData("module")]
    [InlineData("node")]
    [InlineData("java")]
    [InlineData("perl")]
    [InlineData("ruby")]
    [InlineData("php")]
    [InlineData("shell")]
    [InlineData("compiled")]
    public async Task From_the_first_check_to_a_client_that_is_served(string of)
    {
        await using var sentry = await Sentry.Start();
        var (kind, port) = (Of(of), Sentry.FreePort());
        var home = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "srv", "board")).FullName;
        if (kind.Script is var (name, text))
        {
            Directory.CreateDirectory(Path.GetDirectoryName(Path.Combine(home, name))!);
            await File.WriteAllTextAsync(Path.Combine(home, name), text);
        }

        if (kind.Make is { } make)
            await make(home);
        string[] words =
        [
            .. kind.Words.Select(word =>
                word == "PORT" ? $"{port}"
                : word.StartsWith("board.", StringComparison.Ordinal) || word == "./board" ? Path.Combine(home, word)
                : word
            ),
        ];
        string[] asked =
        [
            "--account",
            Sentry.Account,
            "--directory",
            home,
            "--proof",
            $"tcp:127.0.0.1:{port}",
            "--",
            .. words,
        ];
        var check = await sentry.Calm(["check", .. asked]);
        Assert.True(check.Exit == 0, check.All);
        await sentry.Ok(["wrap", "board", .. asked]);
        var program = (await sentry.Show("board")).GetProperty("definition").GetProperty("program");
        if (kind.With is { } with)
            Assert.EndsWith(with, program.GetProperty("with").GetString(), StringComparison.Ordinal);
        await sentry.Ok("start", "board");
        Assert.Equal("tide\n", await Asked(port));
        var stopped = await sentry.Ok("stop", "board");
        Assert.DoesNotContain("did not suffice", stopped.Output, StringComparison.Ordinal);

        // What its interpreter does not understand is known before it is started again.
        if (kind.Script is not var (script, good) || of == "module")
            return; // where a module's file is only the interpreter knows
        await File.WriteAllTextAsync(Path.Combine(home, script), $"{good}\n)(\n");
        Assert.Contains("script-syntax", (await sentry.Calm("check", "board")).Output, StringComparison.Ordinal);
    }

    /// <summary>What whoever comes is told. One that takes a single guest at a time may not be at the door for a moment.</summary>
    private static async Task<string> Asked(int port)
    {
        var said = "";
        await Sentry.Eventually(async () =>
        {
            try
            {
                using var line = new TcpClient();
                await line.ConnectAsync(IPAddress.Loopback, port);
                using var reader = new StreamReader(line.GetStream());
                said = await reader.ReadToEndAsync();
                return said.Length > 0;
            }
            catch (Exception error) when (error is SocketException or IOException)
            {
                return false;
            }
        });
        return said;
    }

    private static async Task Run(string directory, string program, params string[] arguments)
    {
        using var process = Process.Start(new ProcessStartInfo(program, arguments) { WorkingDirectory = directory })!;
        await process.WaitForExitAsync();
        Assert.Equal(0, process.ExitCode);
    }
}
