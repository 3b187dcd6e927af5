using System.ComponentModel;
using System.Diagnostics;
using System.Text;
using CalmSentry.Cli.Wire;

namespace CalmSentry.Cli.Guided;

/// <summary>A text in somebody's own editor, with what is wrong in it marked in its place.</summary>
internal static class Editing
{
    /// <summary>How lines begin that say what is wrong: they are no part of the text.</summary>
    private const string Mark = "#? ";

    /// <summary>Has a text edited until it is taken, or somebody has had enough.</summary>
    /// <param name="name">Of the file, without folder.</param>
    /// <param name="take">Takes the text, or throws what is wrong with it.</param>
    /// <returns>The exit code of what took it.</returns>
    /// <exception cref="Failure">It was not taken; what was written is kept, and the failure says where.</exception>
    public static async Task<int> Until(string name, string text, Func<string, string, Task<int>> take)
    {
        // For nobody else: definitions name what others need not know.
        var folder = Directory.CreateTempSubdirectory("calm-edit-").FullName;
        var path = Path.Combine(folder, name);
        var (was, shown) = (text, text);
        while (true)
        {
            await File.WriteAllTextAsync(path, shown, new UTF8Encoding(false)).ConfigureAwait(false);
            Edit(path);
            var body = Body.FromFile(path);
            text = Unmarked(body.Text);
            if (text == was)
            {
                Directory.Delete(folder, recursive: true);
                Console.WriteLine("Nothing was changed: it was left as it was.");
                return Exit.True;
            }

            try
            {
                var exit = await take(text, path).ConfigureAwait(false);
                Directory.Delete(folder, recursive: true);
                return exit;
            }
            catch (Failure failure)
            {
                // Without the marks: it is what may be given again.
                await File.WriteAllTextAsync(path, text, new UTF8Encoding(false)).ConfigureAwait(false);
                if (Console.IsInputRedirected)
                    throw Kept(failure, path);
                failure.Tell();
                if (!Asking.YesNo("Edit it again?", otherwise: true))
                    throw Kept(failure, path);
                shown = Marked(text, failure);
            }
        }
    }

    private static Failure Kept(Failure failure, string path) =>
        new(failure.ExitCode, $"{failure.Message}\nWhat was written is kept in {path}.", failure.Next, failure.Code);

    private static readonly string[] Variables = ["VISUAL", "EDITOR"];

    private static void Edit(string path)
    {
        var editor =
            Variables
                .Select(Environment.GetEnvironmentVariable)
                .FirstOrDefault(value => !string.IsNullOrWhiteSpace(value))
            ?? "vi";
        // By a shell: it may be a command with words of its own (sh(1); environ(7), EDITOR).
        var start = new ProcessStartInfo("/bin/sh", ["-c", $"{editor} \"$1\"", "sh", path]);
        try
        {
            using var process = Process.Start(start)!;
            process.WaitForExit();
            if (process.ExitCode != 0)
                throw new Failure(
                    Exit.NotTrue,
                    $"The editor ({editor}) ended with exit code {process.ExitCode}; nothing was changed.",
                    "Set another one: EDITOR=nano calm adjust … --edit"
                );
        }
        catch (Win32Exception error)
        {
            throw new Failure(Exit.NotTrue, $"The editor cannot be started: {error.Message}; nothing was changed.");
        }
    }

    private static string Marked(string text, Failure failure)
    {
        var lines = text.Split('\n').ToList();
        var placed = failure.Mistakes.Where(one => one.Line is > 0 && one.Line <= lines.Count).ToList();
        foreach (var mistake in placed.OrderByDescending(one => one.Line))
            lines.Insert(mistake.Line!.Value, Mark + mistake.Text.ReplaceLineEndings(" "));
        if (placed.Count == 0)
            lines.InsertRange(0, failure.Message.Split('\n').Select(line => Mark + line));
        lines.Insert(0, $"{Mark}Lines that begin so are no part of it.");
        return string.Join('\n', lines);
    }

    private static string Unmarked(string text) =>
        string.Join('\n', text.Split('\n').Where(line => !line.StartsWith(Mark, StringComparison.Ordinal)));
}
