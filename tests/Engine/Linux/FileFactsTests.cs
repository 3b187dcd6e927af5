using CalmSentry.Linux.Files;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Tests.Engine.Linux;

/// <summary>One file under several names is one; what took its place is another.</summary>
public class FileFactsTests
{
    [Fact]
    public void A_file_is_one_with_itself_by_any_name_and_not_with_its_copy_or_successor()
    {
        var place = Directory.CreateTempSubdirectory("calm's files ");
        try
        {
            var (file, link, copy) = (At("keeper"), At("link"), At("copy"));
            File.WriteAllText(file, "of the first version");
            File.CreateSymbolicLink(link, file);
            File.Copy(file, copy);
            Assert.True(FileFacts.AreOne(file, file));
            Assert.True(FileFacts.AreOne(link, file));
            Assert.False(FileFacts.AreOne(copy, file));
            Assert.False(FileFacts.AreOne(At("nowhere"), file));
            Assert.False(FileFacts.AreOne(At("nowhere"), At("nowhere")));
            // Held open, as a running program holds its own, so that its number is not given again.
            using var held = File.OpenRead(file);
            File.Delete(file);
            File.WriteAllText(file, "of the second version");
            Assert.False(FileFacts.AreOne($"/proc/self/fd/{held.SafeFileHandle.DangerousGetHandle()}", file));
        }
        finally
        {
            place.Delete(recursive: true);
        }

        string At(string name) => Path.Combine(place.FullName, name);
    }

    [Fact]
    public void What_is_written_at_once_is_written_since()
    {
        var place = Directory.CreateTempSubdirectory("calm's files ");
        try
        {
            // Within a tick of the kernel's clock file times stand still.
            for (var i = 0; i < 200; i++)
            {
                var (file, began) = (Path.Combine(place.FullName, $"{i}"), DateTime.UtcNow);
                File.WriteAllText(file, "");
                Assert.Contains(
                    file,
                    FileFacts.WrittenSince(
                        began,
                        [place.FullName],
                        ProcessFacts.EffectiveUser(Environment.ProcessId)!.Value
                    )
                );
                File.Delete(file);
            }
        }
        finally
        {
            place.Delete(recursive: true);
        }
    }

    [Fact]
    public void A_process_leads_to_the_program_that_it_executes()
    {
        Assert.True(FileFacts.AreOne(ProcessFacts.ExecutableLink(Environment.ProcessId), Environment.ProcessPath!));
        Assert.False(FileFacts.AreOne(ProcessFacts.ExecutableLink(Environment.ProcessId), "/bin/sh"));
    }
}
