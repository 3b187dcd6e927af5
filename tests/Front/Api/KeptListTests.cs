using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Services;
using CalmSentry.Server.Api;
using CsCheck;
using Microsoft.AspNetCore.Http;

namespace CalmSentry.Tests.Front.Api;

/// <summary>The list that is kept says what its services say now, whatever was asked for before.</summary>
public class KeptListTests
{
    /// <summary>Of each step: which service changes (-1: none), how many there are, and whether their figures are asked for, too.</summary>
    [Fact]
    public Task It_is_what_its_services_are() =>
        Gen.Select(Gen.Int[-1, 4], Gen.Int[0, 5], Gen.Bool)
            .Array[1, 30]
            .SampleAsync(
                async steps =>
                {
                    var all = Enumerable.Range(0, 5).Select(View).ToArray();
                    foreach (var (changed, many, figures) in steps)
                    {
                        if (changed >= 0)
                            all[changed] = all[changed] with { Run = (all[changed].Run ?? 0) + 1 };
                        var views = all.Take(many)
                            .Select(view => figures ? view with { Usage = new(changed + 2, null, many) } : view)
                            .ToList();
                        var sent = await Sent(views);
                        Assert.Equal(
                            JsonSerializer.Serialize<IReadOnlyList<ServiceView>>(
                                views,
                                ApiJson.Plain.IReadOnlyListServiceView
                            ),
                            sent
                        );
                    }
                },
                iter: 200
            );

    /// <summary>Whoever asks after a change is never told what was before it.</summary>
    [Fact]
    public async Task What_is_worked_out_while_it_changes_is_not_kept()
    {
        var now = 0;
        Action? meanwhile = null;
        WorkedOut<string>? kept = null;
        kept = new(() =>
        {
            var seen = now;
            meanwhile?.Invoke();
            return $"{seen}";
        });
        Assert.Equal("0", kept.Value);
        meanwhile = () =>
        {
            (meanwhile, now) = (null, 2);
            kept.Changed();
        };
        now = 1;
        Assert.Equal("0", kept.Value); // nobody said that it changed
        kept.Changed();
        Assert.Equal("1", kept.Value);
        Assert.Equal("2", kept.Value);
        var bound = 0;
        await Task.WhenAll(
            Task.Run(() =>
            {
                for (; bound < 20_000; bound++)
                {
                    Interlocked.Increment(ref now);
                    kept.Changed();
                }
            }),
            Task.Run(() =>
            {
                while (Volatile.Read(ref bound) < 20_000)
                {
                    var atLeast = Volatile.Read(ref bound) + 2;
                    Assert.True(int.Parse(kept.Value, System.Globalization.CultureInfo.InvariantCulture) >= atLeast);
                }
            })
        );
    }

    private static async Task<string> Sent(IReadOnlyList<ServiceView> views)
    {
        var context = new DefaultHttpContext();
        using var body = new MemoryStream();
        context.Response.Body = body;
        await new KeptList(views).ExecuteAsync(context);
        Assert.Equal(body.Length, context.Response.ContentLength);
        return System.Text.Encoding.UTF8.GetString(body.ToArray());
    }

    private static ServiceView View(int number) =>
        new()
        {
            Id = number,
            Name = $"lamp-{number}",
            Title = "Lamp \"é\"",
            Host = "skerry",
            State = ServiceState.Running,
            Health = HealthLevel.Unknown,
            HealthWhy = "it is not watched",
            Attention = null,
            Why = "",
            Since = default,
            Run = null,
            At = "-",
            Account = "-",
            Labels = [],
            Command = [],
        };
}
