import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { Fragment, useEffect } from "react";
import { api, type ServiceDetail, take } from "../api/client";
import { at, length, Since } from "../live/clock";
import { onLogged, useService, useServices } from "../live/live";
import { LogTable } from "../logbook/LogbookPage";
import { Terminal } from "../terminal/Terminal";
import { Window } from "../window/Window";
import { Actions } from "./Actions";
import { Check } from "./Check";
import { Files } from "./Files";
import { History } from "./History";
import { InForce } from "./InForce";
import { Output } from "./Output";
import { Availability, Runs } from "./Runs";
import { Secrets } from "./Secrets";
import { StateMark } from "./StateMark";
import { Watches } from "./Watches";
import { Why } from "./Why";
import "./services.css";

/** One service: why it is as it is, what can be done, what it prints, how it has fared. */
export function ServicePage({ name, run }: { name: string; run?: number | undefined }) {
  const service = useService(name);
  const { loaded } = useServices();
  const queries = useQueryClient();
  const path = { params: { path: { name } } };
  const detail = useQuery({
    queryKey: ["service", name],
    queryFn: () => take(api.GET("/api/services/{name}", path)),
    refetchInterval: 10_000,
  });
  const log = useQuery({
    queryKey: ["logbook", name],
    queryFn: () => take(api.GET("/api/logbook", { params: { query: { service: name, last: 12 } } })),
  });

  useEffect(
    () =>
      onLogged((entry) => {
        if (entry.service !== name) return;
        queries.invalidateQueries({ queryKey: ["service", name] });
        queries.invalidateQueries({ queryKey: ["logbook", name] });
      }),
    [name, queries],
  );

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
      <h1>{service.title}</h1>
      <p style={{ margin: "0 0 14px" }}>
        <StateMark service={service} /> · {service.why}
      </p>
      <Actions
        service={service}
        job={kindOf(detail.data) === "periodic"}
        reloads={detail.data !== undefined && "reload" in (detail.data.definition as object)}
      />
      {hasScreen(detail.data) && <Terminal name={name} lives={service.pid != null} />}
      {hasWindow(detail.data) && <Window name={name} lives={service.pid != null} />}
      <div className="columns">
        <div>
          <h2 id="output">Output</h2>
          <Output
            name={name}
            run={run}
            runs={detail.data?.runs.map((one) => Number(one.run)) ?? []}
            files={ownFiles(detail.data)}
          />
        </div>
        <div>
          <h2>Now</h2>
          <dl className="facts sheet">
            <dt>Health</dt>
            <dd className={service.health === "poor" ? "attention" : undefined}>
              {service.health}
              {service["health-since"] && ` since ${at(service["health-since"])}`}: {service["health-why"]}
            </dd>
            <dt>Up</dt>
            <dd>
              <Since time={service["up-since"]} />
            </dd>
            <dt>In this state</dt>
            <dd>
              <Since time={service.since} />, since {at(service.since)}
            </dd>
            <dt>Process</dt>
            <dd>{service.pid ? `pid ${service.pid}, run ${service.run}` : "none"}</dd>
            <dt>Restarts</dt>
            <dd>{service.restarts}</dd>
            <dt>Account</dt>
            <dd>{service.account}</dd>
            {service.labels.length > 0 && (
              <>
                <dt>Labels</dt>
                <dd>{service.labels.join(", ")}</dd>
              </>
            )}
            <dt>Starts</dt>
            <dd>{beginsAt[service.at] ?? service.at}</dd>
            {service["next-moment"] && (
              <>
                <dt>Next moment</dt>
                <dd>
                  {at(service["next-moment"])} · <Link to="/ahead">all that is planned</Link>
                </dd>
              </>
            )}
            {service.busy && (
              <>
                <dt>Busy</dt>
                <dd>{service.busy}</dd>
              </>
            )}
            {service.awaits?.map((wait) => (
              <Fragment key={wait.for}>
                <dt>Waits for</dt>
                <dd>
                  {wait.for}
                  {wait.missing && ` (${wait.missing})`}, since {at(wait.since)}
                  {wait.until && `; at ${at(wait.until)} ${wait.follows}`}
                </dd>
              </Fragment>
            ))}
            {service.said && (
              <>
                <dt>Says</dt>
                <dd>{service.said}</dd>
              </>
            )}
            {detail.data && <Proof detail={detail.data} />}
            {detail.data && (
              <>
                <dt>Clean stop</dt>
                <dd>
                  waits {length(detail.data["wind-down-ms"])} in all
                  {detail.data["usual-stop-ms"] != null &&
                    `; its stops usually take ${ms(detail.data["usual-stop-ms"])}`}
                </dd>
              </>
            )}
            {detail.data?.["running-command"] && (
              <>
                <dt>Runs now</dt>
                <dd>
                  <code>{detail.data["running-command"].join(" ")}</code>
                </dd>
              </>
            )}
            <dt>{detail.data?.["running-command"] ? "From the next start on" : "Command"}</dt>
            <dd>
              <code>{service.command.join(" ")}</code>
            </dd>
            {detail.data && <Places detail={detail.data} />}
            {detail.data && (
              <>
                <dt>Can be seen in</dt>
                <dd>
                  <Seen detail={detail.data} />
                </dd>
              </>
            )}
          </dl>
        </div>
      </div>
      <h2>Why</h2>
      <Why name={name} turn={`${service.state} ${service.why} ${service["health-why"]}`} />
      <h2>Watched while it runs</h2>
      {detail.data && <Watches detail={detail.data} />}
      <div className="columns">
        <div>
          <h2>In force, by the kernel's word</h2>
          {detail.data && <InForce detail={detail.data} />}
        </div>
        <div>
          {detail.data && detail.data.secrets.length > 0 && (
            <>
              <h2>Secrets</h2>
              <Secrets service={name} secrets={detail.data.secrets} onChanged={() => void detail.refetch()} />
            </>
          )}
          <h2>What would go wrong</h2>
          <Check name={name} account={service.account} />
        </div>
      </div>
      <h2>Program files</h2>
      <Files service={service} />
      <h2 id="history">History</h2>
      <History service={service} revision={detail.data && Number(detail.data.revision)} />
      <h2>How much it ran</h2>
      {detail.data && <Availability detail={detail.data} />}
      <h2>Latest runs</h2>
      <Runs name={name} latest={detail.data?.runs ?? []} />
      <h2>Logbook</h2>
      <LogTable entries={log.data ?? []} />
    </>
  );
}

