using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;

namespace CalmSentry.Tests.EndToEnd.Telling;

/// <summary>A webhook: signed, tried again when its receiver fails, hangs, redirects, or never ends its answer.</summary>
public partial class HookTests
{
    private const string Key = "harbour-light-27";

    /// <summary>What one call said.</summary>
    private sealed record Call(string First, Dictionary<string, string> Headers, string Body);

    /// <summary>A receiver that takes one call a line and answers as it is told.</summary>
    private sealed class Receiver : IDisposable
    {
        private readonly TcpListener listener = new(IPAddress.Loopback, 0);

        public Receiver(Func<int, NetworkStream, Task> answer)
        {
            listener.Start();
            _ = Task.Run(async () =>
            {
                for (var i = 0; ; i++)
                {
                    var (number, line) = (i, await listener.AcceptTcpClientAsync());
                    _ = Task.Run(async () =>
                    {
                        using (line)
                        {
                            var stream = line.GetStream();
                            Calls.Add(await Read(stream));
                            await answer(number, stream);
                        }
                    });
                }
            });
        }

        public List<Call> Calls { get; } = [];

        public string Url => $"http://127.0.0.1:{((IPEndPoint)listener.LocalEndpoint).Port}/told";

        private static async Task<Call> Read(NetworkStream stream)
        {
            var head = new StringBuilder();
            var one = new byte[1];
            while (!head.ToString().EndsWith("\r\n\r\n", StringComparison.Ordinal) && await stream.ReadAsync(one) > 0)
                head.Append((char)one[0]);
            var lines = head.ToString().Split("\r\n", StringSplitOptions.RemoveEmptyEntries);
            var headers = lines
                .Skip(1)
                .Select(line => line.Split(": ", 2))
                .ToDictionary(pair => pair[0].ToLowerInvariant(), pair => pair[1]);
            var body = new byte[int.Parse(headers["content-length"], CultureInfo.InvariantCulture)];
            await stream.ReadExactlyAsync(body);
            return new(lines[0], headers, Encoding.UTF8.GetString(body));
        }

        public void Dispose() => listener.Dispose();
    }

    private static ValueTask Say(NetworkStream stream, string text) => stream.WriteAsync(Encoding.ASCII.GetBytes(text));

    private static async Task<Sentry> Telling(Receiver receiver)
    {
        var sentry = await Sentry.Start();
        await sentry.Piped(Key, "secret", "set", "--sentry", "HOOK_KEY");
        await TellTests.Set(sentry, $"tell:\n  - {{ webhook: '{receiver.Url}', name: hook, key: HOOK_KEY }}\n");
        await TellTests.Known(sentry, "hook");
        await TellTests.Faulty(sentry);
        await sentry.Calm("start", "fare-ledger");
        return sentry;
    }

    [Fact]
    public async Task It_is_a_cloud_event_whose_signature_holds()
    {
        using var receiver = new Receiver(
            async (_, stream) => await Say(stream, "HTTP/1.1 204 No Content\r\nContent-Length: 0\r\n\r\n")
        );
        await using var sentry = await Telling(receiver);
        await Sentry.Eventually(async () => await TellTests.StateOf(sentry, 1) == "delivered");
        var call = Assert.Single(receiver.Calls);
        Assert.StartsWith("POST /told HTTP/1.1", call.First, StringComparison.Ordinal);
        Assert.Equal("application/cloudevents+json", call.Headers["content-type"]);
        var told = JsonDocument.Parse(call.Body).RootElement;
        Assert.Equal("1.0", told.GetProperty("specversion").GetString());
        Assert.Equal("calm-sentry.alert.begins", told.GetProperty("type").GetString());
        Assert.Equal("held", Data(call, "topic"));
        Assert.StartsWith("urn:calm-sentry:", told.GetProperty("source").GetString(), StringComparison.Ordinal);
        Assert.True(DateTimeOffset.TryParse(told.GetProperty("time").GetString(), CultureInfo.InvariantCulture, out _));
        Assert.Equal(
            (await TellTests.Messages(sentry))[0].GetProperty("id").GetString(),
            told.GetProperty("id").GetString()
        );
        Holds(call, receiver.Url);
    }

