using System.CommandLine;
using CalmSentry.Cli.Commands;
using CalmSentry.Cli.Help;

namespace CalmSentry.Tests.Front.Cli;

/// <summary>Whoever asks how a command goes is told, whatever else was typed or left out.</summary>
public class HelpTests
{
    public static TheoryData<string> Paths()
    {
        var all = new TheoryData<string>();
        Walk(CalmSentry.Cli.Program.Commands(new Typed([], null)), []);
        return all;

        void Walk(Command command, string[] path)
        {
            all.Add(string.Join(' ', path));
            foreach (var below in command.Subcommands)
                Walk(below, [.. path, below.Name]);
        }
    }

    [Theory]
    [MemberData(nameof(Paths))]
    public void Every_command_answers_when_asked_how_it_goes(string path)
    {
        string[] words = [.. path.Split(' ', StringSplitOptions.RemoveEmptyEntries), "--help"];
        var root = CalmSentry.Cli.Program.Commands(new Typed(words, null));
        HelpText.Use(root);
        var parsed = root.Parse(words);
        Assert.Empty(parsed.Errors);
        Assert.IsType<HelpText>(parsed.Action);
    }
}
