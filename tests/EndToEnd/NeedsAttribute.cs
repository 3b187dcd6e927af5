using System.Diagnostics;
using System.Reflection;
using Xunit.v3;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// Debian's packages that a test, or every test of a class, takes programs from, by their names in <c>tools/packages</c>.
/// Where one is missing, that test fails at once and names it, instead of waiting in vain for a program.
/// </summary>
[AttributeUsage(AttributeTargets.Class | AttributeTargets.Method, AllowMultiple = true)]
internal sealed class NeedsAttribute(params string[] packages) : BeforeAfterTestAttribute
{
    /// <summary>Null on a host that has no such database: tools/setup.sh has said there what is needed.</summary>
    private static readonly Lazy<HashSet<string>?> Installed = new(Ask);

    public IReadOnlyList<string> Packages { get; } = packages;

    public override void Before(MethodInfo methodUnderTest, IXunitTest test)
    {
        if (Installed.Value is not { } there)
            return;
        var missing = Packages.Where(name => !there.Contains(name)).ToList();
        Assert.True(
            missing.Count == 0,
            $"not installed: {string.Join(' ', missing)}; ./test.sh installs what tests need"
        );
    }

    private static HashSet<string>? Ask()
    {
        if (!File.Exists("/usr/bin/dpkg-query"))
            return null;
        using var asked = Process.Start(
            new ProcessStartInfo("dpkg-query", ["-W", "-f", "${db:Status-Status} ${Package}\n"])
            {
                RedirectStandardOutput = true,
            }
        )!;
        return
        [
            .. asked
                .StandardOutput.ReadToEnd()
                .Split('\n')
                .Where(line => line.StartsWith("installed ", StringComparison.Ordinal))
                .Select(line => line["installed ".Length..]),
        ];
    }
}
