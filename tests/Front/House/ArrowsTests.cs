using System.Reflection;

namespace CalmSentry.Tests.Front.House;

/// <summary>
/// The arrows of the house point one way. Read from the compiled programs, so a forgotten project reference does not
/// count.
/// </summary>
public class ArrowsTests
{
    private static readonly Dictionary<string, string[]> Allowed = new()
    {
        ["CalmSentry.Core"] = [],
        ["CalmSentry.Linux"] = [],
        ["CalmSentry.Contract"] = ["CalmSentry.Core"],
        ["CalmSentry.Store"] = ["CalmSentry.Core"],
        ["calm-keeper"] = ["CalmSentry.Contract", "CalmSentry.Linux"],
        ["calm"] = ["CalmSentry.Contract", "CalmSentry.Core"],
        ["CalmSentry.Engine"] = ["CalmSentry.Contract", "CalmSentry.Core", "CalmSentry.Linux", "CalmSentry.Store"],
        ["CalmSentry.Inspection"] =
        [
            "CalmSentry.Contract",
            "CalmSentry.Core",
            "CalmSentry.Engine",
            "CalmSentry.Linux",
            "CalmSentry.Store",
        ],
        ["CalmSentry.Telling"] =
        [
            "CalmSentry.Contract",
            "CalmSentry.Core",
            "CalmSentry.Engine",
            "CalmSentry.Linux",
            "CalmSentry.Store",
        ],
        ["calm-sentry"] =
        [
            "CalmSentry.Contract",
            "CalmSentry.Core",
            "CalmSentry.Engine",
            "CalmSentry.Inspection",
            "CalmSentry.Linux",
            "CalmSentry.Store",
            "CalmSentry.Telling",
        ],
    };

    /// <summary>What would let input and output into the decisions.</summary>
    private static readonly string[] Outside =
    [
        "System.IO.FileSystem",
        "System.Net",
        "System.Diagnostics.Process",
        "Microsoft.",
        "System.Threading.Timer",
    ];

    [Fact]
    public void No_room_leans_on_a_room_it_must_not_know()
    {
        foreach (var (room, allowed) in Allowed)
        {
            var found = References(room)
                .Where(name =>
                    name.StartsWith("CalmSentry.", StringComparison.Ordinal)
                    || name.StartsWith("calm", StringComparison.Ordinal)
                );
            Assert.Empty(found.Except(allowed).Select(name => $"{room} → {name}"));
        }
    }

    [Fact]
    public void The_core_touches_nothing_outside_itself() =>
        Assert.DoesNotContain(
            References("CalmSentry.Core"),
            name => Outside.Any(outside => name.StartsWith(outside, StringComparison.Ordinal))
        );

    /// <summary>The server alone knows that there is HTTP to serve; what seals secrets is a part of the same framework.</summary>
    [Theory]
    [InlineData("CalmSentry.Engine")]
    [InlineData("CalmSentry.Inspection")]
    [InlineData("CalmSentry.Telling")]
    public void Nobody_but_the_server_serves_http(string room) =>
        Assert.DoesNotContain(
            References(room),
            name =>
                name.StartsWith("Microsoft.AspNetCore", StringComparison.Ordinal)
                && !name.StartsWith("Microsoft.AspNetCore.DataProtection", StringComparison.Ordinal)
        );

    [Fact]
    public void The_core_reads_no_clock()
    {
        // A call of DateTimeOffset.UtcNow and its like would name the member in the assembly's metadata.
        var bytes = File.ReadAllBytes(Assembly.Load("CalmSentry.Core").Location);
        foreach (var member in new[] { "get_UtcNow", "get_Now", "GetTimestamp", "get_TickCount64" })
            Assert.True(
                bytes.AsSpan().IndexOf(System.Text.Encoding.UTF8.GetBytes(member)) < 0,
                $"the core uses {member}"
            );
    }

    /// <summary>
    /// A room left off a list still builds where the folder has a plain name; where the build goes by a link
    /// (tools/parts.sh), what is not on the list is reached by another path and loses its references.
    /// </summary>
    [Theory]
    [InlineData("CalmSentry.slnx", "src", "tests", "bench", "demo")]
    [InlineData("CalmSentry.Parts.slnf", "src")]
    public void What_is_built_together_names_every_room(string list, params string[] folders)
    {
        var text = File.ReadAllText(Path.Combine(Sources.Root, list));
        Assert.All(
            folders.SelectMany(folder =>
                Directory.EnumerateFiles(Path.Combine(Sources.Root, folder), "*.csproj", SearchOption.AllDirectories)
            ),
            project => Assert.Contains($"\"{Path.GetRelativePath(Sources.Root, project)}\"", text)
        );
    }

    private static IEnumerable<string> References(string room) =>
        Assembly.Load(room).GetReferencedAssemblies().Select(reference => reference.Name!);
}
