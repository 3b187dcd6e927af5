using System.Diagnostics;
using CalmSentry.Core.Text;

namespace CalmSentry.Engine.Logbook;

/// <summary>What nobody had expected, in one line: what it says, its type, and the methods it came up through.</summary>
internal static class Unexpected
{
    private const int MostMethods = 8;

    public static string InWords(Exception error)
    {
        var root = error.GetBaseException();
        var kind = root == error ? error.GetType().Name : $"{error.GetType().Name} for {root.GetType().Name}";
        var methods = new StackTrace(root)
            .GetFrames()
            .Select(frame => DiagnosticMethodInfo.Create(frame))
            .OfType<DiagnosticMethodInfo>()
            .Take(MostMethods)
            .Select(method => $"{Short(method.DeclaringTypeName)}.{method.Name}")
            .ToList();
        var way = methods.Count == 0 ? "" : $", in {string.Join(" < ", methods)}";
        return $"{Shown.Line(root.Message).TrimEnd('.')} ({kind}{way})";
    }

    private static string Short(string? type) => type?[(type.LastIndexOf('.') + 1)..] ?? "?";
}