const kindOf = (detail: ServiceDetail | undefined) =>
  (detail?.definition as { program?: { kind?: string } } | undefined)?.program?.kind;

/** It has a terminal for people, of a size. */
const hasScreen = (detail: ServiceDetail | undefined) =>
  /^\d+x\d+$/.test(String((detail?.definition as { program?: { terminal?: unknown } } | undefined)?.program?.terminal));

/** It has a display of its own. */
const hasWindow = (detail: ServiceDetail | undefined) =>
  (detail?.definition as { program?: { window?: unknown } } | undefined)?.program?.window !== undefined;

/** Log files that the program writes by itself. */
const ownFiles = (detail: ServiceDetail | undefined): string[] =>
  Object.keys((detail?.definition as { output?: { files?: object } } | undefined)?.output?.files ?? {});

const beginsAt: Record<string, string> = {
  boot: "boot, before anyone logs in",
  "boot-late": "boot, after everything that starts at boot",
  request: "request, only when asked",
  never: "never: every start is refused",
};

const ms = (took: number) => (took < 100 ? `${Math.round(took)} ms` : `${(took / 1000).toFixed(2)} s`);

function Proof({ detail }: { detail: ServiceDetail }) {
  const { proof, needs } = detail;
  return (
    <>
      <dt>Proof</dt>
      <dd>
        {proof.seen
          ? `${proof.seen}, ${ms(proof["took-ms"] ?? 0)} after its launch${proof["usual-ms"] == null ? "" : ` (usually ${ms(proof["usual-ms"])})`}`
          : `none yet: it serves once ${proof.awaited}`}
      </dd>
      {needs.length > 0 && (
        <>
          <dt>Needs</dt>
          <dd>{needs.join("; ")}</dd>
        </>
      )}
      {detail["needed-by"].length > 0 && (
        <>
          <dt>Needed by</dt>
          <dd>
            {detail["needed-by"].map((name, index) => (
              <Fragment key={name}>
                {index > 0 && ", "}
                <Link to="/services/$name" params={{ name }}>
                  {name}
                </Link>
              </Fragment>
            ))}
          </dd>
        </>
      )}
    </>
  );
}

/** Where what it does can be seen. */
function Seen({ detail }: { detail: ServiceDetail }) {
  if (kindOf(detail) === "toggles") return "nothing: none of it runs between its two commands";
  const files = ownFiles(detail);
  return (
    <>
      <a href="#output">its output</a>
      {files.length > 0 && `, its own log files (${files.join(", ")}), chosen there`}
      {hasScreen(detail) && (
        <>
          , <a href="#terminal">its terminal</a>
        </>
      )}
      {hasWindow(detail) && (
        <>
          , <a href="#window">its window</a>
        </>
      )}
    </>
  );
}

function Places({ detail }: { detail: ServiceDetail }) {
  return (
    <>
      <dt>Directory</dt>
      <dd>
        <code>{detail.directory}</code>
      </dd>
      <dt>Output file</dt>
      <dd>
        <code>{detail.output}</code>
      </dd>
    </>
  );
}
