namespace CalmSentry.Keeper;

/// <summary>
/// <c>calm-keeper keep RUN-DIRECTORY</c>: be the parent of a service's runs, one at a time; descriptor 3 is the server,
/// whose run directory is named so that people can tell whose keeper it is.
/// <c>calm-keeper guard RUN-DIRECTORY SERVER …</c>: keep the server itself running (<see cref="ServerGuard"/>).
/// <c>calm-keeper as …</c>: be an account, for the server's checks (<see cref="As"/>).
/// </summary>
internal static class Program
{
    private static int Main(string[] arguments) =>
        arguments switch
        {
            ["as", var uid, var gid, var groups, var join, .. var rest] => As.Become(uid, gid, groups, join, rest),
            ["guard", .. var rest] => ServerGuard.Begin(rest),
            ["guard-on", .. var rest] => ServerGuard.Guard(rest),
            ["guard-second", .. var rest] => ServerGuard.Second(rest),
            ["keep", var directory] => new Guard(directory).Keep(),
            _ => 2,
        };
}
