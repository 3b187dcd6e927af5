using System.Globalization;

namespace CalmSentry.Core.Runs;

/// <summary>
/// Which run of a service: each launch, also one that fails, counts one further; none is used twice. A number of
/// anything else is not taken for one by accident.
/// </summary>
/// <param name="Value">1 or more; 0 before the first.</param>
public readonly record struct RunNumber(long Value)
{
    public RunNumber Next() => new(Value + 1);

    public static implicit operator long(RunNumber number) => number.Value;

    public long ToInt64() => Value;

    public override string ToString() => Value.ToString(CultureInfo.InvariantCulture);
}
