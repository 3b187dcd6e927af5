using System.Globalization;
using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;

namespace CalmSentry.Cli.Formatting;

/// <summary>
/// Everything the client prints goes through here. Texts come from programs, arguments and files that others control,
/// and a
/// terminal obeys what is in them: control codes are shown as text (<c>\x1b</c>), and only the client's own few are
/// passed on.
/// </summary>
internal sealed partial class Terminal : TextWriter
{
    private static readonly UTF8Encoding Utf8 = new(encoderShouldEmitUTF8Identifier: false);

    /// <summary>Where bytes go; says why they could not, or null.</summary>
    internal delegate string? Sink(ReadOnlySpan<byte> bytes);

    private readonly Sink to;

    internal Terminal(Sink to) => this.to = to;

    /// <summary>
    /// By the kernel's own call (write(2)): the console's streams would switch the terminal's keypad over, and never back.
    /// </summary>
    private static Terminal Of(int descriptor)
    {
        const int getFlags = 3; // F_GETFL (fcntl(2))
        if (fcntl(descriptor, getFlags) >= 0)
            return new(bytes => WriteAll(descriptor, bytes));
        // It was closed by whoever called. Its number is taken, or a connection would get it, and the texts with it.
        Taken.Add(File.OpenHandle("/dev/null", FileMode.Open, FileAccess.ReadWrite));
        return new(_ => null);
    }

    private static unsafe string? WriteAll(int descriptor, ReadOnlySpan<byte> bytes)
    {
        const int interrupted = 4,
            notOpen = 9,
            notNow = 11,
            nobodyReads = 32;
        const short room = 4; // POLLOUT (poll(2))
        fixed (byte* all = bytes)
        {
            for (nint put = 0; put < bytes.Length; )
            {
                var more = write(descriptor, all + put, bytes.Length - put);
                if (more >= 0)
                {
                    put += more;
                    continue;
                }

                var errno = Marshal.GetLastPInvokeError();
                if (errno == notNow)
                {
                    var waited = new PollFd { Descriptor = descriptor, Asked = room };
                    _ = poll(&waited, 1, -1);
                }
                else if (errno is notOpen or nobodyReads)
                    return Closed;
                else if (errno != interrupted)
                    return Marshal.GetPInvokeErrorMessage(errno);
            }
        }

        return null;
    }

    private static readonly List<SafeFileHandle> Taken = [];

    private static Terminal? output;

    /// <summary>Why what was said could not be written, such as on a full disk; null: all of it was.</summary>
    public static string? Lost => output?.lost is var why && why != Closed ? why : null;

    private const string Closed = "";

    private string? lost;

    private const char Mark = '\uFDD0';

    /// <summary>Known to this process alone, so that no text from elsewhere can pass for a code of ours.</summary>
    private static readonly string Key = Mark + Guid.NewGuid().ToString("N"); // as random as any, without loading a library for it

    private static readonly string[] Codes =
    [
        "\u001b[31m",
        "\u001b[0m",
        "\u001b[?1049h\u001b[?25l",
        "\u001b[?25h\u001b[?1049l",
        "\u001b[H\u001b[J",
        "\u001b[?1l\u001b>",
    ];

    /// <summary>Each stands for one of the client's own codes until it is written.</summary>
    public static readonly string Red = Key + "0",
        Plain = Key + "1",
        OtherScreen = Key + "2",
        Back = Key + "3",
        Home = Key + "4",
        UsualKeys = Key + "5";

    public override Encoding Encoding => Utf8;

    public static void TakeOver()
    {
        Console.SetOut(output = Of(1));
        Console.SetError(Of(2));
    }

    /// <summary>Bytes to the standard output as they are.</summary>
    public static void Raw(ReadOnlySpan<byte> bytes) => output!.Put(bytes);

    /// <summary>Characters in a line of what the standard output, or the error output, leads to; no end where it is no terminal.</summary>
    public static int Width(bool error = false) => Size(error).Columns is > 0 and var columns ? columns : int.MaxValue;

