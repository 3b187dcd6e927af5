namespace CalmSentry.Cli.Host;

/// <summary>
/// Completion for shells: all of them ask calm itself what may follow, so commands, flags and services are always those
/// there are.
/// </summary>
internal static class Completions
{
    private const string Share = "/usr/local/share";

    public static IReadOnlyList<(string Path, string Text)> All { get; } =
    [
        (
            $"{Share}/bash-completion/completions/calm",
            """
            _calm() {
              local line="${COMP_LINE:0:COMP_POINT}"
              mapfile -t COMPREPLY < <(compgen -W "$(calm "[suggest:${#line}]" "$line" 2>/dev/null)" -- "${COMP_WORDS[COMP_CWORD]}")
            }
            complete -o default -F _calm calm

            """
        ),
        (
            $"{Share}/zsh/site-functions/_calm",
            """
            #compdef calm
            local line="${words[*]}"
            local -a found
            found=("${(@f)$(calm "[suggest:${#line}]" "$line" 2>/dev/null)}")
            compadd -a found

            """
        ),
        (
            $"{Share}/fish/vendor_completions.d/calm.fish",
            """
            complete -c calm -f -a '(set -l line (commandline -cp); calm "[suggest:"(string length -- $line)"]" "$line" 2>/dev/null)'

            """
        ),
    ];
}
