using System.Net;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>What a definition was: listed, compared, and made to hold again; and two who change it at once.</summary>
public class HistoryTests
{
    private static async Task<Sentry> Changed()
    {
        var sentry = await Sentry.Start();
        await sentry.Wrap("gate", "--environment", "GATE=one", "--", "/bin/sleep", "600");
        await sentry.Ok("adjust", "gate", "--environment", "GATE=two", "--memory", "64MiB");
        await sentry.Ok(
            "adjust",
            "gate",
            "--environment",
            "DOOR_PASSWORD=herring-and-dill-4711",
            "--accept",
            "secret-in-plain"
        );
        return sentry;
    }

    [Fact]
    public async Task Revisions_say_when_by_whom_and_what_each_changed()
    {
        await using var sentry = await Changed();
        var all = (await sentry.Ok("history", "gate", "--json")).Json.EnumerateArray().ToList();
        Assert.Equal([3, 2, 1], all.Select(one => one.GetProperty("revision").GetInt32()));
        Assert.Equal([true, false, false], all.Select(one => one.GetProperty("in-effect").GetBoolean()));
        Assert.All(all, one => Assert.Equal(Environment.UserName, one.GetProperty("by").GetString()));
        Assert.Contains("resources.memory is now '64 MiB'", Changes(all[1]));
        Assert.Contains("program.environment.GATE is now 'two' (was 'one')", Changes(all[1]));
        Assert.Empty(Changes(all[2]));
        var shown = (await sentry.Ok("history", "gate")).Output;
        Assert.Contains("3 (in effect)", shown, StringComparison.Ordinal);
        Assert.Contains("wrapped", shown, StringComparison.Ordinal);
        // What looks like a secret is in no list of changes.
        Assert.DoesNotContain("4711", shown, StringComparison.Ordinal);
        var difference = (await sentry.Ok("history", "gate", "--from", "1", "--to", "3")).Output;
        Assert.Contains("From revision 1 to 3 of gate:", difference, StringComparison.Ordinal);
        Assert.DoesNotContain("4711", difference, StringComparison.Ordinal);
        Assert.Contains(
            "are the same",
            (await sentry.Ok("history", "gate", "--from", "2", "--to", "2")).Output,
            StringComparison.Ordinal
        );
        // The other way round is told as such.
        Assert.Contains(
            "resources.memory is no longer set (was '64 MiB')",
            (await sentry.Ok("history", "gate", "--from", "2", "--to", "1")).Output,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "GATE: one",
            (await sentry.Ok("history", "gate", "--file", "1")).Output,
            StringComparison.Ordinal
        );
        foreach (
            var wrong in (string[][])
                [
                    ["--file", "9"],
                    ["--from", "9"],
                    ["--from", "0", "--to", "3"],
                ]
        )
        {
            var said = await sentry.Calm(["history", "gate", .. wrong]);
            Assert.Equal(4, said.Exit);
            Assert.Contains("gate has no revision", said.All, StringComparison.Ordinal);
        }

        Assert.Equal(2, (await sentry.Calm("history", "gate", "--to", "3")).Exit);
        Assert.Equal(2, (await sentry.Calm("history", "gate", "--last", "0")).Exit);
    }

    private static List<string?> Changes(JsonElement one) =>
        [.. one.GetProperty("changes").EnumerateArray().Select(change => change.GetString())];

    [Fact]
    public async Task An_earlier_revision_is_made_the_newest_under_the_name_of_now()
    {
        await using var sentry = await Changed();
        await sentry.Ok("rename", "gate", "barrier");
        var dry = await sentry.Ok("revert", "barrier", "1", "--dry");
        Assert.Contains("would be adjusted", dry.Output, StringComparison.Ordinal);
        Assert.Equal(4, (await sentry.Show("barrier")).GetProperty("revision").GetInt32());
        var said = await sentry.Ok("revert", "barrier", "1");
        Assert.Contains("is adjusted, revision 5", said.Output, StringComparison.Ordinal);
        Assert.Contains(
            "are the same",
            (await sentry.Ok("history", "barrier", "--from", "1", "--to", "5")).Output.Replace(
                "From revision 1 to 5 of barrier:\n  name is now 'barrier' (was 'gate')",
                "are the same",
                StringComparison.Ordinal
            ),
            StringComparison.Ordinal
        );
        Assert.Contains("already", (await sentry.Ok("revert", "barrier", "1")).Output, StringComparison.Ordinal);
        // What could never work any more is refused as any change is.
        var program = sentry.Script("horn", "#!/bin/sh\nexec sleep 600\n");
        await sentry.Ok("adjust", "barrier", "--", program);
        await sentry.Ok("adjust", "barrier", "--", "/bin/sleep", "600");
        File.Delete(program);
        var refused = await sentry.Calm("revert", "barrier", "6");
        Assert.Equal(1, refused.Exit);
        Assert.Contains($"There is no program at {program}", refused.All, StringComparison.Ordinal);
        Assert.Equal(7, (await sentry.Show("barrier")).GetProperty("revision").GetInt32());
    }

    /// <summary>Of two who change it at once the second is told, with what both changed (RFC 9110, 13.1.1).</summary>
    [Fact]
    public async Task Whoever_changes_what_another_has_changed_since_is_told()
    {
        await using var sentry = await Changed();
        using var client = sentry.Http();
        using var read = await client.GetAsync(
            "http://sentry/api/services/gate/definition",
            TestContext.Current.CancellationToken
        );
        var tag = read.Headers.ETag!;
        Assert.Equal("\"3\"", tag.Tag);
        Assert.Equal(HttpStatusCode.OK, (await Put("{\"title\": \"Gate of the quay\"}", tag)).Status);
        var (status, late) = await Put("{\"notes\": \"Ring twice.\"}", tag);
        Assert.Equal(HttpStatusCode.PreconditionFailed, status);
        Assert.Contains("revision 4 now, and yours was made from revision 3", late, StringComparison.Ordinal);
        Assert.Contains("title is now 'Gate of the quay'", late, StringComparison.Ordinal);
        Assert.Contains("notes is now 'Ring twice.'", late, StringComparison.Ordinal);
        Assert.Equal(4, (await sentry.Show("gate")).GetProperty("revision").GetInt32());
        // Without one, or with any, it is laid over what there is.
        Assert.Equal(HttpStatusCode.OK, (await Put("{\"notes\": \"Ring twice.\"}", null)).Status);
        Assert.Equal(HttpStatusCode.OK, (await Put("{\"notes\": \"Ring.\"}", EntityTagHeaderValue.Any)).Status);
        Assert.Equal(HttpStatusCode.PreconditionFailed, (await Put("{\"notes\": \"No.\"}", new("\"none\""))).Status);

        async Task<(HttpStatusCode Status, string Text)> Put(string body, EntityTagHeaderValue? madeFrom)
        {
            using var request = new HttpRequestMessage(HttpMethod.Patch, "http://sentry/api/services/gate")
            {
                Content = new StringContent(body, Encoding.UTF8, "application/json"),
            };
            if (madeFrom is not null)
                request.Headers.IfMatch.Add(madeFrom);
            using var answer = await client.SendAsync(request, TestContext.Current.CancellationToken);
            var text = await answer.Content.ReadAsStringAsync(TestContext.Current.CancellationToken);
            return (
                answer.StatusCode,
                JsonDocument.Parse(text).RootElement.TryGetProperty("detail", out var detail)
                    ? detail.GetString()!
                    : text
            );
        }
    }
}
