using System.Reflection;
using System.Reflection.Emit;

namespace CalmSentry.Tests.Front.House;

/// <summary>
/// Which namespaces know each other in a circle, read from the compiled programs: base types, members, and every type that a method's
/// body names. What is in one is listed; nothing may join, and what has left is struck out.
/// </summary>
public class CirclesTests
{
    /// <summary>Namespaces in a circle, without the assembly's own name before them.</summary>
    private static readonly Dictionary<string, string[]> Known = new()
    {
        ["CalmSentry.Contract"] = [],
        ["CalmSentry.Core"] = [],
        ["CalmSentry.Linux"] = [],
        ["CalmSentry.Store"] = [],
        ["calm"] = [],
        ["calm-keeper"] = [],
        ["calm-sentry"] = [],
        ["CalmSentry.Engine"] = [],
        ["CalmSentry.Inspection"] = [],
        ["CalmSentry.Telling"] = [],
    };

    public static TheoryData<string> Programs => [.. Known.Keys];

    [Theory]
    [MemberData(nameof(Programs))]
    public void No_namespace_joins_a_circle(string program)
    {
        var arrows = Arrows(Assembly.Load(program));
        var circling = arrows
            .Keys.Where(name => Reached(arrows, name).Contains(name))
            .ToHashSet(StringComparer.Ordinal);
        var joined = circling.Except(Known[program]).Order(StringComparer.Ordinal).ToList();
        var how = joined.SelectMany(name =>
            arrows[name]
                .Where(arrow => circling.Contains(arrow.Key) && Reached(arrows, arrow.Key).Contains(name))
                .Select(arrow => $"{name} → {arrow.Key}: {string.Join(", ", arrow.Value.Take(MostNamed))}")
        );
        Assert.True(joined.Count == 0, $"in a circle now: {string.Join(", ", joined)}\n{string.Join('\n', how)}");
        var left = Known[program].Except(circling).ToList();
        Assert.True(left.Count == 0, $"no longer in a circle, to be struck out here: {string.Join(", ", left)}");
    }

    private const int MostNamed = 40;

    private static HashSet<string> Reached(
        Dictionary<string, Dictionary<string, SortedSet<string>>> arrows,
        string from
    )
    {
        var reached = new HashSet<string>(StringComparer.Ordinal);
        var open = new Queue<string>(arrows[from].Keys);
        while (open.TryDequeue(out var next))
            if (reached.Add(next) && arrows.TryGetValue(next, out var further))
                foreach (var one in further.Keys)
                    open.Enqueue(one);
        return reached;
    }

    /// <summary>Of each room the rooms it knows, and which type knows which there.</summary>
    private static Dictionary<string, Dictionary<string, SortedSet<string>>> Arrows(Assembly assembly)
    {
        var arrows = new Dictionary<string, Dictionary<string, SortedSet<string>>>(StringComparer.Ordinal);
        foreach (var type in assembly.GetTypes().Where(IsOurs))
        foreach (var used in Used(type).SelectMany(Parts).Where(used => used.Assembly == assembly && IsOurs(used)))
            if (Room(used) is var to && Room(type) is var from && from != to)
            {
                if (!arrows.TryGetValue(from, out var known))
                    arrows[from] = known = new(StringComparer.Ordinal);
                if (!known.TryGetValue(to, out var by))
                    known[to] = by = new(StringComparer.Ordinal);
                by.Add($"{Outer(type).Name} knows {Outer(used).Name}");
            }

        return arrows;
    }

    private static Type Outer(Type type) => type.DeclaringType is { } outer ? Outer(outer) : type;

    /// <summary>What generators make of ours goes by no rule of ours.</summary>
    private static bool IsOurs(Type type) =>
        type.Namespace?.StartsWith("CalmSentry.", StringComparison.Ordinal) == true
        && !type.Namespace.EndsWith(".Generated", StringComparison.Ordinal);

    private static string Room(Type type) =>
        string.Join('.', type.Namespace!.Split('.').Skip(2)) is { Length: > 0 } room ? room : "-";

    private static IEnumerable<Type> Parts(Type type)
    {
        if (type.HasElementType)
            return Parts(type.GetElementType()!);
        return type.IsGenericType && !type.IsGenericTypeDefinition
            ? type.GetGenericArguments().SelectMany(Parts).Prepend(type.GetGenericTypeDefinition())
            : [type];
    }

    private const BindingFlags All =
        BindingFlags.Public
        | BindingFlags.NonPublic
        | BindingFlags.Instance
        | BindingFlags.Static
        | BindingFlags.DeclaredOnly;

    private static IEnumerable<Type> Used(Type type)
    {
        if (type.BaseType is { } above)
            yield return above;
        foreach (var one in type.GetInterfaces().Concat(type.GetFields(All).Select(field => field.FieldType)))
            yield return one;
        foreach (var method in type.GetMethods(All).Cast<MethodBase>().Concat(type.GetConstructors(All)))
        {
            foreach (var parameter in method.GetParameters())
                yield return parameter.ParameterType;
            if (method is MethodInfo { ReturnType: var returned })
                yield return returned;
            if (method.GetMethodBody() is not { } body)
                continue;
            foreach (var local in body.LocalVariables)
                yield return local.LocalType;
            foreach (var named in Named(method, body.GetILAsByteArray()!))
                yield return named;
        }
    }

    private static readonly Dictionary<short, OpCode> Codes = typeof(OpCodes)
        .GetFields(BindingFlags.Public | BindingFlags.Static)
        .Select(field => (OpCode)field.GetValue(null)!)
        .ToDictionary(code => code.Value);

    /// <summary>The types that instructions name (ECMA-335, III).</summary>
    private static IEnumerable<Type> Named(MethodBase method, byte[] code)
    {
        var (ofType, ofMethod) = (
            method.DeclaringType!.IsGenericType ? method.DeclaringType.GetGenericArguments() : null,
            method.IsGenericMethod ? method.GetGenericArguments() : null
        );
        for (var at = 0; at < code.Length; )
        {
            short value = code[at++];
            if (value == 0xFE)
                value = (short)(0xFE00 | code[at++]);
            var operand = Codes[value].OperandType;
            if (
                operand
                is OperandType.InlineField
                    or OperandType.InlineMethod
                    or OperandType.InlineTok
                    or OperandType.InlineType
            )
            {
                var member = method.Module.ResolveMember(BitConverter.ToInt32(code, at), ofType, ofMethod);
                if (member is Type named)
                    yield return named;
                else if (member?.DeclaringType is { } declaring)
                    yield return declaring;
                if (member is MethodInfo { IsGenericMethod: true } generic)
                    foreach (var argument in generic.GetGenericArguments())
                        yield return argument;
            }

            at += operand switch
            {
                OperandType.InlineNone => 0,
                OperandType.ShortInlineBrTarget or OperandType.ShortInlineI or OperandType.ShortInlineVar => 1,
                OperandType.InlineVar => 2,
                OperandType.InlineI8 or OperandType.InlineR => 8,
                OperandType.InlineSwitch => 4 + 4 * BitConverter.ToInt32(code, at),
                _ => 4,
            };
        }
    }
}
