using CalmSentry.Contract.Keeper;
using CalmSentry.Engine.Keepers;

namespace CalmSentry.Tests.Engine.Simulation;

/// <summary>
/// A keeper that does what the real one does, and at times what it should not: it freezes, is killed, repeats itself,
/// tells what is long past. What it knows of its run is true.
/// </summary>
internal sealed class SimKeeper
{
    private readonly SimMachine machine;
    private readonly Queue<(SimLink From, byte[] Order)> orders = new();
    private readonly int pid;
    private SimLink? link;
    private string? place;
    private SimProcess? told;
    private bool ending,
        mainTold,
        launching,
        soon;
    private byte[]? last;
    private long launchingRun;

    public SimKeeper(SimMachine machine, SimLink first, int pid)
    {
        (this.machine, link, this.pid) = (machine, first, pid);
        machine.Keepers.Add(this);
        Hello();
    }

    public SimProcess? Main { get; private set; }

    public bool Frozen { get; private set; }

    public bool Dead { get; private set; }

    /// <summary>The service it is bound to, by its directory; null: it waits for its first order.</summary>
    public string? Place => place;

    /// <summary>Nobody finds it by its socket any more.</summary>
    public bool Wiped { get; set; }

    public bool Repeats { get; set; }

    public override string ToString() =>
        $"keeper {pid} of {place}: run {Main?.Run}, lives {Main?.Lives}, launching {launching} {launchingRun}, frozen {Frozen}, "
        + $"link {link is not null}, orders {orders.Count}, soon {soon}, tree {(Main is null ? 0 : Tree().Count)}";

    private bool Idle => Main is null && !launching;

    public void Freeze(TimeSpan length)
    {
        if (Frozen || Dead)
            return;
        Frozen = true;
        machine.Loop.After(
            length,
            () =>
            {
                Frozen = false;
                Soon();
            }
        );
    }

    /// <summary>It is killed: its program lives on, and nobody sees its end.</summary>
    public void Die()
    {
        if (Dead)
            return;
        Dead = true;
        machine.Keepers.Remove(this);
        link?.Break();
    }

    /// <summary>A server connects; the newest one counts.</summary>
    public void Accept(SimLink next)
    {
        link?.Break();
        link = next;
        pendingHello = true;
        Soon();
    }

    private bool pendingHello;

    /// <summary>The server's end is gone.</summary>
    public void LostServer(SimLink which)
    {
        if (link != which)
            return;
        link = null;
        Soon();
    }

    public void Order(SimLink from, byte[] order)
    {
        if (Dead || link != from)
            return;
        orders.Enqueue((from, order));
        Soon();
    }

    /// <summary>It will look at what there is to do.</summary>
    public void Soon()
    {
        if (soon || Dead)
            return;
        soon = true;
        machine.Loop.After(machine.Loop.Between(0.01, 2), Work);
    }

    private void Work()
    {
        soon = false;
        if (Frozen || Dead)
            return;
        if (pendingHello)
        {
            pendingHello = false;
            Hello();
        }

        Reap();
        if (orders.TryDequeue(out var waited))
        {
            Message.TryReadHead(waited.Order, out var word, out _);
            var body = waited.Order.AsSpan(Message.HeadLength).ToArray();
            if (waited.From == link)
                Obey(word, body);
            else
                ObeyAlone(word, body);
            Soon();
        }

        if (Idle && link is null)
        {
            Dead = true;
            machine.Keepers.Remove(this);
        }
    }

    private void Obey(KeeperWord word, byte[] body)
    {
        switch (word)
        {
            case KeeperWord.Launch when Idle:
                Launch(body);
                break;
            case KeeperWord.Signal when Main is not null:
                if (Message.Text(body, "to") == "tree")
                    foreach (var process in Tree())
                        machine.Signal(process, (int)Message.Number(body, "number"));
                else
                    machine.Signal(Main, (int)Message.Number(body, "number"));
                break;
            case KeeperWord.EndTree when Main is not null:
                ending = true;
                foreach (var process in Tree())
                    machine.Signal(process, 9);
                break;
            case KeeperWord.Leave when Idle:
                link?.Break();
                link = null;
                break;
            case KeeperWord.Ask:
                Say(new Message(KeeperWord.Here).With("run", told?.Run ?? 0));
                break;
            default:
                Say(new Message(KeeperWord.Refused).With("run", told?.Run ?? 0).With("order", (int)word));
                break;
        }
    }

    /// <summary>Whoever said it is gone, and hears nothing of it.</summary>
    private void ObeyAlone(KeeperWord word, byte[] body)
    {
        if (word == KeeperWord.Launch && Idle)
        {
            var (where, run) = (Message.Text(body, LaunchField.Place)!, Message.Number(body, LaunchField.Run));
            place ??= machine.Keepers.Any(other => other.place == where) ? null : where;
            if (place is not null)
                Keep(run, new Message(KeeperWord.NeverLaunched).With("run", run).With("step", (int)LaunchStep.Alone));
            Die();
            return;
        }

        var now = link;
        link = null;
        Obey(word, body);
        link = now;
    }

    private List<SimProcess> Tree() => [.. machine.Live(Main!.Label).Where(process => process.Run == Main.Run)];

