namespace CalmSentry.Inspection.Rehearsals;

/// <summary>Signs that a program behaves otherwise because it sees no terminal, or no display.</summary>
/// <param name="output">The file that its output goes to.</param>
internal sealed class TerminalSigns(string output)
{
    /// <summary>What the C library, and most others, gather before they write to what is no terminal (setvbuf(3)).</summary>
    private const int Block = 4096;

    /// <summary>What programs, and the C library for them (ENOTTY), say that want one.</summary>
    private static readonly string[] Wanted =
    [
        "not a tty",
        "not a terminal",
        "isn't a tty",
        "isn't a terminal",
        "inappropriate ioctl for device",
        "no tty present",
        "no controlling terminal",
        "must be run from a terminal",
        "requires a terminal",
        "error opening terminal",
        "term environment variable not set",
        "terminal is required",
    ];

    private long last = -1;

    /// <summary>What programs, and the libraries below them, say that find no display.</summary>
    private static readonly string[] WantedDisplay =
    [
        "cannot open display",
        "can't open display",
        "could not open display",
        "could not connect to display",
        "no display name and no $display",
        "no x11 display variable",
        "display not set",
    ];

    /// <summary>The line in which it asks for a terminal; null: it does not.</summary>
    public string? Asks { get; private set; }

    /// <summary>The line in which it asks for a display; null: it does not.</summary>
    public string? AsksForDisplay { get; private set; }

    /// <summary>What it printed stood, for a while, at whole blocks within a line: it gathers what it prints.</summary>
    public bool Gathers { get; private set; }

    /// <summary>It had printed nothing before it was asked to end.</summary>
    public bool WasSilent { get; private set; }

    /// <summary>Lines that it printed after that.</summary>
    public int LinesAtEnd { get; private set; }

    public void Line(string line, bool stopping)
    {
        if (WasSilent && stopping)
            LinesAtEnd++;
        if (
            AsksForDisplay is null
            && WantedDisplay.Any(words => line.Contains(words, StringComparison.OrdinalIgnoreCase))
        )
            AsksForDisplay = line.Trim();
        if (Asks is null && Wanted.Any(words => line.Contains(words, StringComparison.OrdinalIgnoreCase)))
            Asks = line.Trim();
    }

    /// <summary>Looks how much there is; again and again.</summary>
    public void Look()
    {
        try
        {
            using var file = new FileStream(output, FileMode.Open, FileAccess.Read, FileShare.ReadWrite);
            var length = file.Length;
            if (length == last && length > 0 && length % Block == 0)
            {
                file.Position = length - 1;
                Gathers |= file.ReadByte() != '\n';
            }

            last = length;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            last = -1; // not there yet
        }
    }

    /// <summary>It is asked to end now.</summary>
    public void Stopping() => WasSilent = last <= 0;
}
