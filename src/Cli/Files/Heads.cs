using CalmSentry.Cli.Wire;
using Microsoft.Win32.SafeHandles;

namespace CalmSentry.Cli.Files;

/// <summary>
/// Which revision a directory under version control has, as its own files name it (gitrepository-layout(5)): read as anybody's files,
/// nothing of it is run.
/// </summary>
internal static class Heads
{
    private const int Longest = 64 << 10,
        LongestPacked = 1 << 20,
        Shown = 12;

    /// <returns>Null: there is none, or it cannot be told.</returns>
    public static string? Of(SafeFileHandle directory)
    {
        try
        {
            using var own = SafeRead.Below(directory, ".git", ".git");
            if (own is null || !SafeRead.Of(own).IsDirectory || Text(own, "HEAD", Longest) is not { } head)
                return null;
            const string reference = "ref: ";
            if (!head.StartsWith(reference, StringComparison.Ordinal))
                return IsId(head) ? head[..Shown] : null;
            var name = head[reference.Length..].Trim();
            if (
                name.Split('/').Any(part => part.Length == 0 || part[0] == '.')
                || !name.StartsWith("refs/", StringComparison.Ordinal)
            )
                return null;
            var id = Loose(own, name) ?? Packed(own, name);
            var branch = name.StartsWith("refs/heads/", StringComparison.Ordinal) ? name["refs/heads/".Length..] : name;
            return id is null ? null : $"{branch} {id[..Shown]}";
        }
        catch (Failure)
        {
            return null; // whatever it is, it is not needed
        }
    }

    private static string? Loose(SafeFileHandle own, string name)
    {
        var parts = name.Split('/');
        var at = own;
        var opened = new List<SafeFileHandle>();
        try
        {
            foreach (var part in parts[..^1])
            {
                if (SafeRead.Below(at, part, part) is not { } next)
                    return null;
                opened.Add(next);
                if (!SafeRead.Of(next).IsDirectory)
                    return null;
                at = next;
            }

            return Text(at, parts[^1], Longest) is { } id && IsId(id) ? id : null;
        }
        finally
        {
            opened.ForEach(one => one.Dispose());
        }
    }

    private static string? Packed(SafeFileHandle own, string name) =>
        Text(own, "packed-refs", LongestPacked)
            ?.Split('\n')
            .Select(line => line.Split(' ', 2))
            .FirstOrDefault(words => words is [var id, var of] && of.Trim() == name && IsId(id))
            ?[0];

    private static string? Text(SafeFileHandle directory, string name, int longest)
    {
        using var file = SafeRead.Below(directory, name, name);
        return file is null ? null : SafeRead.Text(file, name, longest).Trim();
    }

    private static bool IsId(string text) => text.Length is 40 or 64 && text.All(char.IsAsciiHexDigit);
}
