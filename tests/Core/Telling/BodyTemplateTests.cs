using System.Text.Json;
using CalmSentry.Core.Telling;
using CsCheck;

namespace CalmSentry.Tests.Core.Telling;

/// <summary>A webhook's own text: what is filled in changes nothing of its form.</summary>
public class BodyTemplateTests
{
    [Fact]
    public void What_begins_as_JSON_stays_JSON_whatever_is_filled_in() =>
        Gen.String.Sample(text =>
        {
            // Half of a pair of surrogates is no text, and nothing that is told has one.
            if (text.Any(char.IsSurrogate))
                return;
            const string template = """ {"a": "{subject}: {lead}", "b": [{alert}], "c": {"{host}": "{x y}"}}""";
            Assert.True(BodyTemplate.IsValid(template));
            using var read = JsonDocument.Parse(BodyTemplate.Fill(template, field => field == "alert" ? "12" : text));
            Assert.Equal($"{text}: {text}", read.RootElement.GetProperty("a").GetString());
            Assert.Equal("{x y}", read.RootElement.GetProperty("c").GetProperty(text).GetString());
        });

    [Fact]
    public void What_begins_with_a_field_is_text()
    {
        Assert.False(BodyTemplate.IsJson("{urgency}: {subject}"));
        Assert.True(BodyTemplate.IsValid("{urgency}: {subject}"));
    }

    [Fact]
    public void Any_other_text_has_just_its_fields_filled_in() =>
        Gen.String.Sample(text => Assert.Equal($"<{text}> {{", BodyTemplate.Fill("<{text}> {", _ => text)));

    [Theory]
    [InlineData("")]
    [InlineData("{subjekt}")]
    [InlineData("""{"a": {subject}""")]
    [InlineData("""{"a": "{subject}",}""")]
    public void A_field_that_there_is_not_or_what_is_no_JSON_is_refused(string template) =>
        Assert.False(BodyTemplate.IsValid(template));
}
