using static CalmSentry.Core.Definitions.KeyOf<CalmSentry.Core.Definitions.FilesPart>;

namespace CalmSentry.Core.Definitions;

/// <summary>The keys of <c>files</c>.</summary>
public static class FilesKeys
{
    private const int MostVersions = 50,
        LongestPath = 1000;

    internal static Shape<FilesPart> Shape { get; } =
        new(
            Value(
                "directory",
                Forms.Path,
                part => part.Directory,
                (part, directory) =>
                    part with
                    {
                        Directory = directory.Length > 1 ? directory.TrimEnd('/') : directory,
                    },
                "The directory with the program's files: 'calm swap' exchanges it as a whole."
            ) with
            {
                Label = "Its files lie in",
                Default = "program.directory, when the program lies in it; else the program's own directory",
                Example = "/srv/skerry/board",
                Flag = "files-directory",
            },
            Texts(
                "data",
                part => part.Data,
                (part, data) => part with { Data = data },
                "What in it is no program file but data of the program's own: a swap leaves it as it is. Paths from there; in the "
                    + "last name * and ? stand for any letters. Files of output.files need not be named.",
                Forms.Text(
                    "paths from the directory, such as day.book or spool/*.txt, without '..' and with * and ? in the last name alone",
                    IsData
                )
            ) with
            {
                Label = "Its own data",
                Default = "none",
                IsNothingLeftOut = true,
                Example = "[day.book, spool]",
                Flag = "data",
                WordForm = "PATH",
            },
            Value(
                "versions",
                Forms.Whole(1, MostVersions),
                part => part.Versions,
                (part, versions) => part with { Versions = versions },
                "So many earlier versions are kept beside the directory, for 'calm swap --back'."
            ) with
            {
                Label = "Versions kept",
                Default = "3",
                Example = "5",
                Flag = "versions",
            },
            Value(
                "watch-for",
                Forms.LengthFrom(TimeSpan.Zero),
                part => part.WatchFor,
                (part, length) => part with { WatchFor = length },
                "So long after its proof it must stay well with new files; if it does not, the files before come back."
            ) with
            {
                Label = "Watched after a swap for",
                Default = "1 min",
                Example = "10 min",
                Flag = "swap-watch",
            }
        );

    private static bool IsData(string path)
    {
        var parts = path.TrimEnd('/').Split('/');
        return path.Length is > 0 and <= LongestPath
            && !path.Any(char.IsControl)
            && parts.All(part => part is not ("" or "." or ".."))
            && parts.SkipLast(1).All(part => part.AsSpan().IndexOfAny('*', '?') < 0);
    }
}
