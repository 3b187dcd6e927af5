import { Link } from "@tanstack/react-router";
import type { BeginReport, BeginView } from "../api/client";

/** To the hundredth of a second while it matters. */
export const seconds = (ms: number) => `${(ms / 1000).toFixed(ms < 10_000 ? 2 : 1)} s`;

/** How each service began, one bar each: waiting, starting, proven. Times from the word to begin, or of a boot from the boot. */
export function TimeLine({ report }: { report: BeginReport }) {
  const since = report.booted ? Date.parse(report.began) - Date.parse(report.booted) : 0;
  const begun = report.services.filter((one) => one.came !== "not-begun");
  if (begun.length === 0) return <p className="quiet">Nothing has started.</p>;
  const end = Math.max(1, report["took-ms"], ...begun.map((one) => one["proven-ms"] ?? one["launched-ms"] ?? 0));
  const whole = end * 1.04;
  const ticks = ticksTo(end);
  return (
    <figure className="timeline sheet" aria-label="Time line: one bar a service, waiting, starting, ready">
      <div className="axis" aria-hidden="true">
        {ticks.map((tick) => (
          <span key={tick} style={{ left: `${(tick / whole) * 100}%` }}>
            {seconds(tick + since)}
          </span>
        ))}
        <span className="last">ready at</span>
      </div>
      <ol>
        {begun.map((one) => (
          <li key={one.name}>
            <Link to="/services/$name" params={{ name: one.name }}>
              {one.title}
            </Link>
            <div className="track" title={sentence(one, since)}>
              {ticks.map((tick) => (
                <i key={tick} style={{ left: `${(tick / whole) * 100}%` }} />
              ))}
              <Bar of={one} whole={whole} />
            </div>
            <span className={one.came === "proven" || one.came === "over" ? "number" : "attention"}>
              {came(one, since)}
            </span>
            <span className="unseen">{sentence(one, since)}</span>
          </li>
        ))}
      </ol>
      <figcaption className="quiet">
        <span className="key waiting" /> waiting <span className="key starting" /> starting{" "}
        <span className="key proven" /> ready
      </figcaption>
    </figure>
  );
}

function came(one: BeginView, since: number) {
  if (one.came === "proven") return seconds((one["proven-ms"] ?? 0) + since);
  return one.came === "over" ? "ended well" : `▲ ${one.came}`;
}

function Bar({ of, whole }: { of: BeginView; whole: number }) {
  const [wanted, launched, proven] = [of["wanted-ms"], of["launched-ms"], of["proven-ms"]];
  const part = (kind: string, from: number, to: number) => (
    <b
      className={kind}
      style={{ left: `${(from / whole) * 100}%`, width: `${(Math.max(0, to - from) / whole) * 100}%` }}
    />
  );
  return (
    <>
      {wanted != null && part("waiting", wanted, launched ?? whole)}
      {launched != null && part("starting", launched, proven ?? whole)}
      {proven != null && part("proven", proven, whole)}
    </>
  );
}

/** The same in words, for whoever would rather read. */
function sentence(one: BeginView, since: number) {
  const waited = one.waited
    .filter((wait) => wait.ms >= 1)
    .map((wait) => `${seconds(wait.ms)} for ${wait.for}${wait["passed-over"] ? " in vain" : ""}`);
  const words = [
    waited.length > 0 ? `waited ${waited.join(", ")}` : "waited for nothing",
    one["launched-ms"] != null ? `launched at ${seconds(one["launched-ms"] + since)}` : "not launched",
    one["proven-ms"] != null ? `ready at ${seconds(one["proven-ms"] + since)}: ${one.proof}` : one.why,
  ];
  return `${one.name}: ${words.join("; ")}`;
}

/** Four to eight round times. */
function ticksTo(end: number) {
  const rough = end / 6;
  const power = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 5, 10].map((one) => one * power).find((one) => one >= rough) ?? rough;
  return Array.from({ length: Math.floor(end / step) + 1 }, (_, index) => index * step);
}
