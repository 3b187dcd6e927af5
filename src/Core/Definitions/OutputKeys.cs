using CalmSentry.Core.Text;
using static CalmSentry.Core.Definitions.KeyOf<CalmSentry.Core.Definitions.OutputPart>;

namespace CalmSentry.Core.Definitions;

/// <summary>The keys of <c>output</c>.</summary>
public static class OutputKeys
{
    /// <summary>Encodings that a program's output may have, by their names in the list of IANA (RFC 2978).</summary>
    private static readonly string[] Encodings =
    [
        OutputPart.Utf8,
        "utf-16le",
        "utf-16be",
        "windows-1250",
        "windows-1251",
        "windows-1252",
        "windows-1253",
        "windows-1254",
        "windows-1255",
        "windows-1256",
        "windows-1257",
        "windows-1258",
        "iso-8859-1",
        "iso-8859-2",
        "iso-8859-5",
        "iso-8859-7",
        "iso-8859-9",
        "iso-8859-15",
        "ibm437",
        "ibm850",
        "ibm852",
        "koi8-r",
        "koi8-u",
        "shift_jis",
        "euc-jp",
        "gb18030",
        "big5",
        "euc-kr",
    ];

    private static readonly Shape<OutputPart> TurnOver = new(
        Value(
            "at",
            Forms.Size,
            part => part.TurnAt,
            (part, at) => part with { TurnAt = at },
            "At this size, at the end of a line, output.log becomes output.N.log and a new one begins."
        ) with
        {
            Label = "Turned over at",
            Default = "32 MiB",
            Example = "10 MiB",
            Flag = "turn-at",
        },
        Value(
            "each",
            Forms.Choice(
                ("never", TurnEach.Never),
                ("hour", TurnEach.Hour),
                ("day", TurnEach.Day),
                ("week", TurnEach.Week),
                ("month", TurnEach.Month)
            ),
            part => part.TurnEach,
            (part, each) => part with { TurnEach = each },
            "Also when one begins, by the host's clock and zone; a week begins on Monday."
        ) with
        {
            Label = "Turned over each",
            Default = "never",
            Example = "day",
            Flag = "turn-each",
        },
        Value(
            "at-start",
            Forms.Switch,
            part => part.TurnAtStart,
            (part, at) => part with { TurnAtStart = at },
            "Also at each start, so that each run has files of its own."
        ) with
        {
            Label = "Turned over at start",
            Default = "false",
            Flag = "turn-at-start",
        }
    );

    private static readonly Shape<OutputPart> Keep = new(
        Value(
            "files",
            Forms.Whole(0, 100_000),
            part => part.KeepFiles,
            (part, files) => part with { KeepFiles = files },
            "So many files beside output.log are kept."
        ) with
        {
            Label = "Files kept",
            Default = "as many as 'most' allows",
            Example = "10",
            Flag = "keep-files",
        },
        Value(
            "for",
            Forms.LengthFrom(TimeSpan.FromMinutes(1)),
            part => part.KeepFor,
            (part, length) => part with { KeepFor = length },
            "A file is kept so long after it was turned over."
        ) with
        {
            Label = "Kept for",
            Default = "as long as 'most' allows",
            Example = "30 d",
            Flag = "keep-for",
        },
        Value(
            "most",
            Forms.Size,
            part => part.KeepMost,
            (part, most) => part with { KeepMost = most },
            "All its output on the disk, packed as it lies there; the oldest file goes first."
        ) with
        {
            Label = "Kept at most",
            Default = "1 GiB",
            Example = "1 GiB",
            Flag = "keep-most",
        }
    );

