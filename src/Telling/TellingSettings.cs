using System.Collections.Immutable;
using CalmSentry.Core.Telling;

namespace CalmSentry.Telling;

/// <summary>What telling goes by, of the sentry's settings.</summary>
internal sealed record TellingSettings
{
    /// <summary>Who is told of what needs a person.</summary>
    public ImmutableArray<Recipient> Tell { get; init; } = [];

    /// <summary>How alerts are gathered into messages.</summary>
    public Pace Pace { get; init; } = new();

    /// <summary>The mail server; null: there is none.</summary>
    public MailSettings? Mail { get; init; }

    /// <summary>The report that is sent at a rhythm; null: none is.</summary>
    public ReportSettings? Report { get; init; }

    /// <summary>The sign of life; null: none is given.</summary>
    public SignalSettings? Signal { get; init; }

    /// <summary>Where recipients of messages reach the console; null: they do not.</summary>
    public string? ConsoleAt { get; init; }

    /// <summary>Who is told, beside whom definitions may name others.</summary>
    public RecipientSet Recipients => new(Tell, Mail is not null);
}
