using System.Text.RegularExpressions;

namespace CalmSentry.Core.Text;

/// <summary>
/// As much of RFC 5321 as anybody writes: nothing in it can be read as a header or another address.
/// </summary>
public static partial class MailAddress
{
    public static bool IsOne(string text) => Pattern().IsMatch(text);

    [GeneratedRegex(@"^[A-Za-z0-9.!#$%&'*+/=?^_`{|}~-]{1,64}@[A-Za-z0-9]([A-Za-z0-9.-]{0,250}[A-Za-z0-9])?\z")]
    private static partial Regex Pattern();
}
