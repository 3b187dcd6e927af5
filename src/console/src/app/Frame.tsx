import { Burger, Button } from "@mantine/core";
import { useDisclosure, useHotkeys } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { Link, Outlet, useLocation } from "@tanstack/react-router";
import { lazy, Suspense, useState } from "react";
import { api, take } from "../api/client";
import { forget } from "../api/page";
import { at } from "../live/clock";
import { useLine } from "../live/live";
import { differing, show, useWhose } from "../live/zone";
import { pages } from "./pages";

const Finder = lazy(() => import("./Finder").then((part) => ({ default: part.Finder })));

/** The page around every page: where you are, who you are, and whether what you see is live. */
export function Frame() {
  const line = useLine();
  const [open, menu] = useDisclosure(false);
  const [finding, setFinding] = useState(false);
  const whose = useWhose();
  // What somebody is typing is not taken away because times are to be shown otherwise.
  const typing = useLocation({ select: ({ pathname }) => /^\/wrap$|\/change$/.test(pathname) });
  const find = () => {
    if (finding) void import("@mantine/spotlight").then(({ spotlight }) => spotlight.open());
    else setFinding(true);
  };
  useHotkeys(
    finding
      ? []
      : [
          ["mod+K", find],
          ["/", find],
        ],
  );
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
        <Burger
          className="burger"
          size="sm"
          opened={open}
          onClick={menu.toggle}
          aria-label="Pages"
          aria-expanded={open}
        />
        <nav aria-label="Pages" data-open={open}>
          {pages.map((page) => (
            <Link
              key={page.to}
              to={page.to}
              activeOptions={{ exact: page.to === "/", includeSearch: false }}
              onClick={menu.close}
            >
              {page.title}
            </Link>
          ))}
        </nav>
        <Button variant="default" size="compact-sm" title="Ctrl+K, or /" onClick={find}>
          Find…
        </Button>
        <span className="quiet who" role="status">
          {sentry.data ? <bdi>{`${sentry.data.host} · ${sentry.data.you} · `}</bdi> : ""}
          {line.state === "live" ? "live" : line.state === "lost" ? "not live" : "connecting"}
        </span>
        <Times />
        {line.state === "live" && (
          <Button variant="subtle" size="compact-sm" onClick={() => void leave()}>
            Sign out
          </Button>
        )}
      </header>
      {finding && (
        <Suspense>
          <Finder />
        </Suspense>
      )}
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
        <Outlet key={typing ? "typing" : whose} />
      </main>
    </div>
  );
}

/** Whose times are shown, and the other's; nothing, where it is the same time at both. */
function Times() {
  const whose = useWhose();
  const zones = differing();
  if (!zones) return null;
  const [shown, other] = whose === "host" ? [zones.host, zones.here] : [zones.here, zones.host];
  return (
    <Button
      variant="subtle"
      size="compact-sm"
      title={`Times are those of ${shown}; sentences always say the host's. Show those of ${other}`}
      onClick={() => show(whose === "host" ? "here" : "host")}
    >
      {whose === "host" ? "Host's times" : "Your times"}
    </Button>
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
