import { ActionIcon, Button, Checkbox, Group, Select, Text, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { call } from "../api/page";
import type { components } from "../api/schema";
import { at } from "../live/clock";
import { useLine } from "../live/live";

type Line = components["schemas"]["OutputLineView"];

const keep = 100_000;
const lineHeight = 20;
const mostHits = 10_000;
/** Lines of a part that is looked at, and bytes before a hit from which it is read. */
const partLines = 2000;
const partBefore = 16_384;
const mostDownload = 256 * 1024 * 1024;
/** Colours and cursor movements a program meant for a terminal (ECMA-48). */
// biome-ignore lint/suspicious/noControlCharactersInRegex: an escape sequence begins with the control character ESC
const escapes = /\u001b\[[0-9;?]*[A-Za-z]|\r/g;

/** A part of what was printed before, instead of what comes. */
type Part = { query: Record<string, string>; said: string; place?: number };

/** What a service prints, as it prints it; what it printed before is found by text, time and run. */
export function Output(props: { name: string; run: number | undefined; runs: number[]; files: string[] }) {
  const { name, run, runs, files } = props;
  const [file, setFile] = useState<string | null>(null);
  const [errors, setErrors] = useState(false);
  const [times, setTimes] = useState(false);
  const [find, setFind] = useState("");
  const [text] = useDebouncedValue(find, 300);
  const [time, setTime] = useState("");
  const [part, setPart] = useState<Part | null>(null);
  const navigate = useNavigate();
  // Which run is shown stands in the address: a link leads to it.
  const show = (next: number | null) =>
    navigate({
      to: "/services/$name/$section",
      params: { name, section: "output" },
      search: next ? { run: next } : {},
      replace: true,
    });
  useEffect(
    () =>
      setPart((was) => (run ? { query: { run: String(run) }, said: `of run ${run}` } : was?.query.run ? null : was)),
    [run],
  );
  const go = (next: Part | null) => {
    setPart(next);
    if (run) show(null);
  };
  const leave = () => go(null);
  const narrowed = useMemo(
    (): Record<string, string> => (file ? { file } : errors ? { errors: "true" } : {}),
    [file, errors],
  );
  const live = useLines(name, narrowed, part === null);
  const read = useQuery({
    queryKey: ["output", name, part?.query, narrowed],
    queryFn: ({ signal }) => linesOf(name, { ...narrowed, ...part?.query, first: String(partLines) }, signal),
    enabled: part !== null,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const hits = useQuery({
    queryKey: ["output-hits", name, text, narrowed],
    queryFn: async ({ signal }) =>
      (await linesOf(name, { ...narrowed, find: text, last: String(mostHits) }, signal)).map((line) => line.place),
    enabled: text.length > 0,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const lines = part ? (read.data ?? []) : live;
  const places = hits.data ?? [];
  const hit = part?.place === undefined ? -1 : places.indexOf(part.place);
  const walk = (to: number) => {
    const place = places[to];
    if (place === undefined) return;
    go({
      query: { from: String(Math.max(0, place - partBefore)) },
      said: `hit ${to + 1} of ${places.length}`,
      place,
    });
  };

  return (
    <>
      <Group gap="xs" mb={6} align="center">
        <TextInput
          size="xs"
          w={170}
          placeholder="find in all of it"
          aria-label="Find a text"
          value={find}
          onChange={(event) => {
            setFind(event.currentTarget.value);
            if (part?.place !== undefined) leave();
          }}
          onKeyDown={(event) => {
            if (event.key === "Enter") walk(hit < 0 ? places.length - 1 : hit - 1);
          }}
        />
        {text.length > 0 && (
          <>
            <Text size="xs" c="dimmed" role="status">
              {hits.isFetching ? "looking…" : hitsInWords(places.length, hit)}
            </Text>
            <ActionIcon
              size="sm"
              variant="default"
              aria-label="The hit before"
              disabled={places.length === 0 || hit === 0}
              onClick={() => walk(hit < 0 ? places.length - 1 : hit - 1)}
            >
              ↑
            </ActionIcon>
            <ActionIcon
              size="sm"
              variant="default"
              aria-label="The next hit"
              disabled={hit < 0 || hit >= places.length - 1}
              onClick={() => walk(hit + 1)}
            >
              ↓
            </ActionIcon>
          </>
        )}
        <TextInput
          size="xs"
          w={110}
          placeholder="at 03:12"
          aria-label="Go to a time"
          value={time}
          onChange={(event) => setTime(event.currentTarget.value)}
          onKeyDown={(event) => {
            if (event.key === "Enter" && time.trim())
              go({ query: { since: time.trim() }, said: `from ${time.trim()} on` });
          }}
        />
        {files.length > 0 && (
          <Select
            size="xs"
            w={120}
            placeholder="its output"
            aria-label="Of a log file of its own"
            clearable
            value={file}
            onChange={(next) => {
              go(null);
              setFile(next);
            }}
            data={files}
          />
        )}
        <Select
          size="xs"
          w={110}
          disabled={file !== null}
          placeholder="of a run"
          aria-label="Only of a run"
          clearable
          value={part?.query.run ?? null}
          onChange={(next) => show(next ? Number(next) : null)}
          data={[...new Set(run ? [run, ...runs] : runs)].map((one) => ({ value: String(one), label: `run ${one}` }))}
        />
        <Checkbox
          size="xs"
          label="errors only"
          checked={errors && file === null}
          disabled={file !== null}
          onChange={(event) => setErrors(event.currentTarget.checked)}
        />
        <Checkbox size="xs" label="times" checked={times} onChange={(event) => setTimes(event.currentTarget.checked)} />
        {file === null && <Download name={name} />}
        {part && (
          <Button size="compact-xs" variant="light" onClick={leave}>
            What comes now
          </Button>
        )}
      </Group>
      {part && (
        <Text size="xs" c="dimmed" mb={4}>
          {read.error ? String(read.error.message) : `What is shown: ${part.said}.`}
        </Text>
      )}
      <Rows
        lines={lines}
        times={times}
        mark={text}
        place={part?.place}
        follows={part === null}
        none={part ? (read.isFetching ? "Reading…" : "Nothing was printed there.") : "Nothing printed so far."}
      />
    </>
  );
}

const nothing = {};

/** The end of what it prints, as it prints it. */
export function LastOutput({ name }: { name: string }) {
  const lines = useLines(name, nothing, true);
  return <Rows lines={lines} times={false} mark="" place={undefined} follows none="Nothing printed so far." brief />;
}

function hitsInWords(count: number, hit: number): string {
  if (count === 0) return "not found";
  const all = count >= mostHits ? `the latest ${count}` : `${count}`;
  return hit < 0 ? `${all} ${count === 1 ? "hit" : "hits"}` : `${hit + 1} of ${all}`;
}

function Rows(props: {
  lines: Line[];
  times: boolean;
  mark: string;
  place: number | undefined;
  follows: boolean;
  none: string;
  brief?: boolean;
}) {
  const { lines, times, mark, place, follows, none, brief } = props;
  const box = useRef<HTMLDivElement>(null);
  const atEnd = useRef(true);
  const top = useRef(0);
  const rows = useVirtualizer({
    count: lines.length,
    getScrollElement: () => box.current,
    estimateSize: () => lineHeight,
    overscan: 20,
  });
  const hit = useMemo(() => lines.findIndex((line) => line.place === place), [lines, place]);

  useEffect(() => {
    if (follows && atEnd.current && lines.length > 0) rows.scrollToIndex(lines.length - 1, { align: "end" });
    else if (!follows && lines.length > 0)
      rows.scrollToIndex(Math.max(0, hit), { align: hit < 0 ? "start" : "center" });
  }, [lines, rows, follows, hit]);

  return (
    <section
      className={brief ? "output brief sheet" : "output sheet"}
      ref={box}
      aria-label="Output"
      // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard
      tabIndex={0}
      onScroll={(event) => {
        const element = event.currentTarget;
        // Only somebody who goes up leaves the end: that more has come is no such thing.
        if (element.scrollHeight - element.scrollTop - element.clientHeight < lineHeight * 2) atEnd.current = true;
        else if (element.scrollTop < top.current) atEnd.current = false;
        top.current = element.scrollTop;
      }}
    >
      {lines.length === 0 && <div className="line quiet">{none}</div>}
      <div style={{ height: rows.getTotalSize(), position: "relative" }}>
        {rows.getVirtualItems().map((item) => {
          const line = lines[item.index];
          return (
            line && (
              <div
                key={item.key}
                className={`line ${line.stream} ${line.place === place ? "here" : ""}`}
                style={{ position: "absolute", top: 0, transform: `translateY(${item.start}px)` }}
              >
                {times && <span className="quiet">{line.at ? `${momentOf(line.at)}  ` : "(no time)     "}</span>}
                <Marked text={line.text.replace(escapes, "")} mark={mark} />
                {Number(line.cut) > 0 && <span className="quiet"> … and {line.cut} bytes more</span>}
              </div>
            )
          );
        })}
      </div>
    </section>
  );
}

const momentOf = (time: string) => `${at(time)}${/\.\d{3}/.exec(time)?.[0] ?? ".000"}`;

function Marked({ text, mark }: { text: string; mark: string }) {
  if (!mark || !text.includes(mark)) return text;
  const parts = text.split(mark);
  return parts.map((part, i) => (
    // biome-ignore lint/suspicious/noArrayIndexKey: parts of one line have no other name
    <span key={i}>
      {i > 0 && <mark>{mark}</mark>}
      {part}
    </span>
  ));
}

/** All that is kept, byte for byte; what is too much for a browser is left to the host. */
function Download({ name }: { name: string }) {
  const [said, setSaid] = useState<string | null>(null);
  const load = async () => {
    setSaid("loading…");
    const stop = new AbortController();
    const response = await call(`/api/services/${encodeURIComponent(name)}/output?from=0`, { signal: stop.signal });
    const chunks: BlobPart[] = [];
    let size = 0;
    const reader = response.body?.getReader();
    for (let chunk = await reader?.read(); chunk && !chunk.done; chunk = await reader?.read()) {
      chunks.push(chunk.value as BlobPart);
      size += chunk.value.byteLength;
      if (size > mostDownload) {
        stop.abort();
        setSaid("more than 256 MiB: copy it from the host");
        return;
      }
    }
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob(chunks, { type: "text/plain" }));
    link.download = `${name}.log`;
    link.click();
    URL.revokeObjectURL(link.href);
    setSaid(null);
  };
  return (
    <Button size="compact-xs" variant="default" onClick={() => load().catch(() => setSaid("the connection broke"))}>
      {said ?? "Download"}
    </Button>
  );
}

async function linesOf(name: string, query: Record<string, string>, signal: AbortSignal): Promise<Line[]> {
  const lines: Line[] = [];
  for await (const line of stream(name, query, signal)) lines.push(line);
  // Read from a place within it, the first line has no beginning.
  return query.from && query.from !== "0" ? lines.slice(1) : lines;
}

async function* stream(name: string, query: Record<string, string>, signal: AbortSignal): AsyncGenerator<Line> {
  const response = await call(`/api/services/${encodeURIComponent(name)}/output/lines?${new URLSearchParams(query)}`, {
    signal,
  });
  if (!response.ok || !response.body) {
    const problem = (await response.json().catch(() => null)) as { detail?: string } | null;
    throw new Error(problem?.detail ?? "The sentry did not answer.");
  }
  const decoder = new TextDecoder();
  const reader = response.body.getReader();
  let rest = "";
  for (let chunk = await reader.read(); !chunk.done; chunk = await reader.read()) {
    const parts = (rest + decoder.decode(chunk.value, { stream: true })).split("\n");
    rest = parts.pop() ?? "";
    for (const part of parts) yield JSON.parse(part) as Line;
  }
}

/** What comes. After a break it goes on where it was: lines that were seen are known by their places. */
function useLines(name: string, narrowed: Record<string, string>, wanted: boolean) {
  const [lines, setLines] = useState<Line[]>([]);
  const latest = useRef<number[]>([]);
  const live = useLine().state === "live";

  // biome-ignore lint/correctness/useExhaustiveDependencies: other lines are wanted when one of these changes
  useEffect(() => {
    latest.current = [];
    setLines([]);
  }, [name, narrowed]);

  useEffect(() => {
    if (!live || !wanted) return;
    const stop = new AbortController();
    let fresh: Line[] = [];
    let frame = 0;
    const show = () => {
      frame = 0;
      const more = fresh;
      fresh = [];
      setLines((known) => known.concat(more).slice(-keep));
    };
    const read = async () => {
      const seen = new Set(latest.current);
      const range: Record<string, string> = seen.size === 0 ? { last: "500" } : { from: String(Math.min(...seen)) };
      for await (const line of stream(name, { ...narrowed, ...range, follow: "true" }, stop.signal)) {
        if (seen.has(line.place)) continue;
        latest.current = [...latest.current.slice(-100), line.place];
        fresh.push(line);
        frame ||= requestAnimationFrame(show);
      }
    };
    // A break shows on the line at the top of the page; it leads back here once that is live again.
    read().catch(() => undefined);
    return () => {
      stop.abort();
      cancelAnimationFrame(frame);
      if (fresh.length > 0) show();
    };
  }, [name, narrowed, live, wanted]);

  return lines;
}
