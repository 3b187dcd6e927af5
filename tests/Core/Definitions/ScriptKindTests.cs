using CalmSentry.Core.Definitions;

namespace CalmSentry.Tests.Core.Definitions;

public class ScriptKindTests
{
    [Theory]
    [InlineData("python3 -u serve.py 80", "serve.py")]
    [InlineData("/usr/bin/python3.11 -W ignore serve.py", "serve.py")]
    [InlineData("python3 -m http.server", null)]
    [InlineData("python3 -c print(1)", null)]
    [InlineData("node --require ./trace.js app.js", "app.js")]
    [InlineData("node -e 1 app.js", null)]
    [InlineData("perl -w -I lib bell.pl", "bell.pl")]
    [InlineData("perl -ne print bell.pl", null)]
    [InlineData("ruby bell", "bell")]
    [InlineData("sh -e bell.sh", "bell.sh")]
    [InlineData("bash -ec true bell.sh", null)]
    [InlineData("bash -o pipefail bell.sh", "bell.sh")]
    [InlineData("java -Xmx1g -cp lib.jar -jar tally.jar", "tally.jar")]
    [InlineData("java -cp lib.jar Tally", null)]
    [InlineData("php -S 127.0.0.1:8000 index.php", "index.php")]
    [InlineData("php -d display_errors=1", null)]
    public void The_script_among_the_words_of_its_interpreter(string words, string? script)
    {
        var all = words.Split(' ');
        var at = ScriptKind.OfInterpreter(all[0])!.ScriptAmong(all[1..]);
        Assert.Equal(script, at < 0 ? null : all[at + 1]);
    }
}
