import { Link } from "@tanstack/react-router";
import { Fragment } from "react";
import type { ServiceDetail, ServiceView } from "../api/client";
import { counted } from "../app/counted";
import { at, length, Since } from "../live/clock";
import { LastOutput } from "./Output";
import { percent, size, useUsage } from "./usage";
import { Why } from "./Why";

/** What it is doing, whether it is well, since when, why, what happens next, what it uses, what it printed last. */
export function Overview({ service, detail }: { service: ServiceView; detail: ServiceDetail | undefined }) {
  const usage = useUsage().get(service.name);
  const params = (section: string) => ({ name: service.name, section });
  return (
    <div className="columns">
      <div>
        <h2>
          Printed last ·{" "}
          <Link to="/services/$name/$section" params={params("output")}>
            all of it
          </Link>
        </h2>
        <LastOutput name={service.name} />
        <h2>Why</h2>
        <Why name={service.name} turn={`${service.state} ${service.why} ${service["health-why"]}`} />
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
            <Since time={service["up-since"]} />, in this state <Since time={service.since} />, since{" "}
            {at(service.since)}
          </dd>
          <dt>Process</dt>
          <dd>
            {service.pid ? `pid ${service.pid}, run ${service.run}` : "none"}
            {Number(service.restarts) > 0 && `; restarts: ${service.restarts}`}
          </dd>
          {service.pid != null && (
            <>
              <dt>Uses</dt>
              <dd>
                {usage
                  ? `${size(usage["memory-bytes"])}, ${percent(usage["cpu-percent"])} of a processor, ${counted(usage.processes, "process")}`
                  : "asked…"}
              </dd>
            </>
          )}
          {detail && (
            <>
              <dt>Proof</dt>
              <dd>{proofOf(detail)}</dd>
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
          {service.pending && service.pending.length > 0 && (
            <>
              <dt>With the next start</dt>
              <dd>{service.pending.join(", ")} take effect</dd>
            </>
          )}
          {service.busy && (
            <>
              <dt>Busy</dt>
              <dd>{service.busy}</dd>
            </>
          )}
          {service["quiet-until"] && (
            <>
              <dt>Quiet</dt>
              <dd>until {at(service["quiet-until"])} no alert of it is raised</dd>
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
          {detail && detail.needs.length > 0 && (
            <>
              <dt>Needs</dt>
              <dd>{detail.needs.join("; ")}</dd>
            </>
          )}
          {detail && detail["needed-by"].length > 0 && (
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
          {detail && (
            <>
              <dt>Clean stop</dt>
              <dd>
                waits {length(detail["wind-down-ms"])} in all
                {detail["usual-stop-ms"] != null && `; its stops usually take ${ms(detail["usual-stop-ms"])}`}
              </dd>
              <dt>Can be seen in</dt>
              <dd>
                <Seen detail={detail} />
              </dd>
            </>
          )}
        </dl>
      </div>
    </div>
  );
}

const beginsAt: Record<string, string> = {
  boot: "boot, before anyone logs in",
  "boot-late": "boot, after everything that starts at boot",
  request: "request, only when asked",
  never: "never: every start is refused",
};

const ms = (took: number) => (took < 100 ? `${Math.round(took)} ms` : `${(took / 1000).toFixed(2)} s`);

const proofOf = ({ proof }: ServiceDetail) =>
  proof.seen
    ? `${proof.seen}, ${ms(proof["took-ms"] ?? 0)} after its launch${proof["usual-ms"] == null ? "" : ` (usually ${ms(proof["usual-ms"])})`}`
    : `none yet: it serves once ${proof.awaited}`;

export const kindOf = (detail: ServiceDetail | undefined) =>
  (detail?.definition as { program?: { kind?: string } } | undefined)?.program?.kind;

/** It has a terminal for people, of a size. */
export const hasScreen = (detail: ServiceDetail | undefined) =>
  /^\d+x\d+$/.test(String((detail?.definition as { program?: { terminal?: unknown } } | undefined)?.program?.terminal));

/** It has a display of its own. */
export const hasWindow = (detail: ServiceDetail | undefined) =>
  (detail?.definition as { program?: { window?: unknown } } | undefined)?.program?.window !== undefined;

/** Log files that the program writes by itself. */
export const ownFiles = (detail: ServiceDetail | undefined): string[] =>
  Object.keys((detail?.definition as { output?: { files?: object } } | undefined)?.output?.files ?? {});

/** Where what it does can be seen. */
function Seen({ detail }: { detail: ServiceDetail }) {
  if (kindOf(detail) === "toggles") return "nothing: none of it runs between its two commands";
  const files = ownFiles(detail);
  const screens = [hasScreen(detail) && "its terminal", hasWindow(detail) && "its window"].filter(Boolean);
  return (
    <>
      <Link to="/services/$name/$section" params={{ name: detail.name, section: "output" }}>
        its output
      </Link>
      {files.length > 0 && `, its own log files (${files.join(", ")}), chosen there`}
      {screens.length > 0 && (
        <>
          ,{" "}
          <Link to="/services/$name/$section" params={{ name: detail.name, section: "screen" }}>
            {screens.join(" and ")}
          </Link>
        </>
      )}
    </>
  );
}
