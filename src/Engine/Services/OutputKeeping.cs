using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;
using CalmSentry.Core.Watching;
using CalmSentry.Engine.Output;

namespace CalmSentry.Engine.Services;

/// <summary>
/// Looks after what was turned over: one thread has it packed behind everything else and lets go what is too much, and has files
/// turned over whose hour, day, week or month has passed.
/// </summary>
internal sealed class OutputKeeping : IDisposable
{
    /// <summary>How often all are looked at; what was turned over is looked at at once.</summary>
    private static readonly TimeSpan Beat = TimeSpan.FromMinutes(1);

    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    /// <summary>Whatever the zone of the host, an hour of it begins when one of these does.</summary>
    private static readonly TimeSpan Quarter = TimeSpan.FromMinutes(15);

    private readonly House house;
    private readonly Func<IReadOnlyCollection<ServiceActor>> all;
    private readonly HashSet<ServiceActor> waiting = [],
        later = [];
    private readonly CancellationTokenSource over = new();
    private readonly Thread thread;

    public OutputKeeping(House house, Func<IReadOnlyCollection<ServiceActor>> all)
    {
        (this.house, this.all) = (house, all);
        house.Turned = Soon;
        thread = new Thread(Work) { IsBackground = true, Name = "output" };
        thread.Start();
    }

    /// <summary>Something of it was turned over, or is to be kept otherwise.</summary>
    private void Soon(ServiceActor service)
    {
        lock (waiting)
        {
            waiting.Add(service);
            Monitor.Pulse(waiting);
        }
    }

    private void Work()
    {
        var troubled = new HashSet<ServiceId>();
        while (!over.IsCancellationRequested)
            try
            {
                Round(troubled);
            }
            catch (OperationCanceledException)
            {
                return;
            }
            catch (Exception unexpected)
            {
                // Without this thread nothing would ever be let go again.
                house.Logbook.Failed("looking after output", unexpected);
                over.Token.WaitHandle.WaitOne(Beat);
            }
    }

    private void Round(HashSet<ServiceId> troubled)
    {
        ServiceActor[] now;
        lock (waiting)
        {
            var due = waiting.Count > 0 || !Monitor.Wait(waiting, later.Count > 0 ? OutputTidy.Calm : UntilLook());
            now =
                waiting.Count > 0 ? [.. waiting]
                : !due ? []
                : later.Count > 0 ? [.. later]
                : [.. all()];
            waiting.Clear();
        }

        // First of all of them: packing takes its time.
        foreach (var service in now)
            Quietly(service, troubled, TurnOver);
        LookAtDisk();
        foreach (var service in now)
        {
            over.Token.ThrowIfCancellationRequested();
            if (Quietly(service, troubled, LookAfter))
                troubled.Remove(service.Id);
        }
    }

    private TimeSpan UntilLook()
    {
        var left = Quarter - TimeSpan.FromTicks(house.Clocks.Now.UtcTicks % Quarter.Ticks);
        return left < Beat ? left : Beat;
    }

    /// <returns>False: it could not be done, which is said once.</returns>
    private bool Quietly(ServiceActor service, HashSet<ServiceId> troubled, Action<ServiceActor> what)
    {
        try
        {
            what(service);
            return true;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or InvalidDataException)
        {
            if (troubled.Add(service.Id))
                house.Logbook.Note(service, new OutputUnkeptEntry(error.Message.TrimEnd('.')));
            return false;
        }
    }

    private void TurnOver(ServiceActor service)
    {
        var (folder, each) = (
            house.Places.OutputDirectoryOf(service.Definition.Name),
            service.Definition.Output.TurnEach
        );
        if (each != TurnEach.Never && HasPassed(folder, each))
            service.TurnOver();
    }

    private readonly FillTrend trend = new(TimeSpan.FromDays(3));

    private void LookAtDisk()
    {
        try
        {
            // What is left for root is nobody's to fill: the reserve of a file system counts as used.
            var disk = new DriveInfo(house.Places.Logs);
            var left = disk.AvailableFreeSpace;
            if (trend.Look(house.Clocks.Forward, disk.TotalSize - left, disk.TotalSize) is { } until)
                house.Logbook.Note(new DiskWillFillEntry(house.Places.Logs, until, Size.About(left)), tells: true);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or ArgumentException)
        {
            // It is not there yet, or not a disk that counts.
        }
    }

    private void LookAfter(ServiceActor service)
    {
        var (folder, keep) = (house.Places.OutputDirectoryOf(service.Definition.Name), service.Definition.Output);
        later.Remove(service);
        var (files, bytes) = OutputTidy.Tidy(
            folder,
            keep,
            house.Clocks.Now.UtcDateTime,
            Packing.Beyond,
            over.Token,
            () => later.Add(service)
        );
        foreach (var own in keep.Files.Keys)
        {
            var gone = OutputTidy.Tidy(
                house.Places.KeptFileOf(service.Definition.Name, own),
                keep,
                house.Clocks.Now.UtcDateTime,
                Packing.Beyond,
                over.Token
            );
            (files, bytes) = (files + gone.Files, bytes + gone.Bytes);
        }

        if (files > 0)
            house.Logbook.Note(service, new OutputLetGoEntry(files, Size.About(bytes)));
    }

    /// <summary>The hour, day, week or month in which what is in the current file began is over, by the host's clock.</summary>
    private bool HasPassed(string folder, TurnEach each)
    {
        if (Segments.Last(folder) is not { Number: > 0 } current)
            return false;
        using var marks = new MarkReader(current, 0);
        return marks.Next() is { } first
            && Core.Output.TurnOver.HasPassed(
                each,
                DateTimeOffset.FromUnixTimeMilliseconds(first.AtMs),
                house.Clocks.Now,
                TimeZoneInfo.Local
            )
            && Segments.EndOf(current) > current.Start;
    }

    public void Dispose()
    {
        house.Turned = _ => { };
        over.Cancel();
        lock (waiting)
            Monitor.Pulse(waiting);
        if (thread.Join(Patience)) // a disk may not answer
            over.Dispose();
    }
}
