import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link, Outlet } from "@tanstack/react-router";
import { api, take } from "../api/client";
import { forget } from "../api/page";
import { at } from "../live/clock";
import { useLine } from "../live/live";

/** The page around every page: where you are, who you are, and whether what you see is live. */
export function Frame() {
  const line = useLine();
  const sentry = useQuery({
    queryKey: ["sentry"],
    queryFn: () => take(api.GET("/api/sentry")),
    enabled: line.state === "live",
  });
  if (line.state === "signed-out") return <SignedOut />;
  return (
    <div className="frame">
      <header className="top">
        <Link to="/" className="name">
          <img src="/mark.svg" width={26} height={26} alt="" />
          Calm Sentry
        </Link>
        <nav aria-label="Pages">
          <Link to="/" activeOptions={{ exact: true }}>
            Services
          </Link>
          <Link to="/wrap">Wrap a program</Link>
          <Link to="/drill">Begin and drill</Link>
          <Link to="/ahead">Ahead</Link>
          <Link to="/alerts">Alerts</Link>
          <Link to="/report">Report</Link>
          <Link to="/logbook">Logbook</Link>
        </nav>
        <span className="quiet" role="status">
          {sentry.data ? `${sentry.data.host} · ${sentry.data.you} · ` : ""}
          {line.state === "live" ? "live" : line.state === "lost" ? "not live" : "connecting"}
        </span>
        {line.state === "live" && (
          <Button variant="subtle" size="compact-sm" onClick={() => void leave()}>
            Sign out
          </Button>
        )}
      </header>
      <main>
        {line.state === "lost" && (
          <div className="notice" role="alert">
            ▲ The connection to the sentry is gone since {at(line.since)}. What you see below may no longer be so; it is
            tried again every two seconds. The services themselves go on without it.
          </div>
        )}
        {sentry.data?.limits.map((limit) => (
          <p key={limit} className="quiet">
            {limit}
          </p>
        ))}
        <Outlet />
      </main>
    </div>
  );
}

/** Ends this browser's session, here and in the sentry. */
async function leave() {
  await take(api.POST("/api/sign-out"));
  forget();
  window.location.assign("/");
}

function SignedOut() {
  const used = new URLSearchParams(window.location.search).get("link") === "used";
  return (
    <main className="frame" style={{ maxWidth: 560, paddingTop: 80 }}>
      <h1>Sign in</h1>
      {used && <p className="attention">▲ That link has been used or is too old.</p>}
      <p>
        On the host, type <code>calm open</code>. It prints a link that signs this browser in, once, within five
        minutes.
      </p>
    </main>
  );
}
