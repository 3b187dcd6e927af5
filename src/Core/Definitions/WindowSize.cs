using System.Globalization;

namespace CalmSentry.Core.Definitions;

/// <summary>Of a display, in pixels.</summary>
public readonly record struct WindowSize(int Width, int Height)
{
    public const int Least = 64,
        Most = 4096;

    public static Form<WindowSize> Form { get; } =
        new(
            string.Create(
                CultureInfo.InvariantCulture,
                $"a size in pixels such as 1280x800, each from {Least} to {Most}"
            ),
            (string text, out WindowSize size) =>
            {
                var read = Read(text);
                size = read ?? default;
                return read is not null;
            },
            size => size.ToString()
        )
        {
            Pattern = "^[0-9]{2,4}x[0-9]{2,4}$",
            Example = "1280x800",
        };

    private static WindowSize? Read(string text) =>
        text.Split('x') is [var width, var height]
        && Forms.WholeOf(width, Least, Most) is { } wide
        && Forms.WholeOf(height, Least, Most) is { } high
            ? new(wide, high)
            : null;

    public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"{Width}x{Height}");
}
