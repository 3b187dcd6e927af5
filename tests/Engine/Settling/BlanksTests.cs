using CalmSentry.Core.Definitions;
using CalmSentry.Core.Settling;
using CalmSentry.Engine.Settling;
using CsCheck;

namespace CalmSentry.Tests.Engine.Settling;

/// <summary>Definitions put together from bases: what fills a blank, and what is said of what does not.</summary>
public class BlanksTests
{
    private const string Basis = """
        format: calm-sentry-base/1
        blanks:
          port: { is: port, default: 7411 }
          quay: { is: text }
          long: { is: length, default: 10 s }
        title: "Board of {{quay}}"
        program: { path: /srv/board, arguments: ["--port={{port}}", "{{{{quay}}"] }
        begin: { proof: { tcp: "127.0.0.1:{{ port }}", within: "{{long}}" } }
        """;

    internal static FileSet Read(params (string Path, string Text)[] files) =>
        FileSet.Read(
            new(files.ToDictionary(file => file.Path, file => file.Text, StringComparer.Ordinal)),
            "skerry",
            "root"
        );

    private static Definition Only(FileSet set)
    {
        Assert.Empty(set.Errors);
        return Assert.Single(set.Services).Definition;
    }

    [Fact]
    public void A_text_without_blanks_is_filled_with_itself() =>
        Gen.String[Gen.Char["{} a"], 0, 12]
            .Sample(text =>
                Blanks.Filled(Blanks.Written(text), _ => null, (found, _) => Assert.Fail($"{text}: {found}")) == text
            );

    [Fact]
    public void A_definition_fills_its_base_and_lays_its_own_keys_over_it()
    {
        var set = Read(
            ("boards/base.yaml", Basis),
            (
                "boards/north.yaml",
                "name: north\nfrom: base.yaml\nfill: { quay: north, port: 7412 }\nprogram: { directory: /srv }\nbegin: { proof: { within: ~ } }\n"
            )
        );
        var made = Only(set);
        Assert.Equal("Board of north", made.Title);
        Assert.Equal(["--port=7412", "{{quay}}"], made.Program.Arguments);
        Assert.Equal("/srv", made.Program.Directory);
        Assert.DoesNotContain("begin.proof.within", made.Given);
        var from = set.Filled["boards/north.yaml"].From;
        Assert.Equal("boards/base.yaml, port from boards/north.yaml", from["begin.proof.tcp"]);
        Assert.Equal("boards/base.yaml", from["program.path"]);
        Assert.Equal("boards/north.yaml", from["program.directory"]);
    }

    [Fact]
    public void What_nobody_says_a_host_fills_and_else_its_default()
    {
        (string, string)[] files =
        [
            ("base.yaml", Basis),
            ("board.yaml", "name: board\nfrom: base.yaml\n"),
            ("hosts/skerry.yaml", "format: calm-sentry-host/1\nfill: { quay: east }\n"),
            ("hosts/other.yaml", "format: calm-sentry-host/1\nfill: { quay: west }\n"),
        ];
        var set = Read(files);
        Assert.Equal("Board of east", Only(set).Title);
        Assert.Equal("base.yaml, port from base.yaml, its default", set.Filled["board.yaml"].From["begin.proof.tcp"]);
        Assert.Equal(
            "Board of south",
            Only(
                Read([.. files[..1], ("board.yaml", "name: board\nfrom: base.yaml\nfill: { quay: south }\n"), files[2]])
            ).Title
        );
    }

    [Fact]
    public void A_base_of_a_base_is_filled_by_it()
    {
        var made = Only(
            Read(
                ("base.yaml", Basis),
                (
                    "pair.yaml",
                    "format: calm-sentry-base/1\nfrom: base.yaml\nblanks: { side: { is: text } }\nfill: { quay: \"{{side}} side\" }\nnotes: \"{{side}}\"\n"
                ),
                ("board.yaml", "name: board\nfrom: pair.yaml\nfill: { side: left }\n")
            )
        );
        Assert.Equal(("Board of left side", "left"), (made.Title, made.Notes));
    }