    /// <summary>Whoever sorts by what it is about must not take a report or a trial for an alert.</summary>
    [Fact]
    public async Task A_report_and_a_trial_are_called_what_they_are()
    {
        using var receiver = new Receiver(
            async (_, stream) => await Say(stream, "HTTP/1.1 204 No Content\r\nContent-Length: 0\r\n\r\n")
        );
        await using var sentry = await Sentry.Start();
        await sentry.Piped(Key, "secret", "set", "--sentry", "HOOK_KEY");
        await TellTests.Set(
            sentry,
            $"tell:\n  - {{ webhook: '{receiver.Url}', name: hook, key: HOOK_KEY }}\nreport: {{ at: every 3 s }}\n"
        );
        await TellTests.Known(sentry, "hook");
        await sentry.Ok("tell", "--test", "hook");
        await Sentry.Eventually(() => receiver.Calls.ToList().Any(call => Data(call, "topic") == "report"));
        Assert.Equal("trial", Data(receiver.Calls[0], "topic"));
        Assert.All(
            receiver.Calls.ToList(),
            call => Assert.Contains(Data(call, "topic"), (string[])["trial", "report"])
        );
    }

    /// <summary>For a receiver that reads no CloudEvents: signed all the same, and JSON whatever a program has printed.</summary>
    [Fact]
    public async Task Its_body_can_be_in_somebodys_own_form()
    {
        using var receiver = new Receiver(
            async (_, stream) => await Say(stream, "HTTP/1.1 204 No Content\r\nContent-Length: 0\r\n\r\n")
        );
        await using var sentry = await Sentry.Start();
        await sentry.Piped(Key, "secret", "set", "--sentry", "HOOK_KEY");
        await TellTests.Set(
            sentry,
            $$"""
            tell:
              - webhook: '{{receiver.Url}}'
                name: hook
                key: HOOK_KEY
                body: '{"message": "{subject} ({topic})", "more": "{text}", "number": {alert} }'
              - { webhook: '{{receiver.Url}}', name: plain, body: "{urgency}: {subject}" }

            """
        );
        await TellTests.Known(sentry, "hook", "plain");
        await sentry.Wrap(
            "gate",
            [
                "--title",
                "The \"gate\" \\ counter",
                .. "--proof up-for:0s --recover never -- /bin/sh -c".Split(' '),
                "echo '\"quoted\" \\ and a tab\t'; sleep 0.2; exit 3",
            ]
        );
        await sentry.Calm("start", "gate");
        await Sentry.Eventually(() => receiver.Calls.ToList().Count >= 2);
        var json = receiver.Calls.ToList().Single(call => call.Headers["content-type"] == "application/json");
        var told = JsonDocument.Parse(json.Body).RootElement;
        Assert.StartsWith("The \"gate\" \\ counter", told.GetProperty("message").GetString(), StringComparison.Ordinal);
        Assert.Contains("\"quoted\" \\ and a tab", told.GetProperty("more").GetString(), StringComparison.Ordinal);
        Assert.Equal(1, told.GetProperty("number").GetInt64());
        Holds(json, receiver.Url);
        var plain = receiver
            .Calls.ToList()
            .Single(call => call.Headers["content-type"].StartsWith("text/plain", StringComparison.Ordinal));
        Assert.StartsWith("urgent: The \"gate\" \\ counter", plain.Body, StringComparison.Ordinal);

        await TellTests.Set(sentry, $"tell:\n  - {{ webhook: '{receiver.Url}', name: hook, body: 'x {{subjekt}}' }}\n");
        await Sentry.Eventually(async () =>
            (await sentry.Calm("host", "status")).Output.Contains("tell[0].body", StringComparison.Ordinal)
        );
    }

    private static string? Data(Call call, string field) =>
        JsonDocument.Parse(call.Body).RootElement.GetProperty("data").GetProperty(field).GetString();

