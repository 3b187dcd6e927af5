import { Button, Group, SegmentedControl } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { type AheadView, api, type PlannedView, take } from "../api/client";
import { Trouble } from "../app/Trouble";
import { seconds } from "../drill/TimeLine";
import { at, length } from "../live/clock";
import { onLogged, useLine } from "../live/live";
import { tickLabel, ticksTo } from "../live/ticks";
import "./ahead.css";

const spans = [
  { value: "6 h", label: "6 hours" },
  { value: "1 d", label: "a day" },
  { value: "7 d", label: "a week" },
  { value: "30 d", label: "30 days" },
];

/** What is planned, on one axis of time, so that clashes and crowded hours are seen. */
export function AheadPage() {
  const live = useLine().state === "live";
  const [span, setSpan] = useState("1 d");
  const ahead = useQuery({
    queryKey: ["ahead", span],
    queryFn: () => take(api.GET("/api/ahead", { params: { query: { for: span } } })),
    refetchInterval: 10_000,
    enabled: live,
  });
  useEffect(() => onLogged(() => void ahead.refetch()), [ahead.refetch]);
  const view = ahead.data;
  return (
    <>
      <h1>Ahead</h1>
      <p>Runs of jobs and planned restarts, each with how long it usually takes.</p>
      <SegmentedControl aria-label="How far ahead" data={spans} value={span} onChange={setSpan} />
      <Trouble of={ahead} />
      {view?.planned.length === 0 && (
        <p className="quiet">
          Nothing is planned. A job has <code>program.kind: periodic</code> and a <code>rhythm</code>; a restart of a
          program that stays is planned with <code>--rhythm 'restart:daily at 01:00'</code>.
        </p>
      )}
      {view && view.planned.length > 0 && (
        <>
          <Axis view={view} />
          <h2>Next</h2>
          <div className="sheet rows ahead-rows">
            <div className="row heads">
              <span>Service</span>
              <span>What</span>
              <span>Next</span>
              <span>Rhythm</span>
              <span className="right">Usually</span>
              <span />
            </div>
            {view.planned.map((planned) => (
              <Row
                key={`${planned.service} ${planned.what} ${planned.when}`}
                planned={planned}
                live={live}
                onDone={() => void ahead.refetch()}
              />
            ))}
          </div>
        </>
      )}
      {view && view.quiet.length > 0 && <Quiet quiet={view.quiet} />}
    </>
  );
}

/** Standing quiet times: nothing takes its turn in them, so they are on no axis. */
function Quiet({ quiet }: { quiet: PlannedView[] }) {
  return (
    <>
      <h2>Quiet times</h2>
      <div className="sheet rows ahead-rows">
        <div className="row heads">
          <span>Service</span>
          <span>For</span>
          <span>Next</span>
          <span>Rhythm</span>
          <span />
          <span />
        </div>
        {quiet.map((one) => (
          <div className="row" key={`${one.service} ${one.when}`}>
            <Link to="/services/$name" params={{ name: one.service }}>
              {one.title}
            </Link>
            <span>{length(one["lasts-ms"] ?? 0)}</span>
            <span className="number">{one.moments[0] ? at(one.moments[0]) : "–"}</span>
            <span>
              {one.when} <span className="quiet">{one.zone}</span>
            </span>
            <span />
            <span />
          </div>
        ))}
      </div>
    </>
  );
}

const usually = (planned: PlannedView) =>
  planned["usual-ms"] == null
    ? "–"
    : `${seconds(planned["usual-ms"])}${planned["slow-ms"] == null ? "" : `, up to ${seconds(planned["slow-ms"])}`}`;

