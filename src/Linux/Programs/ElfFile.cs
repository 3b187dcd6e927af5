using System.Buffers.Binary;
using System.Runtime.InteropServices;
using System.Text;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Linux.Programs;

/// <summary>The head of a native program (elf(5)): what machine it is for, and the loader it asks for.</summary>
/// <param name="Machine">e_machine.</param>
/// <param name="Loader">PT_INTERP: the dynamic loader; null for a static program.</param>
public sealed record ElfFile(int Bits, int Machine, string? Loader)
{
    private static readonly Dictionary<int, string> Machines = new()
    {
        [3] = "x86 (32 bit)",
        [8] = "MIPS",
        [20] = "PowerPC",
        [21] = "PowerPC (64 bit)",
        [22] = "s390",
        [40] = "ARM (32 bit)",
        [62] = "x86-64",
        [183] = "ARM64",
        [243] = "RISC-V",
    };

    /// <summary>The head, or null when the file is no native program.</summary>
    /// <exception cref="IOException">The file cannot be read.</exception>
    public static ElfFile? Read(string path)
    {
        using var file = Held.Read(Ground.Program, path);
        Span<byte> head = stackalloc byte[64];
        if (file.ReadAtLeast(head, 64, throwOnEndOfStream: false) < 52 || !head.StartsWith("\u007fELF"u8))
            return null;
        var wide = head[4] == 2;
        if (head[5] != 1)
            return new(wide ? 64 : 32, BinaryPrimitives.ReadUInt16BigEndian(head[18..]), null);
        var machine = BinaryPrimitives.ReadUInt16LittleEndian(head[18..]);
        var at = wide
            ? BinaryPrimitives.ReadInt64LittleEndian(head[32..])
            : BinaryPrimitives.ReadUInt32LittleEndian(head[28..]);
        var size = BinaryPrimitives.ReadUInt16LittleEndian(head[(wide ? 54 : 42)..]);
        var count = BinaryPrimitives.ReadUInt16LittleEndian(head[(wide ? 56 : 44)..]);
        Span<byte> entry = stackalloc byte[56];
        for (var i = 0; i < count && size is >= 32 and <= 56; i++)
        {
            if (at < 0 || at > file.Length - size - ((long)i * size))
                break;
            file.Position = at + ((long)i * size);
            if (file.ReadAtLeast(entry[..size], size, throwOnEndOfStream: false) < size)
                break;
            if (BinaryPrimitives.ReadUInt32LittleEndian(entry) != 3)
                continue; // PT_INTERP
            var offset = wide
                ? BinaryPrimitives.ReadInt64LittleEndian(entry[8..])
                : BinaryPrimitives.ReadUInt32LittleEndian(entry[4..]);
            var length = wide
                ? BinaryPrimitives.ReadInt64LittleEndian(entry[32..])
                : BinaryPrimitives.ReadUInt32LittleEndian(entry[16..]);
            if (length is < 2 or > 4096)
                break;
            if (offset < 0 || offset > file.Length - length)
                break;
            var loader = new byte[length];
            file.Position = offset;
            if (file.ReadAtLeast(loader, loader.Length, throwOnEndOfStream: false) < loader.Length)
                break;
            return new(wide ? 64 : 32, machine, Encoding.UTF8.GetString(loader).TrimEnd('\0'));
        }

        return new(wide ? 64 : 32, machine, null);
    }

    public string MachineName => Machines.GetValueOrDefault(Machine, $"machine {Machine}");

    public static string OwnMachineName => Machines[OwnMachine];

    /// <summary>Whether this kernel runs programs of that machine by itself.</summary>
    public bool IsForThisMachine =>
        Machine == OwnMachine || (OwnMachine == 62 && Machine == 3) || (OwnMachine == 183 && Machine == 40);

    private static int OwnMachine => RuntimeInformation.OSArchitecture == Architecture.Arm64 ? 183 : 62;
}
