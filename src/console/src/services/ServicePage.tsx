import { useIsMutating, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { lazy, Suspense, useEffect } from "react";
import { api, type ServiceDetail, type ServiceView, take } from "../api/client";
import { Trouble } from "../app/Trouble";
import { onLogged, useService, useServices } from "../live/live";
import { LogTable } from "../logbook/LogbookPage";
import { Actions } from "./Actions";
import { Check } from "./Check";
import { Files } from "./Files";
import { History } from "./History";
import { InForce } from "./InForce";
import { Output } from "./Output";
import { hasScreen, hasWindow, kindOf, Overview, ownFiles } from "./Overview";
import { Rename } from "./Rename";
import { Availability, Runs } from "./Runs";
import { Secrets } from "./Secrets";
import { StateMark } from "./StateMark";
import { type Section, sections } from "./sections";
import { Unwrap } from "./Unwrap";
import { Watches } from "./Watches";
import "./services.css";

// What draws a screen, and the form, are most of the page, and rarely wanted.
const Terminal = lazy(() => import("../terminal/Terminal").then((part) => ({ default: part.Terminal })));
const Window = lazy(() => import("../window/Window").then((part) => ({ default: part.Window })));
const ChangeForm = lazy(() => import("../wrap/ChangeForm").then((part) => ({ default: part.ChangeForm })));

/** With these nothing more can be asked of it under this name. */
const over = ["unwrapped", "renamed"];

/** One service: what it does and why, what can be done, and, each under an address of its own, all that is known of it. */
export function ServicePage({ name, section, run }: { name: string; section: Section; run?: number | undefined }) {
  const service = useService(name);
  const { loaded } = useServices();
  const queries = useQueryClient();
  // While it gets another name or is taken away, nothing is asked of it that it may not hear any more.
  const leaving = useIsMutating({ mutationKey: ["leave", name] }) > 0;
  const detail = useQuery({
    queryKey: ["service", name],
    queryFn: () => take(api.GET("/api/services/{name}", { params: { path: { name } } })),
    refetchInterval: 10_000,
    enabled: !leaving && (service !== undefined || !loaded),
  });

  useEffect(
    () =>
      onLogged((entry) => {
        if (entry.service !== name || over.includes(entry.code)) return;
        queries.invalidateQueries({ queryKey: ["service", name] });
        queries.invalidateQueries({ queryKey: ["logbook", name] });
      }),
    [name, queries],
  );
  const shown = (Object.keys(sections) as Section[]).filter(
    (one) => one !== "screen" || hasScreen(detail.data) || hasWindow(detail.data),
  );
  useSectionKeys(name, shown);

  if (!service)
    return loaded ? (
      <p>
        There is no service called {name} (any more). <Link to="/">All services</Link>
      </p>
    ) : (
      <p className="quiet">Asking the sentry…</p>
    );
  return (
    <>
      <h1>
        <bdi>{service.title}</bdi>
      </h1>
      <p style={{ margin: "0 0 12px" }}>
        <StateMark service={service} /> · {service.why}
      </p>
      <Actions
        service={service}
        job={kindOf(detail.data) === "periodic"}
        reloads={detail.data !== undefined && "reload" in (detail.data.definition as object)}
      />
      <nav className="sections" aria-label="Sections">
        {shown.map((one, place) => (
          <Link
            key={one}
            to={one === "overview" ? "/services/$name" : "/services/$name/$section"}
            params={{ name, section: one } as never}
            aria-current={one === section ? "page" : undefined}
            activeOptions={{ exact: true }}
            title={`Key ${(place + 1) % 10}`}
          >
            {sections[one]}
          </Link>
        ))}
      </nav>
      <Suspense fallback={<p className="quiet">Loading…</p>}>
        {section === "overview" ? (
          <Overview service={service} detail={detail.data} />
        ) : section === "output" ? (
          <div className="whole">
            <Output
              name={name}
              run={run}
              runs={detail.data?.runs.map((one) => Number(one.run)) ?? []}
              files={ownFiles(detail.data)}
            />
          </div>
        ) : section === "screen" ? (
          <>
            {hasScreen(detail.data) && <Terminal name={name} lives={service.pid != null} />}
            {hasWindow(detail.data) && <Window name={name} lives={service.pid != null} />}
          </>
        ) : section === "runs" ? (
          <>
            <h2>How much it ran</h2>
            {detail.data && <Availability detail={detail.data} />}
            <h2>Latest runs</h2>
            <Runs name={name} latest={detail.data?.runs ?? []} />
          </>
        ) : section === "definition" ? (
          detail.data && <Defined detail={detail.data} service={service} />
        ) : section === "change" ? (
          <ChangeForm name={name} />
        ) : section === "files" ? (
          <>
            <h2>Program files</h2>
            <Files service={service} />
          </>
        ) : section === "history" ? (
          <>
            <h2>History</h2>
            <History service={service} revision={detail.data && Number(detail.data.revision)} />
          </>
        ) : section === "logbook" ? (
          <Log name={name} />
        ) : (
          detail.data && <Access detail={detail.data} onChanged={() => void detail.refetch()} />
        )}
      </Suspense>
    </>
  );
}

/** 1 to 9, and 0, lead to the sections in their order, unless something else takes keys. */
function useSectionKeys(name: string, shown: readonly Section[]) {
  const navigate = useNavigate();
  const keys = shown.join();
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (event.ctrlKey || event.metaKey || event.altKey || !/^\d$/.test(event.key)) return;
      if ((event.target as HTMLElement).closest("input, textarea, select, canvas, [contenteditable], [role=dialog]"))
        return;
      const section = keys.split(",")[(Number(event.key) + 9) % 10] as Section | undefined;
      if (!section) return;
      event.preventDefault();
      void navigate(
        section === "overview"
          ? { to: "/services/$name", params: { name } }
          : { to: "/services/$name/$section", params: { name, section } },
      );
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [name, keys, navigate]);
}