    private void Launch(byte[] body)
    {
        var (where, run) = (Message.Text(body, LaunchField.Place)!, Message.Number(body, LaunchField.Run));
        var label = Path.GetFileName(where);
        if (place is null && machine.Keepers.Any(other => other != this && other.place == where))
        {
            Say(
                new Message(KeeperWord.NeverLaunched)
                    .With("run", run)
                    .With("step", (int)LaunchStep.Lock)
                    .With("errno", 11)
            );
            Die();
            return;
        }

        place = where;
        var broken = machine.Tempers.GetValueOrDefault(label) == Temper.Broken && machine.Loop.Chance(0.7);
        (launching, launchingRun) = (true, run);
        machine.Loop.After(
            machine.Loop.Between(0.5, 10),
            () =>
            {
                launching = false;
                if (Dead)
                    return;
                if (broken)
                {
                    Ended(
                        run,
                        new Message(KeeperWord.NeverLaunched).With("run", run).With("step", 14).With("errno", 2)
                    );
                    return;
                }

                (Main, mainTold, ending) = (machine.Launch(label, run), false, false);
                told = Main;
                Say(new Message(KeeperWord.Launched).With("run", run).With("pid", Main.Pid));
                Soon();
            }
        );
    }

    private void Reap()
    {
        if (Main is not { Lives: false } main)
            return;
        if (Tree().Count == 0)
        {
            Main = null;
            machine.Groups.Remove((main.Label, main.Run));
            Ended(main.Run, News(KeeperWord.TreeEnded, main));
        }
        else if (!mainTold)
        {
            mainTold = true;
            var news = News(KeeperWord.MainEnded, main);
            Keep(main.Run, news);
            Say(news);
        }
        else if (ending)
        {
            foreach (var process in Tree())
                machine.Signal(process, 9);
        }
    }

    private Message News(KeeperWord word, SimProcess main) =>
        new Message(word)
            .With("run", main.Run)
            .With("status", main.Status)
            .With("ended-ms", machine.Loop.Wall.ToUnixTimeMilliseconds())
            .With("ended-forward-ms", machine.Loop.Now / TimeSpan.TicksPerMillisecond);

    /// <summary>First on record, then told.</summary>
    private void Ended(long run, Message news)
    {
        Keep(run, news);
        Say(news);
        Soon();
    }

    private void Keep(long run, Message news)
    {
        if (Wiped)
            return; // what it wrote down would lie where nobody looks
        var bytes = news.ToBytes().ToArray();
        Message.TryReadHead(bytes, out var word, out _);
        machine.Outcomes[(place!, run)] = (word, bytes[Message.HeadLength..]);
    }

    private void Hello() =>
        Say(
            new Message(KeeperWord.Hello)
                .With("run", launching ? launchingRun : Main?.Run ?? 0)
                .With("keeper", pid)
                .With("version", KeeperVersion.Latest)
                .With("pid", Main?.Pid ?? 0)
                .With("status", Main?.Status ?? 0)
                .With(
                    "phase",
                    launching ? "launching"
                        : Main is null ? "idle"
                        : mainTold ? "ending"
                        : "live"
                )
        );

    private void Say(Message message)
    {
        // Who has just come in hears who this is first, and how far it is.
        if (pendingHello)
            return;
        var bytes = message.ToBytes().ToArray();
        link?.Arrive(bytes);
        if (!Repeats)
            return;
        // It tells once more what it said, or what it said before that.
        if (last is not null && machine.Loop.Chance(0.3))
            link?.Arrive(last);
        if (machine.Loop.Chance(0.3))
            link?.Arrive(bytes);
        if (!message.ToBytes().Span.IsEmpty && bytes[0] is not 0)
            last = bytes;
    }
}

/// <summary>A server's connection to a keeper.</summary>
internal sealed class SimLink(SimMachine machine, SimServerTime time, int pid) : IKeeper
{
    private readonly Queue<byte[]?> news = new();
    private TaskCompletionSource more = new(TaskCreationOptions.None);
    private TaskCompletionSource? asked;
    private int version;

    public SimKeeper? Keeper { get; set; }

    public int Pid => pid;

    public bool Outdated => false;

    public void Send(Message order)
    {
        var bytes = order.ToBytes().ToArray();
        machine.Loop.After(TimeSpan.Zero, () => Keeper?.Order(this, bytes));
    }

    public async Task<(KeeperWord Word, byte[] Body)?> Next()
    {
        while (true)
        {
            if (news.TryDequeue(out var bytes))
            {
                if (bytes is null)
                    return null;
                Message.TryReadHead(bytes, out var word, out _);
                if (word == KeeperWord.Hello)
                    version = KeeperVersion.Latest;
                asked?.TrySetResult();
                return (word, bytes[Message.HeadLength..]);
            }

            more = new(TaskCreationOptions.None);
            await more.Task;
        }
    }

    public async Task<bool> Answers(TimeSpan limit)
    {
        if (version == 0)
            return false;
        asked = new(TaskCreationOptions.None);
        var here = asked.Task;
        Send(new Message(KeeperWord.Ask));
        return await Task.WhenAny(here, Task.Delay(limit, time.Clock)) == here;
    }

    public void End() => machine.Loop.After(TimeSpan.Zero, () => Keeper?.Die());

    public async Task Buried() => await Task.Delay(TimeSpan.FromMilliseconds(1), time.Clock);

    /// <summary>Something the keeper says is on its way.</summary>
    public void Arrive(byte[]? bytes) =>
        machine.Loop.After(
            TimeSpan.Zero,
            () =>
            {
                if (time.Dead)
                    return;
                news.Enqueue(bytes);
                more.TrySetResult();
            }
        );

    public void Break() => Arrive(null);
}
