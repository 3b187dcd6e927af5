namespace CalmSentry.Contract.Api;

/// <summary>Header fields of answers that are our own.</summary>
public static class OwnHeaders
{
    /// <summary>Of every answer: the name of the host's time zone in the IANA database.</summary>
    public const string Zone = "Calm-Zone";

    /// <summary>Of an answer while the store cannot be written: why.</summary>
    public const string NotRecorded = "Calm-Not-Recorded";

    /// <summary>Something that a person is to know beside the answer.</summary>
    public const string Note = "Calm-Note";

    /// <summary>Of output: the offset of the first byte sent; a reader that counts can come back where it was.</summary>
    public const string Offset = "Calm-Offset";
}
