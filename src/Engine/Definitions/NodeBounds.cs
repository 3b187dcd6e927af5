using CalmSentry.Core.Definitions;
using CalmSentry.Core.Settling;

namespace CalmSentry.Engine.Definitions;

/// <summary>How large what somebody sends as a definition may be, whatever it is written in.</summary>
internal sealed class NodeBounds
{
    /// <summary>Maps and lists within each other, nodes in all, characters of one text, and of all texts.</summary>
    public const int Deepest = 32,
        MostNodes = 50_000,
        LongestText = Blanks.LongestText,
        MostCharacters = 2_000_000;

    private int depth;

    public int Nodes { get; private set; }

    public long Characters { get; private set; }

    /// <param name="characters">Of their texts: what an alias stands for is written out again wherever it stands.</param>
    public void Count(string path, Place? place, int nodes, long characters)
    {
        Nodes += nodes;
        Characters += characters;
        if (Characters > MostCharacters)
            throw new PassedException(
                new(
                    At(path),
                    $"more than {MostCharacters} characters in all",
                    $"texts of at most {MostCharacters} characters together, those that aliases stand for counted each time",
                    place
                )
            );
        if (Nodes > MostNodes)
            throw new PassedException(
                new(
                    At(path),
                    $"more than {MostNodes} values in all",
                    $"a definition of at most {MostNodes} values, those that aliases stand for counted each time",
                    place
                )
            );
    }

    public void Enter(string path, Place? place)
    {
        if (++depth > Deepest)
            throw new PassedException(
                new(At(path), $"more than {Deepest} levels", $"maps and lists at most {Deepest} deep", place)
            );
    }

    public void Leave() => depth--;

    /// <summary>The text, if it is one that can be kept and handed to a program.</summary>
    public static string Text(string text, string path, Place? place)
    {
        if (text.Length > LongestText)
            throw new PassedException(
                new(At(path), $"a text of {text.Length} characters", $"at most {LongestText}", place)
            );
        if (IsNoText(text))
            throw new PassedException(
                new(
                    At(path),
                    "a text with NUL or half a character in it",
                    "text without either: no file name, argument or variable can hold them",
                    place
                )
            );
        return text;
    }

    /// <summary>Where a mistake is; a name may be as long as a text.</summary>
    public static string At(string path) =>
        path.Length == 0 ? "definition"
        : path.Length <= LongestPath ? path
        : path[..LongestPath] + "…";

    private const int LongestPath = 500;

    public static PassedException Twice(string path, Place? place) =>
        new(new(At(path), "this key a second time", "each key once", place));

    /// <summary>Ends the reading; the error is the answer.</summary>
    public sealed class PassedException(DefinitionError error) : Exception
    {
        public DefinitionError Error => error;
    }

    /// <summary>What no file name, argument or message can hold: NUL, or half a character.</summary>
    public static bool IsNoText(string text)
    {
        for (var i = 0; i < text.Length; i++)
        {
            var c = text[i];
            if (c is '\0')
                return true;
            if (!char.IsSurrogate(c))
                continue;
            if (!char.IsHighSurrogate(c) || i + 1 >= text.Length || !char.IsLowSurrogate(text[++i]))
                return true;
        }

        return false;
    }
}