    /// <summary>As RFC 9421, section 3.2, and RFC 9530 say it is to be verified.</summary>
    private static void Holds(Call call, string url)
    {
        var digest = $"sha-256=:{Convert.ToBase64String(SHA256.HashData(Encoding.UTF8.GetBytes(call.Body)))}:";
        Assert.Equal(digest, call.Headers["content-digest"]);
        var input = Input().Match(call.Headers["signature-input"]);
        Assert.True(input.Success, call.Headers["signature-input"]);
        var signed = new StringBuilder();
        foreach (var component in input.Groups["components"].Value.Split(' '))
            signed.Append(
                component
                    + ": "
                    + component switch
                    {
                        "\"@method\"" => "POST",
                        "\"@target-uri\"" => url,
                        _ => call.Headers[component.Trim('"')],
                    }
                    + "\n"
            );
        signed.Append($"\"@signature-params\": {input.Groups["all"].Value}");
        var expected = Convert.ToBase64String(
            HMACSHA256.HashData(Encoding.UTF8.GetBytes(Key), Encoding.ASCII.GetBytes(signed.ToString()))
        );
        Assert.Equal($"sentry=:{expected}:", call.Headers["signature"]);
        var age =
            DateTimeOffset.UtcNow.ToUnixTimeSeconds()
            - long.Parse(input.Groups["created"].Value, CultureInfo.InvariantCulture);
        Assert.InRange(age, -1, 600);
    }

    [GeneratedRegex(
        "^sentry=(?<all>\\((?<components>[^)]*)\\);created=(?<created>\\d+);keyid=\"HOOK_KEY\";alg=\"hmac-sha256\")$"
    )]
    private static partial Regex Input();

    [Fact]
    public async Task A_receiver_that_fails_hangs_up_redirects_or_never_ends_is_asked_again_and_gets_the_same_event()
    {
        using var elsewhere = new Receiver((_, _) => Task.CompletedTask);
        using var receiver = new Receiver(
            async (number, stream) =>
            {
                switch (number)
                {
                    case 0:
                        await Say(stream, "HTTP/1.1 500 Oh\r\nContent-Length: 9\r\n\r\nno paper\n");
                        break;
                    case 1:
                        await Say(
                            stream,
                            $"HTTP/1.1 302 Found\r\nLocation: {elsewhere.Url}\r\nContent-Length: 0\r\n\r\n"
                        );
                        break;
                    case 2:
                        break; // hangs up
                    case 3:
                        await Task.Delay(Timeout.Infinite); // says nothing
                        break;
                    default:
                        // The answer is there; its body goes on for ever.
                        await Say(stream, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n");
                        try
                        {
                            while (true)
                                await Say(stream, "400\r\n" + new string('x', 1024) + "\r\n");
                        }
                        catch (IOException)
                        {
                            // It has had enough.
                        }

                        break;
                }
            }
        );
        await using var sentry = await Telling(receiver);
        await Sentry.Eventually(async () => await TellTests.StateOf(sentry, 1) == "delivered");
        Assert.Empty(elsewhere.Calls);
        Assert.Equal(5, receiver.Calls.Count);
        Assert.Single(receiver.Calls.Select(call => call.Body).Distinct());
        Assert.Equal(5, (await TellTests.Messages(sentry))[0].GetProperty("tries").GetInt32());
    }

    [Theory]
    [InlineData("3")]
    [InlineData(null)]
    public async Task A_receiver_says_how_long_it_is_to_be_left_alone(string? seconds)
    {
        var times = new List<DateTimeOffset>();
        using var receiver = new Receiver(
            async (number, stream) =>
            {
                times.Add(DateTimeOffset.UtcNow);
                // By its own clock, which is an hour slow.
                var now = DateTimeOffset.UtcNow.AddHours(-1);
                await Say(
                    stream,
                    number == 0
                        ? $"HTTP/1.1 503 Later\r\nDate: {now:R}\r\nRetry-After: {seconds ?? $"{now.AddSeconds(3):R}"}\r\nContent-Length: 0\r\n\r\n"
                        : "HTTP/1.1 204 Taken\r\n\r\n"
                );
            }
        );
        await using var sentry = await Telling(receiver);
        await Sentry.Eventually(async () => await TellTests.StateOf(sentry, 1) == "delivered");
        Assert.Equal(2, times.Count);
        Assert.True(times[1] - times[0] >= TimeSpan.FromSeconds(2.9), "it was asked again too soon");
    }

    [Fact]
    public async Task What_a_receiver_will_never_take_is_given_up()
    {
        using var receiver = new Receiver(
            async (_, stream) => await Say(stream, "HTTP/1.1 422 No\r\nContent-Length: 8\r\n\r\nno such\n")
        );
        await using var sentry = await Telling(receiver);
        await Sentry.Eventually(async () => await TellTests.StateOf(sentry, 1) == "refused");
        Assert.Contains("was refused for good", (await sentry.Ok("logbook")).Output, StringComparison.Ordinal);
    }
}
