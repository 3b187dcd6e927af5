import { Button, TextInput } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { CallError, type RehearsalEvent, type RehearsalReport } from "../api/client";
import { asked } from "../api/lines";
import { call } from "../api/page";
import { counted } from "../app/counted";
import type { Definition } from "./draft";

type Line = { id: number; kind: string; text: string };

/** The program run just as its service would run it, live, and what was seen. Leaving the page ends it. */
export function Rehearsal({
  definition,
  onAdopt,
}: {
  definition: Definition;
  onAdopt: (adoption: Definition) => void;
}) {
  const [length, setLength] = useState("10s");
  const [lines, setLines] = useState<Line[]>([]);
  const [report, setReport] = useState<RehearsalReport>();
  const [problem, setProblem] = useState<string>();
  const [id, setId] = useState<string>();
  const [playing, setPlaying] = useState(false);
  const leave = useRef<AbortController>(undefined);
  useEffect(() => () => leave.current?.abort(), []);

  const play = async () => {
    setLines([]);
    setReport(undefined);
    setProblem(undefined);
    setPlaying(true);
    leave.current = new AbortController();
    try {
      const events = asked<RehearsalEvent>(
        `/api/rehearsals?length=${encodeURIComponent(length)}`,
        definition,
        leave.current.signal,
      );
      for await (const event of events) {
        if (event.id) setId(event.id);
        if (event.report) setReport(event.report);
        else
          setLines((before) => [
            ...before.slice(-499),
            { id: (before.at(-1)?.id ?? 0) + 1, kind: event.kind, text: event.text ?? "" },
          ]);
      }
    } catch (error) {
      if (error instanceof CallError) setProblem(error.message);
      else if (!leave.current.signal.aborted) setProblem(`The rehearsal was cut off: ${(error as Error).message}`);
    } finally {
      setPlaying(false);
      setId(undefined);
    }
  };

  return (
    <>
      <div className="bar">
        <TextInput
          aria-label="For how long"
          value={length}
          onChange={(event) => setLength(event.currentTarget.value)}
          w={90}
          disabled={playing}
        />
        {playing ? (
          <Button variant="default" onClick={() => id && call(`/api/rehearsals/${id}/end`, { method: "POST" })}>
            End it now
          </Button>
        ) : (
          <Button variant="default" onClick={play}>
            Rehearse
          </Button>
        )}
      </div>
      {problem && (
        <p className="attention" role="alert">
          ▲ {problem}
        </p>
      )}
      {lines.length > 0 && (
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard
        <div className="stage" role="log" aria-label="What it prints" tabIndex={0}>
          {lines.map((line) => (
            <div key={line.id} data-kind={line.kind}>
              {line.kind === "error" ? "! " : line.kind === "output" ? "  " : "… "}
              {line.text}
            </div>
          ))}
        </div>
      )}
      {report && <Report report={report} onAdopt={onAdopt} />}
    </>
  );
}

function Report({ report, onAdopt }: { report: RehearsalReport; onAdopt: (adoption: Definition) => void }) {
  const mib = (report["peak-bytes"] / 1048576).toFixed(1);
  return (
    <div role="status">
      <p className={report["stayed-up"] ? undefined : "attention"}>
        {report["stayed-up"] ? "✓" : "▲"} {report.said} {report.stop}
      </p>
      <dl className="facts">
        <dt>Ports</dt>
        <dd>
          {report.ports.length === 0
            ? "none opened"
            : report.ports.map((port) => `${port.protocol} ${port.port} (${port.reach})`).join(", ")}
        </dd>
        <dt>Files written</dt>
        <dd>{report.files.length === 0 ? "none" : report.files.slice(0, 6).join(", ")}</dd>
        <dt>Used</dt>
        <dd>
          {mib} MiB at most, {(report["cpu-us"] / 1e6).toFixed(2)} s of processor time,{" "}
          {counted(report.children, "child process")}
        </dd>
        {report.picture && (
          <>
            <dt>Its window</dt>
            <dd>
              <img className="window-kept" alt="What it showed last" src={`data:image/png;base64,${report.picture}`} />
            </dd>
          </>
        )}
      </dl>
      {report.proposals.length > 0 && (
        <ul className="findings">
          {report.proposals.map((proposal) => (
            <li key={proposal.key + proposal.why}>
              <code>
                {proposal.key}
                {proposal.value ? `: ${proposal.value}` : ""}
              </code>
              <p className="quiet">{proposal.why}</p>
            </li>
          ))}
        </ul>
      )}
      {report.adoption != null && (
        <Button variant="default" onClick={() => onAdopt(report.adoption as Definition)}>
          Take over what is proposed
        </Button>
      )}
    </div>
  );
}
