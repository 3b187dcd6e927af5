using System.CommandLine;
using System.CommandLine.Parsing;
using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Engine.Output;
using CalmSentry.Server;

if (args is [Packing.Word, var parent, var way, .. var files]) // the server's own: no command for people
    return Packing.Run(parent, way, files);
var root = new Option<string?>("--root");
var port = new Option<string?>("--port");
port.Validators.Add(result =>
{
    if (result.Tokens is [var given] && Number(given.Value) is null)
        result.AddError($"--port: found '{given.Value}'; allowed: a whole number from 0 to 65535");
});
var serve = new Command("serve") { root, port };
serve.SetAction(
    (parsed, cancellation) => Serve.Run(parsed.GetValue(root), Number(parsed.GetValue(port)), cancellation)
);
if (args is [] || args.Any(word => word is "--help" or "-h" or "-?"))
{
    Console.Out.WriteLine(
        $"""
        Calm Sentry's service: keeps ordinary programs running in the background.

        Usage: calm-sentry serve [--root DIRECTORY] [--port NUMBER]

          --root DIRECTORY   All places lie under it, for trials and several sentries on
                             one machine (also {Places.Variable})
          --port NUMBER      TCP port of the console on loopback; 0 picks a free one (left
                             out: as in the settings, else {Places.ConsolePort} for root, {Places.ConsolePortOfOthers} for others)
          --version          Which version it is

        It serves in the foreground until SIGTERM or Ctrl-C; programs go on meanwhile.
        'calm --help' shows what the client does.
        """
    );
    return args is [] ? 2 : 0;
}

var parsed = new RootCommand { serve }.Parse(args);
var wrong =
    parsed.UnmatchedTokens is [var word, ..] ? $"it takes no '{word}'"
    : parsed.Errors is not [var error, ..] ? null
    : error.SymbolResult is OptionResult { Tokens: [] } option ? $"{option.Option.Name} needs a value"
    : error.SymbolResult is CommandResult ? "it needs a command, which is: serve"
    : error.Message;
if (wrong is null)
    return await parsed.InvokeAsync().ConfigureAwait(false);
await Console
    .Error.WriteLineAsync($"calm-sentry: {wrong}.\n'calm-sentry --help' shows what is allowed.")
    .ConfigureAwait(false);
return 2;

static int? Number(string? text) =>
    int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number <= 65535
        ? number
        : null;
