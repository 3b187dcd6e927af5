using CalmSentry.Tests.Engine.Linux.Foreign;
using SharpFuzz;

// One reader, fed by a fuzzer that sees which branches each input takes: tools/fuzz.sh.
var read = ForeignReaders.All[args[0]];
Fuzzer.OutOfProcess.Run(stream =>
{
    using var bytes = new MemoryStream();
    stream.CopyTo(bytes);
    read(bytes.ToArray());
});
