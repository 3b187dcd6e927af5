import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { Fragment, useState } from "react";
import { api, type RunView, type ServiceDetail, take } from "../api/client";
import { at, length, Since } from "../live/clock";
import { Kept as KeptPicture } from "../window/Kept";
import { size } from "./usage";

/** How its runs went, the latest first; each opens to all that is kept of it. */
export function Runs({ name, latest }: { name: string; latest: readonly RunView[] }) {
  const [all, setAll] = useState(false);
  const [open, setOpen] = useState<number>();
  const more = useQuery({
    queryKey: ["runs", name, latest[0]?.run, latest[0]?.ended],
    queryFn: () => take(api.GET("/api/services/{name}/runs", { params: { path: { name }, query: { last: 200 } } })),
    enabled: all,
  });
  const runs = (all && more.data) || latest;
  if (runs.length === 0) return <p className="quiet">It has never run.</p>;
  return (
    <>
      <div className="sheet wide-table">
        <table className="plain runs">
          <thead>
            <tr>
              {[
                "Run",
                "Files",
                "Started",
                "By",
                "Lasted",
                "Ended by",
                "Peak memory",
                "CPU",
                "Output",
                "How it ended",
              ].map((head) => (
                <th key={head}>{head}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {runs.map((run) => (
              <Fragment key={run.run}>
                <tr className={run.bad ? "bad" : undefined}>
                  <td>
                    <button
                      type="button"
                      className="opens number"
                      aria-expanded={open === run.run}
                      onClick={() => setOpen(open === run.run ? undefined : run.run)}
                    >
                      {open === run.run ? "−" : "+"} {run.run}
                    </button>
                  </td>
                  <td className="number">{run.version ?? "–"}</td>
                  <td className="number">{at(run.began)}</td>
                  <td>{run["begun-by"] ?? run.cause}</td>
                  <td>
                    {run.ended ? (
                      <span className="number">
                        {length(Date.parse(run.ended) - Date.parse(run.launched ?? run.began))}
                      </span>
                    ) : (
                      <Since time={run.launched ?? run.began} />
                    )}
                  </td>
                  <td>{run["ended-by"] ?? "–"}</td>
                  <td className="number">{size(run["peak-kib"] && run["peak-kib"] * 1024)}</td>
                  <td className="number">{run["cpu-us"] == null ? "–" : `${(run["cpu-us"] / 1e6).toFixed(2)} s`}</td>
                  <td className="number">
                    <Link to="/services/$name/$section" params={{ name, section: "output" }} search={{ run: run.run }}>
                      {size(run["output-bytes"])}
                    </Link>
                  </td>
                  <td>
                    {run.words ?? "running"}
                    {run.forced && ", after its steps did not suffice"}
                  </td>
                </tr>
                {open === run.run && (
                  <tr>
                    <td colSpan={10}>
                      <Kept name={name} run={run} />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </table>
      </div>
      {!all && latest.length >= 10 && (
        <Button variant="default" size="xs" mt={8} onClick={() => setAll(true)}>
          Show more runs
        </Button>
      )}
    </>
  );
}

function Kept({ name, run }: { name: string; run: RunView }) {
  const { evidence } = run;
  const ms = (took: number) => (took < 1000 ? `${Math.round(took)} ms` : `${(took / 1000).toFixed(1)} s`);
  return (
    <dl className="facts">
      <dt>Launched</dt>
      <dd>{run.launched ? `${at(run.launched)}, pid ${run.pid}` : "never"}</dd>
      <dt>Ready</dt>
      <dd>{run.proven ? `${at(run.proven)}: ${run.proof}` : "never"}</dd>
      {run.steps.map((step) => (
        <Fragment key={`${step.at} ${step.what}`}>
          <dt>Wind-down</dt>
          <dd>
            {at(step.at)} {step.what}
            {step.answer && `: ${step.answer}`}
            {step.failed && " (failed)"}
            {step["ended-ms"] != null && `; it ended ${ms(step["ended-ms"])} after that`}
          </dd>
        </Fragment>
      ))}
      {run["picture-at"] && (
        <>
          <dt>Its window</dt>
          <dd>
            as it was last seen, at {at(run["picture-at"])}
            <KeptPicture name={name} run={run.run} taken={run["picture-at"]} />
          </dd>
        </>
      )}
      {evidence && (
        <>
          {evidence["memory-bytes"] != null && (
            <>
              <dt>At the last look</dt>
              <dd>
                memory {size(evidence["memory-bytes"])}
                {evidence["cpu-percent"] != null && `, processor ${Math.round(evidence["cpu-percent"])} %`}
                {evidence["sampled-at"] && `, at ${at(evidence["sampled-at"])}`}
              </dd>
            </>
          )}
          {evidence["core-dump"] && (
            <>
              <dt>Core dump</dt>
              <dd>{evidence["core-dump"]}</dd>
            </>
          )}
          <dt>Changed</dt>
          <dd>
            {evidence["well-run"] == null
              ? "it has never run well before, so there is nothing to compare with"
              : evidence.changes.length === 0
                ? `nothing that is looked at, since run ${evidence["well-run"]} went well`
                : `since run ${evidence["well-run"]} went well: ${evidence.changes.join(" ")}`}
          </dd>
          <dt>Last lines</dt>
          <dd>
            <pre className="last-lines">{evidence["last-lines"].join("\n") || "it printed nothing"}</pre>
          </dd>
        </>
      )}
    </dl>
  );
}

const windows: Record<string, string> = {
  day: "a day",
  week: "a week",
  "30-days": "30 days",
  "12-months": "12 months",
};

const time = (ms: number | null | undefined) => (ms != null && ms > 0 ? length(ms) : "–");

/** Of the time it was to run, how much it ran; planned stops are told apart from failures. Of a job, how its runs went. */
export function Availability({ detail }: { detail: ServiceDetail }) {
  const isJob = detail.availability.every((of) => of.job != null);
  const heads = isJob
    ? ["Over", "Done", "Failed", "Missed", "Late", "Usually", "Longest"]
    : ["Over", "Ran", "Up", "Failed", "Failures", "Planned stops", "Planned down"];
  return (
    <div className="sheet">
      <table className="plain">
        <thead>
          <tr>
            {heads.map((head) => (
              <th key={head}>{head}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {detail.availability.map((of) => (
            <tr key={of.window}>
              <td>{windows[of.window]}</td>
              {(of.job
                ? [
                    of.job.done,
                    of.job.failed,
                    of.job.missed,
                    of.job.late,
                    time(of.job["usual-ms"]),
                    time(of.job["longest-ms"]),
                  ]
                : [
                    of.percent == null ? "–" : `${Math.floor(of.percent * 1000) / 1000} %`,
                    time(of["up-ms"]),
                    time(of["fallen-ms"]),
                    of.falls,
                    of.stops,
                    time(of["planned-ms"]),
                  ]
              ).map((figure, column) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: columns stay where they are
                <td key={column} className="number">
                  {figure}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