    internal static Shape<OutputPart> Shape { get; } =
        new(
            Value(
                "directory",
                Forms.Path,
                part => part.Directory,
                (part, directory) => part with { Directory = directory },
                "A directory in which all of its output lies, in a folder that root alone can write. What there is of it is brought "
                    + "there at the next start."
            ) with
            {
                Label = "Kept in",
                Default = "a directory of its name in /var/log/calm-sentry",
                Example = "/data/logs/fare-ledger",
                Flag = "output-directory",
                AtLaunch = true,
            },
            Value(
                "write",
                Forms.Choice(("append", OutputWrite.Append), ("fresh", OutputWrite.Fresh)),
                part => part.Write,
                (part, write) => part with { Write = write },
                "append: a run goes on behind the one before. fresh: at each start output.log is emptied."
            ) with
            {
                Label = "At a start",
                Default = "append",
                Flag = "output-write",
            },
            Value(
                "stamp",
                Forms.Switch,
                part => part.Stamp,
                (part, stamp) => part with { Stamp = stamp },
                "Writes time and stream before each line in the file. When each line came is known without it, too."
            ) with
            {
                Label = "Stamped",
                Default = "false",
            },
            Map("turn-over", TurnOver, part => part, (_, part) => part, "When a new file begins."),
            Map(
                "keep",
                Keep,
                part => part,
                (_, part) => part,
                "How much of it is kept. Files that were turned over are packed (gzip)."
            ),
            Value(
                "thin-above",
                Forms.Whole(1, 1_000_000),
                part => part.ThinAbove,
                (part, lines) => part with { ThinAbove = lines },
                "Of more lines a second of one stream than this the rest is left out, and how many is written in their place."
            ) with
            {
                Label = "Thinned above (lines a second)",
                Default = "never: a program that is faster than the disk waits",
                Example = "1000",
            },
            Value(
                "when-full",
                Forms.Choice(("wait", WhenFull.Wait), ("go-on", WhenFull.GoOn)),
                part => part.WhenFull,
                (part, full) => part with { WhenFull = full },
                "On a full disk: the program waits and nothing is lost, or it goes on, and how many bytes are lost is written in "
                    + "their place once there is room."
            ) with
            {
                Label = "When the disk is full",
                Default = "wait",
            },
            Pairs(
                "files",
                Forms.Text(ServiceName.Allowed, ServiceName.IsValid),
                Forms.Path,
                part => part.Files,
                (part, files) => part with { Files = files },
                "Log files that the program writes by itself, each with a name: from then on what they get is kept beside its "
                    + "output, turned over, packed and found like it (calm output NAME --file access). Read with the rights of "
                    + "its account, while it runs."
            ) with
            {
                Label = "Log files of its own",
                Default = "none",
                IsNothingLeftOut = true,
                Example = "{ access: /srv/skerry/board/access.log }",
                Flag = "log-file",
                WordForm = "a name with a path, such as access=/srv/skerry/board/access.log",
                AtLaunch = true,
            },
            Many(
                "reopen",
                WindDownKeys.Steps,
                part => part.Reopen.IsEmpty ? null : part.Reopen,
                (part, steps) => part with { Reopen = steps },
                "What makes it open its log files anew, in order, each one of signal, send, http, command: at turn-over.at each is "
                    + "moved aside, and goes once all of it is kept. Without it they are emptied where they are, and what is "
                    + "written in that very moment is lost."
            ) with
            {
                Label = "Opens them anew at",
                Default = "they are emptied where they are",
                Example = "[{ signal: USR1 }]",
                AtLaunch = true,
            },
            Value(
                "encoding",
                Forms.OneOf(Encodings),
                part => part.Encoding,
                (part, encoding) => part with { Encoding = encoding },
                "How its characters are written. What is kept are its bytes, whatever this says."
            ) with
            {
                Default = OutputPart.Utf8,
                Example = "windows-1252",
            }
        )
        {
            Check = Check,
        };

    private static void Check(MapReader map, OutputPart part)
    {
        if (part.Stamp && part.Encoding.StartsWith("utf-16", StringComparison.Ordinal))
            map.Contradicts(
                "stamp",
                "stamps in a file of an encoding of two bytes",
                "false; 'calm output --times' shows when each line came"
            );
        if (part.KeepMost < part.TurnAt)
            map.Contradicts(
                "keep",
                $"at most {Size.Write(part.KeepMost)}, and files of {Size.Write(part.TurnAt)}",
                "keep.most of at least turn-over.at"
            );
        if (part.TurnAt > MostTurnAt)
            map.Contradicts(
                "turn-over",
                $"files of {Size.Write(part.TurnAt)}",
                "at most 1 GiB: to read in a packed file is to unpack it"
            );
    }

    private const long MostTurnAt = 1L << 30;
}
