namespace CalmSentry.Linux.Accounts;

/// <summary>
/// Questions of many that one process of an account answers: whoever asks while one is being asked is answered by the next, so two hundred
/// services that are started at once ask by two processes, and not by two hundred. Every answer is of after its question.
/// </summary>
internal sealed class GatheredQuestions(
    Func<Account, IEnumerable<uint>, IReadOnlyList<AccessQuestion>, CancellationToken, Task<IReadOnlyList<int>>> ask
)
{
    /// <summary>So many are asked by one process: its answers are read at its end.</summary>
    private const int Most = 4096;

    private sealed record Asked(
        IReadOnlyList<AccessQuestion> Questions,
        TaskCompletionSource<IReadOnlyList<int>> Answer
    );

    private sealed class OfAccount
    {
        public List<Asked> Waiting { get; set; } = [];
        public bool Asks { get; set; }
    }

    private readonly Lock gate = new();
    private readonly Dictionary<string, OfAccount> accounts = new(StringComparer.Ordinal);

    public Task<IReadOnlyList<int>> Ask(Account account, uint[] groups, IReadOnlyList<AccessQuestion> questions)
    {
        var one = new Asked(questions, new(TaskCreationOptions.RunContinuationsAsynchronously));
        var key = $"{account.Uid} {account.Gid} {string.Join(' ', account.Groups.Concat(groups).Distinct())}";
        lock (gate)
        {
            if (!accounts.TryGetValue(key, out var of))
                accounts[key] = of = new();
            of.Waiting.Add(one);
            if (!of.Asks)
            {
                of.Asks = true;
                _ = Task.Run(() => Go(account, groups, of));
            }
        }

        return one.Answer.Task;
    }

    private async Task Go(Account account, uint[] groups, OfAccount of)
    {
        while (true)
        {
            List<Asked> together = [];
            lock (gate)
            {
                var count = 0;
                while (count < Most && together.Count < of.Waiting.Count)
                {
                    together.Add(of.Waiting[together.Count]);
                    count += together[^1].Questions.Count;
                }

                if (together.Count == 0)
                {
                    of.Asks = false;
                    return;
                }

                of.Waiting = of.Waiting[together.Count..];
            }

            await Answer(account, groups, together).ConfigureAwait(false);
        }
    }

    private async Task Answer(Account account, uint[] groups, List<Asked> together)
    {
        try
        {
            var answers = await ask(
                    account,
                    groups,
                    [.. together.SelectMany(one => one.Questions)],
                    CancellationToken.None
                )
                .ConfigureAwait(false);
            var at = 0;
            foreach (var one in together)
            {
                one.Answer.SetResult([.. answers.Skip(at).Take(one.Questions.Count)]);
                at += one.Questions.Count;
            }
        }
        catch (Exception) when (together.Count > 1)
        {
            // A path that is not answered for is one service's trouble, and not that of all.
            foreach (var one in together)
                await Answer(account, groups, [one]).ConfigureAwait(false);
        }
        catch (Exception error)
        {
            together[0].Answer.SetException(error);
        }
    }
}