    [Theory]
    [InlineData(
        "name: b\nfrom: base.yaml\n",
        "board.yaml: line 2, column 7: fill.quay: nothing, and base.yaml leaves it open"
    )]
    [InlineData(
        "name: b\nfrom: base.yaml\nfill: { quay: q, port: x }\n",
        "board.yaml: line 3, column 24: fill.port: 'x'; allowed: a whole number from 1 to 65535"
    )]
    [InlineData(
        "name: b\nfrom: base.yaml\nfill: { quay: q, prt: 1 }\n",
        "fill.prt: no blank of base.yaml; allowed: port, quay, long (did you mean port?)"
    )]
    [InlineData("name: b\nfrom: basis.yaml\n", "from: 'basis.yaml'; allowed: the path of a base among these files")]
    [InlineData("name: b\nfrom: ../base.yaml\n", "from: '../base.yaml'; allowed: the path of a base among these files")]
    [InlineData("name: b\nfrom: board.yaml\n", "a base that is not made from itself")]
    [InlineData(
        "name: b\nfill: { port: 1 }\nprogram: { path: /bin/true }\n",
        "fill: a map; allowed: 'fill' beside 'from'"
    )]
    [InlineData(
        "name: b\nfrom: base.yaml\nfill: { quay: q }\nbegin: { at: sometimes }\n",
        "board.yaml: line 4, column 14: begin.at: 'sometimes'"
    )]
    public void What_does_not_fit_is_told_with_its_place(string text, string told)
    {
        var set = Read(("base.yaml", Basis), ("board.yaml", text));
        Assert.Contains(set.Errors, error => error.ToString().Contains(told, StringComparison.Ordinal));
        Assert.Empty(set.Services);
    }

    [Theory]
    [InlineData("program: { path: /bin/x, arguments: [{{port}}] }", "{{…}} without quotes")]
    [InlineData("title: Board {{port}}\nprogram: { path: /bin/x }", "{{…}} without quotes")]
    [InlineData("title: \"{{prt}}\"\nprogram: { path: /bin/x }", "title: '{{prt}}'; allowed: the name of a blank")]
    [InlineData("title: \"{{port\"\nprogram: { path: /bin/x }", "title: '{{port'; allowed: {{NAME}}, closed")]
    [InlineData("name: x\nprogram: { path: /bin/x }", "name: 'x'; allowed: no name")]
    [InlineData("from: base.yaml", "a base that is not made from itself")]
    public void A_base_with_a_mistake_is_told_with_its_place(string rest, string told)
    {
        var set = Read(
            ("base.yaml", $"format: calm-sentry-base/1\nblanks: {{ port: {{ is: port, default: 1 }} }}\n{rest}\n"),
            ("board.yaml", "name: board\nfrom: base.yaml\n")
        );
        Assert.Contains(set.Errors, error => error.ToString().Contains(told, StringComparison.Ordinal));
    }

    [Theory]
    [InlineData(
        "is: colour",
        "blanks.x.is: 'colour'; allowed: text | number | port | path | length | amount | account"
    )]
    [InlineData("is: port, default: 0", "blanks.x.default: '0'; allowed: a whole number from 1 to 65535")]
    [InlineData("is: path, default: srv", "allowed: an absolute path")]
    [InlineData("is: length, default: soon", "allowed: a length of time")]
    [InlineData("is: amount, default: much", "allowed: an amount")]
    [InlineData("is: account, default: a b", "allowed: an account's name")]
    [InlineData("is: number, default: few", "allowed: a number")]
    [InlineData("is: text, of: 1", "blanks.x.of: '1'; allowed: is, default")]
    public void A_blank_is_of_a_kind_and_so_is_its_default(string blank, string told)
    {
        var set = Read(
            ("base.yaml", $"format: calm-sentry-base/1\nblanks: {{ x: {{ {blank} }} }}\n"),
            ("board.yaml", "name: board\nfrom: base.yaml\nprogram: { path: /bin/x }\n")
        );
        Assert.Contains(set.Errors, error => error.ToString().Contains(told, StringComparison.Ordinal));
    }

    [Fact]
    public void Two_files_have_no_name_in_common_and_needs_close_no_circle()
    {
        const string program = "program: { path: /bin/x }\n";
        var set = Read(
            ("a.yaml", $"name: a\n{program}begin: {{ needs: [{{ service: b }}] }}\n"),
            ("b.yaml", $"name: b\n{program}begin: {{ needs: [{{ service: a }}] }}\n"),
            ("c.yaml", $"name: c\nwas: a1\n{program}"),
            ("d.yaml", $"name: c\nwas: a1\n{program}"),
            ("e.yaml", "compose: 3\n")
        );
        string[] told =
        [
            "a.yaml: line 3, column 17: begin.needs: 'a needs b needs a'",
            "d.yaml: line 1, column 7: name: 'c'; allowed: a name of its own: c.yaml has it, too",
            "d.yaml: line 2, column 6: was: 'a1'; allowed: a name that one service had",
            "e.yaml: line 1, column 1: format: nothing; allowed: calm-sentry/1",
        ];
        Assert.All(
            told,
            one => Assert.Contains(set.Errors, error => error.ToString().StartsWith(one, StringComparison.Ordinal))
        );
    }
}
