import { SegmentedControl } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type StripView, take } from "../api/client";
import { Trouble } from "../app/Trouble";
import { useLine } from "../live/live";
import { tickLabel, ticksTo } from "../live/ticks";
import "./alerts.css";

const spans = [
  { value: "1 h", label: "an hour" },
  { value: "1 d", label: "a day" },
  { value: "7 d", label: "a week" },
  { value: "31 d", label: "a month" },
];

const said: Record<string, string> = { up: "ran", planned: "was not to run", fallen: "failed" };

/** What happened while nobody looked: two lines when all was well. */
export function ReportPage() {
  const live = useLine().state === "live";
  const [span, setSpan] = useState("1 d");
  const report = useQuery({
    queryKey: ["report", span],
    queryFn: () => take(api.GET("/api/report", { params: { query: { for: span } } })),
    enabled: live,
    refetchOnMount: "always",
    refetchInterval: 30_000,
  });
  const view = report.data;
  const ticks = view ? ticksOf(Date.parse(view.from), Date.parse(view.until)) : [];
  return (
    <>
      <h1>Report</h1>
      <SegmentedControl aria-label="How far back" data={spans} value={span} onChange={setSpan} />
      <Trouble of={report} />
      {view && (
        <>
          <h2 className="report-subject">{view.subject}</h2>
          <p>{view.lead}</p>
          {view.strips.length > 0 && (
            <figure className="sheet report-strips">
              {view.strips.map((strip) => (
                <Strip key={strip.service} strip={strip} ticks={ticks} />
              ))}
              <div className="axis" aria-hidden="true">
                {ticks.map(({ share, words }) => (
                  <span key={share} style={{ left: `${share * 100}%` }}>
                    {words}
                  </span>
                ))}
              </div>
              <figcaption className="quiet">
                <i className="key up" /> ran <i className="key planned" /> was not to run <i className="key fallen" /> ▲
                failed
              </figcaption>
            </figure>
          )}
          {view.parts
            // The picture says it already.
            .filter((part) => part.part !== "strips")
            .map((part) => (
              <section key={part.title}>
                <h2>{part.title}</h2>
                <ul className="report-lines">
                  {part.lines.map((line) => (
                    <li key={line}>{line}</li>
                  ))}
                </ul>
              </section>
            ))}
        </>
      )}
    </>
  );
}

type Tick = { share: number; words: string };

const ticksOf = (from: number, until: number): Tick[] =>
  ticksTo(from, until).map((tick) => ({ share: (tick - from) / (until - from), words: tickLabel(tick, until - from) }));

function Strip({ strip, ticks }: { strip: StripView; ticks: Tick[] }) {
  const words = strip.parts
    .map((part) => `${said[part.time]} ${Math.round((part.to - part.from) * 1000) / 10} %`)
    .join(", ");
  return (
    <div className="report-strip">
      <Link to="/services/$name" params={{ name: strip.service }}>
        {strip.title}
      </Link>
      <div className="track" role="img" aria-label={`${strip.title}: ${words || "not there"}`}>
        {strip.parts.map((part) => (
          <b
            key={part.from}
            className={part.time}
            title={said[part.time]}
            style={{ left: `${part.from * 100}%`, width: `${Math.max(0.2, (part.to - part.from) * 100)}%` }}
          />
        ))}
        {ticks.map(({ share }) => (
          <i key={share} style={{ left: `${share * 100}%` }} />
        ))}
      </div>
      <span className="number quiet">{failures(strip)}</span>
    </div>
  );
}

const failures = (strip: StripView) => {
  const count = strip.parts.filter((part) => part.time === "fallen").length;
  return count === 0 ? "" : `▲ ${count}`;
};