    /// <summary>Of that terminal; 0 where it is none.</summary>
    public static unsafe (int Columns, int Rows) Size(bool error = false)
    {
        const int getWindowSize = 0x5413; // TIOCGWINSZ (ioctl_tty(2)): rows, columns, and two more, of 16 bits each
        var size = stackalloc ushort[4];
        return ioctl(error ? 2 : 1, getWindowSize, size) == 0 ? (size[1], size[0]) : (0, 0);
    }

    /// <summary>
    /// Cancelled as given, and as soon as nobody reads the standard output any more: what is followed may not write for
    /// long, and so never notice (poll(2)).
    /// </summary>
    public static CancellationTokenSource WhileRead(CancellationToken cancellation)
    {
        var source = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        new Thread(() =>
        {
            WaitForError();
            try
            {
                source.Cancel();
            }
            catch (ObjectDisposedException)
            {
                // It has ended meanwhile.
            }
        })
        {
            IsBackground = true,
        }.Start();
        return source;
    }

    private static unsafe void WaitForError()
    {
        var waited = stackalloc PollFd[1];
        waited[0] = new() { Descriptor = 1 }; // errors and the other side's leaving are always told
        while (poll(waited, 1, -1) < 0 || waited[0].Told == 0) { }
    }

    [StructLayout(LayoutKind.Sequential)]
    private struct PollFd
    {
        public int Descriptor;
        public short Asked,
            Told;
    }

    [LibraryImport("libc", SetLastError = true)]
    private static unsafe partial nint write(int descriptor, byte* bytes, nint count);

    [LibraryImport("libc")]
    private static partial int fcntl(int descriptor, int command);

    [LibraryImport("libc")]
    private static unsafe partial int poll(PollFd* descriptors, nuint count, int timeout);

    [LibraryImport("libc")]
    private static unsafe partial int ioctl(int descriptor, nuint request, void* argument);

    public override void Write(char value) => Write(value.ToString());

    public override void Write(char[] buffer, int index, int count) => Write(new string(buffer, index, count));

    public override void Write(string? value)
    {
        if (value is not null)
            Put(Utf8.GetBytes(Shown(value)));
    }

    private void Put(ReadOnlySpan<byte> bytes) => lost ??= to(bytes);

    public override void WriteLine(string? value) => Write(value + "\n");

    public override void WriteLine() => Write("\n");

    private static string Shown(string text)
    {
        var first = FirstOdd(text);
        if (first < 0)
            return text;
        var shown = new StringBuilder(text, 0, first, text.Length + 32);
        for (var i = first; i < text.Length; i++)
        {
            var c = text[i];
            if (c == Mark && string.CompareOrdinal(text, i, Key, 0, Key.Length) == 0 && i + Key.Length < text.Length)
            {
                i += Key.Length;
                shown.Append(Codes[text[i] - '0']);
            }
            else if (!IsOdd(c))
                shown.Append(c);
            else if (c == '\r' && i + 1 < text.Length && text[i + 1] == '\n')
                continue;
            else
                shown.Append(CultureInfo.InvariantCulture, $"{(c < 256 ? $"\\x{(int)c:x2}" : $"\\u{(int)c:x4}")}");
        }

        return shown.ToString();
    }

    private static int FirstOdd(string text)
    {
        for (var i = 0; i < text.Length; i++)
            if (IsOdd(text[i]))
                return i;
        return -1;
    }

    /// <summary>
    /// Control codes of both sets but tab and line end, and what turns the direction of writing around.
    /// </summary>
    private static bool IsOdd(char c) =>
        (char.IsControl(c) && c is not ('\n' or '\t'))
        || c is (>= '\u202a' and <= '\u202e') or (>= '\u2066' and <= '\u2069') or '\u2028' or '\u2029' or Mark;
}
