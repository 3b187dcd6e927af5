using System.CommandLine;
using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Server;

var root = new Option<string?>("--root")
{
    Description =
        $"Directory all places lie under, for trials and several sentries on one machine (also {Places.Variable})",
};
var port = new Option<string?>("--port")
{
    Description =
        $"TCP port of the console on loopback; 0 picks a free one (default: as in etc/calm-sentry/sentry.yaml, "
        + $"else {Places.ConsolePort} for root, {Places.ConsolePortOfOthers} for others)",
};
port.Validators.Add(result =>
{
    if (result.Tokens is [var given] && Number(given.Value) is null)
        result.AddError($"--port: found '{given.Value}'; allowed: a whole number from 0 to 65535");
});
var serve = new Command("serve", "Serve in the foreground: keep services, answer calm and the console") { root, port };
serve.SetAction(
    (parsed, cancellation) => Serve.Run(parsed.GetValue(root), Number(parsed.GetValue(port)), cancellation)
);
return await new RootCommand("Calm Sentry: keeps ordinary programs running as background services") { serve }
    .Parse(args)
    .InvokeAsync()
    .ConfigureAwait(false);

static int? Number(string? text) =>
    int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number <= 65535
        ? number
        : null;
