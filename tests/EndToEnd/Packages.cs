using System.Diagnostics;

[assembly: AssemblyFixture(typeof(CalmSentry.Tests.EndToEnd.Packages))]

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// What of tools/packages the tests need is installed: else every test fails at once and says so, instead of waiting in vain
/// for a program that lacks a module.
/// </summary>
public sealed class Packages
{
    public Packages()
    {
        if (!File.Exists("/usr/bin/dpkg-query"))
            return; // not a Debian: tools/setup.sh has said what is needed
        var needed = File.ReadLines(Path.Combine(Sentry.Repository, "tools", "packages"))
            .Where(line => !line.StartsWith('#'))
            .Select(line => line.Split(' ', StringSplitOptions.RemoveEmptyEntries))
            .Where(part => part.Skip(1).Any(of => of is "build" or "tests"))
            .Select(part => part[0])
            .ToList();
        using var asked = Process.Start(
            new ProcessStartInfo("dpkg-query", ["-W", "-f", "${db:Status-Status} ${Package}\n", .. needed])
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        var there = asked.StandardOutput.ReadToEnd().Split('\n').ToHashSet();
        var missing = needed.Where(name => !there.Contains($"installed {name}")).ToList();
        Assert.True(
            missing.Count == 0,
            $"not installed: {string.Join(' ', missing)}; ./test.sh installs what tests need"
        );
    }
}