function Row({ planned, live, onDone }: { planned: PlannedView; live: boolean; onDone: () => void }) {
  const path = { params: { path: { name: planned.service } } };
  const asked = useMutation({
    mutationFn: (what: "skip" | "advance") => take(api.POST(`/api/services/{name}/${what}`, path)),
    onSettled: onDone,
  });
  const busy = asked.isPending || !live || planned.moments.length === 0;
  return (
    <div className="row">
      <Link to="/services/$name" params={{ name: planned.service }}>
        {planned.title}
      </Link>
      <span>{planned.what}</span>
      <span className="number">{planned.moments[0] ? at(planned.moments[0]) : "–"}</span>
      <span>
        {planned.when} <span className="quiet">{planned.zone}</span>
      </span>
      <span className="right number">{usually(planned)}</span>
      <Group gap={6} justify="flex-end">
        <Button size="compact-xs" variant="default" disabled={busy} onClick={() => asked.mutate("skip")}>
          Skip
        </Button>
        <Button size="compact-xs" variant="default" disabled={busy} onClick={() => asked.mutate("advance")}>
          Now
        </Button>
      </Group>
      {(asked.data || asked.error) && (
        <p role="status" className={asked.error ? "attention wide" : "quiet wide"}>
          {asked.error ? `▲ ${asked.error.message}` : asked.data?.said}
        </p>
      )}
    </div>
  );
}

/** A row a rhythm: each moment is a bar as long as it usually takes; below, how many are at work at once. */
function Axis({ view }: { view: AheadView }) {
  const [from, until] = [Date.parse(view.from), Date.parse(view.until)];
  const left = (moment: number) => `${((moment - from) / (until - from)) * 100}%`;
  const ticks = ticksTo(from, until);
  const crowd = crowdOf(view, from, until);
  const most = Math.max(1, ...crowd.map(({ count }) => count));
  return (
    <figure className="ahead sheet" aria-label="Time axis: a row a rhythm, a mark a moment">
      <div className="axis" aria-hidden="true">
        {ticks.map((tick) => (
          <span key={tick} style={{ left: left(tick) }}>
            {tickLabel(tick, until - from)}
          </span>
        ))}
      </div>
      <ol>
        {view.planned.map((planned) => (
          <li key={`${planned.service} ${planned.what} ${planned.when}`}>
            <Link to="/services/$name" params={{ name: planned.service }}>
              {planned.title}
            </Link>
            <div className="track" title={`${planned.what} ${planned.when}: ${planned.count} moments`}>
              {ticks.map((tick) => (
                <i key={tick} style={{ left: left(tick) }} />
              ))}
              {planned.count > dense ? (
                <b className="dense" style={{ left: 0, width: "100%" }} />
              ) : (
                planned.moments.map((moment) => (
                  <b
                    key={moment}
                    className={planned.what}
                    title={at(moment)}
                    style={{
                      left: left(Date.parse(moment)),
                      width: `${((planned["usual-ms"] ?? 0) / (until - from)) * 100}%`,
                    }}
                  />
                ))
              )}
            </div>
            <span className="unseen">
              {planned.service}: {planned.what} {planned.when}, {planned.count} moments, the next at{" "}
              {planned.moments[0] ? at(planned.moments[0]) : "none"}
            </span>
          </li>
        ))}
        <li className="crowd">
          <span className="quiet">begin together</span>
          <div className="track" title={`at most ${most} within a column`}>
            {crowd.map(({ column, count }) => (
              <b
                key={column}
                style={{
                  left: `${(column / columns) * 100}%`,
                  width: `${100 / columns}%`,
                  height: `${(count / most) * 100}%`,
                }}
                title={`${count} moments`}
              />
            ))}
          </div>
        </li>
      </ol>
      <figcaption className="quiet">
        <span className="key run" /> run <span className="key restart" /> restart <span className="key dense" /> more
        than {dense} moments; the last row shows how many fall together, {most} at most
      </figcaption>
    </figure>
  );
}

/** More marks than this are a band. */
const dense = 300;

const columns = 96;

/** How many moments fall into each of so many equal parts of the time; what comes all the time counts in none. */
function crowdOf(view: AheadView, from: number, until: number) {
  const crowd = Array.from({ length: columns }, () => 0);
  for (const planned of view.planned) {
    if (planned.count > dense) continue;
    for (const moment of planned.moments) {
      const column = Math.min(columns - 1, Math.floor(((Date.parse(moment) - from) / (until - from)) * columns));
      crowd[column] = (crowd[column] ?? 0) + 1;
    }
  }
  return crowd.map((count, column) => ({ column, count })).filter(({ count }) => count > 0);
}
