namespace CalmSentry.Core.Definitions;

/// <summary>A kind of script and what executes it.</summary>
/// <param name="Commands">Names of its interpreters, the preferred first.</param>
/// <param name="Before">Arguments between the interpreter and the script.</param>
/// <param name="Version">Arguments that make the interpreter print its version.</param>
public sealed record ScriptKind(string Name, string[] Extensions, string[] Commands, string[] Before, string[] Version)
{
    public static IReadOnlyList<ScriptKind> All { get; } =
    [
        new("shell", [".sh", ".bash"], ["sh", "bash", "dash"], [], []),
        new("Python", [".py", ".pyz"], ["python3", "python"], [], ["--version"]),
        new("JavaScript", [".js", ".mjs", ".cjs"], ["node", "nodejs"], [], ["--version"]),
        new("PowerShell", [".ps1"], ["pwsh"], ["-NoLogo", "-NonInteractive", "-File"], ["--version"]),
        new("Perl", [".pl"], ["perl"], [], ["-e", "print $^V"]),
        new("Ruby", [".rb"], ["ruby"], [], ["--version"]),
        new("PHP", [".php"], ["php"], [], ["--version"]),
        new("Lua", [".lua"], ["lua", "lua5.4", "lua5.3"], [], ["-v"]),
        new("Tcl", [".tcl"], ["tclsh"], [], []),
        new("Java archive", [".jar"], ["java"], ["-jar"], ["--version"]),
        new(".NET assembly", [".dll"], ["dotnet"], [], ["--version"]),
    ];

    public static ScriptKind? OfFile(string path) =>
        All.FirstOrDefault(kind => kind.Extensions.Contains(Path.GetExtension(path), StringComparer.OrdinalIgnoreCase));

    /// <summary>By the name of an interpreter: <c>/usr/bin/python3.11</c> is Python.</summary>
    public static ScriptKind? OfInterpreter(string interpreter)
    {
        var name = Path.GetFileName(interpreter);
        return All.FirstOrDefault(kind => kind.Commands.Contains(name))
            ?? All.FirstOrDefault(kind =>
                kind.Commands.Any(command =>
                    name.StartsWith(command.TrimEnd('3'), StringComparison.Ordinal)
                    && name.Length > command.Length
                    && !char.IsLetter(name[^1])
                )
            );
    }

    /// <summary>Options with a word of their own.</summary>
    private static readonly string[] WithWord =
    [
        "-W",
        "-X",
        "-I",
        "-S",
        "-t",
        "-d",
        "-r",
        "--require",
        "--import",
        "-cp",
        "-classpath",
        "--class-path",
    ];

    /// <summary>Whether behind an option stands the program itself, or a module's name: then there is no script.</summary>
    private bool IsInstead(string option) =>
        Name switch
        {
            "shell" => !option.StartsWith("--", StringComparison.Ordinal)
                && option.Contains('c', StringComparison.Ordinal),
            "Perl" or "Ruby" => !option.StartsWith("--", StringComparison.Ordinal) && option[^1] is 'e' or 'E',
            _ => option is "-m" or "-c" or "-e" or "--eval" or "-p" or "--print",
        };

    /// <summary>Whether the program itself, or a module's name, stands among its interpreter's arguments.</summary>
    public bool IsAmong(IReadOnlyList<string> arguments)
    {
        for (var i = 0; i < arguments.Count && arguments[i].StartsWith('-'); i++)
            if (IsInstead(arguments[i]))
                return true;
            else if (Name == "shell" ? arguments[i] == "-o" : WithWord.Contains(arguments[i]))
                i++;
        return false;
    }

    /// <summary>Which of its interpreter's arguments is the script; -1: none is seen to be.</summary>
    public int ScriptAmong(IReadOnlyList<string> arguments)
    {
        for (var i = 0; i < arguments.Count; i++)
            if (!arguments[i].StartsWith('-'))
                return Before.Length == 0 || arguments.Take(i).Contains(Before[^1]) ? i : -1;
            else if (IsInstead(arguments[i]))
                return -1;
            else if (Name == "shell" ? arguments[i] == "-o" : WithWord.Contains(arguments[i]))
                i++;
        return -1;
    }

    /// <summary>Whether a word can only be meant as such a script's file.</summary>
    public bool IsFile(string word) =>
        word.Contains('/', StringComparison.Ordinal)
        || Extensions.Contains(Path.GetExtension(word), StringComparer.OrdinalIgnoreCase);
}
