using System.Runtime.InteropServices;
using System.Text;

namespace CalmSentry.Linux.Native;

/// <summary>A NUL-terminated UTF-8 copy of a string outside the managed heap, freed on dispose.</summary>
public readonly unsafe struct CString : IDisposable
{
    /// <exception cref="ArgumentException">It holds NUL: the kernel would see another, shorter text.</exception>
    public CString(string text)
    {
        if (text.Contains('\0', StringComparison.Ordinal))
            throw new ArgumentException("a text for the kernel cannot hold NUL", nameof(text));
        var length = Encoding.UTF8.GetByteCount(text);
        Pointer = (byte*)NativeMemory.Alloc((nuint)length + 1);
        Encoding.UTF8.GetBytes(text, new Span<byte>(Pointer, length));
        Pointer[length] = 0;
    }

    public byte* Pointer { get; }

    public void Dispose() => NativeMemory.Free(Pointer);
}