/** How it is set, what of that the kernel says is in force, and what would go wrong. */
function Defined({ detail, service }: { detail: ServiceDetail; service: ServiceView }) {
  const name = detail.name;
  return (
    <>
      <div className="columns">
        <div>
          <h2>
            How it is set · revision {detail.revision} ·{" "}
            <Link to="/services/$name/$section" params={{ name, section: "change" }}>
              change it
            </Link>
          </h2>
          <dl className="facts sheet">
            {detail["running-command"] && (
              <>
                <dt>Runs now</dt>
                <dd>
                  <code>{detail["running-command"].join(" ")}</code>
                </dd>
              </>
            )}
            <dt>{detail["running-command"] ? "From the next start on" : "Command"}</dt>
            <dd>
              <code>{detail.command.join(" ")}</code>
            </dd>
            <dt>Directory</dt>
            <dd>
              <code>{detail.directory}</code>
            </dd>
            <dt>Output file</dt>
            <dd>
              <code>{detail.output}</code>
            </dd>
            <dt>State directory</dt>
            <dd>
              <code>{detail["state-directory"]}</code>
            </dd>
            <dt>Labels</dt>
            <dd>{detail.labels.join(", ") || "none"}</dd>
            <dt>Set by hand</dt>
            <dd>{innermost(detail.given).join(", ")}</dd>
          </dl>
        </div>
        <div>
          <h2>What would go wrong</h2>
          <Check name={name} account={service.account} />
        </div>
      </div>
      <h2>Watched while it runs</h2>
      <Watches detail={detail} />
      <h2>In force, by the kernel's word</h2>
      <InForce detail={detail} />
      <div className="columns">
        <div>
          <h2>The end of it</h2>
          <Unwrap name={name} />
        </div>
        <div>
          <h2>Another short name</h2>
          <Rename service={service} />
        </div>
      </div>
    </>
  );
}

/** Without those that only hold others. */
const innermost = (keys: readonly string[]) =>
  keys.filter((key) => !keys.some((other) => other.startsWith(`${key}.`) || other.startsWith(`${key}[`)));

function Log({ name }: { name: string }) {
  const log = useQuery({
    queryKey: ["logbook", name],
    queryFn: () => take(api.GET("/api/logbook", { params: { query: { service: name, last: 100 } } })),
  });
  return (
    <>
      <h2>Its part of the logbook</h2>
      <Trouble of={log} />
      <LogTable entries={log.data ?? []} />
    </>
  );
}

/** Who it is, and what it alone may know. */
function Access({ detail, onChanged }: { detail: ServiceDetail; onChanged: () => void }) {
  const account = useQuery({
    queryKey: ["account", detail.account],
    queryFn: () => take(api.GET("/api/accounts/{name}", { params: { path: { name: detail.account } } })),
  });
  const view = account.data;
  return (
    <div className="columns">
      <div>
        <h2>Its account</h2>
        <Trouble of={account} />
        {view && (
          <dl className="facts sheet">
            <dt>Account</dt>
            <dd>
              {view.account.name}, uid {view.account.uid}
              {view.account.permitted ? "" : " ▲ not permitted to run services"}
            </dd>
            <dt>Groups</dt>
            <dd>{view.groups.join(", ") || "none"}</dd>
            <dt>May</dt>
            <dd>{view.may.join(" ") || "run its programs, and nothing else"}</dd>
            <dt>Writes</dt>
            <dd>{view.writes.join(", ") || "nowhere"}</dd>
            <dt>Was granted</dt>
            <dd>{view.granted.join(", ") || "nothing"}</dd>
            <dt>Runs</dt>
            <dd>{view.account.services.join(", ")}</dd>
          </dl>
        )}
      </div>
      <div>
        <h2>Secrets</h2>
        {detail.secrets.length > 0 ? (
          <Secrets service={detail.name} secrets={detail.secrets} onChanged={onChanged} />
        ) : (
          <p className="quiet">Its definition asks for none (program.secrets).</p>
        )}
      </div>
    </div>
  );
}
