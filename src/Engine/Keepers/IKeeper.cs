using CalmSentry.Contract.Keeper;

namespace CalmSentry.Engine.Keepers;

/// <summary>One keeper as the life of a service speaks with it: orders go out, news comes in, in order.</summary>
internal interface IKeeper
{
    /// <summary>Process id of a keeper this server started; 0 of one it found.</summary>
    int Pid { get; }

    /// <summary>Whether its program is not the one of today any more.</summary>
    bool Outdated { get; }

    /// <summary>Sends an order. That the keeper is gone is told by <see cref="Next"/>.</summary>
    void Send(Message order);

    /// <summary>The next news, or null once the keeper is gone.</summary>
    Task<(KeeperWord Word, byte[] Body)?> Next();

    /// <summary>Whether it answers within a time.</summary>
    Task<bool> Answers(TimeSpan limit);

    /// <summary>Ends the keeper itself; what it kept is looked for as after any loss of one.</summary>
    void End();

    /// <summary>Completes when the keeper is gone for good, its lock on the service free again.</summary>
    Task Buried();
}
