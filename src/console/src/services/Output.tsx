import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, useState } from "react";
import { call } from "../api/page";
import { useLine } from "../live/live";

const keep = 20_000;
const lineHeight = 20;
/** Colours and cursor movements a program meant for a terminal (ECMA-48). */
// biome-ignore lint/suspicious/noControlCharactersInRegex: an escape sequence begins with the control character ESC
const escapes = /\u001b\[[0-9;?]*[A-Za-z]|\r/g;

/** What a service prints, as it prints it. After a break it goes on where it was. */
export function Output({ name }: { name: string }) {
  const lines = useOutput(name);
  const box = useRef<HTMLDivElement>(null);
  const atEnd = useRef(true);
  const rows = useVirtualizer({
    count: lines.length,
    getScrollElement: () => box.current,
    estimateSize: () => lineHeight,
    overscan: 20,
  });

  useEffect(() => {
    if (atEnd.current && lines.length > 0) rows.scrollToIndex(lines.length - 1, { align: "end" });
  }, [lines, rows]);

  return (
    <section
      className="output sheet"
      ref={box}
      aria-label="Output"
      // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard
      tabIndex={0}
      onScroll={(event) => {
        const element = event.currentTarget;
        atEnd.current = element.scrollHeight - element.scrollTop - element.clientHeight < lineHeight * 2;
      }}
    >
      {lines.length === 0 && <div className="line quiet">Nothing printed so far.</div>}
      <div style={{ height: rows.getTotalSize(), position: "relative" }}>
        {rows.getVirtualItems().map((item) => (
          <div
            key={item.key}
            className="line"
            style={{ position: "absolute", top: 0, transform: `translateY(${item.start}px)` }}
          >
            {lines[item.index]}
          </div>
        ))}
      </div>
    </section>
  );
}

function useOutput(name: string) {
  const [lines, setLines] = useState<string[]>([]);
  const offset = useRef<number | null>(null);
  const rest = useRef("");
  const live = useLine().state === "live";

  useEffect(() => {
    if (!live) return;
    const stop = new AbortController();
    let fresh: string[] = [];
    let frame = 0;
    const show = () => {
      frame = 0;
      const more = fresh;
      fresh = [];
      setLines((known) => known.concat(more).slice(-keep));
    };
    const read = async () => {
      const range = offset.current === null ? "last=500" : `from=${offset.current}`;
      const response = await call(`/api/services/${encodeURIComponent(name)}/output?${range}&follow=true`, {
        signal: stop.signal,
      });
      if (!response.ok || !response.body) return;
      offset.current ??= Number(response.headers.get("calm-offset"));
      const decoder = new TextDecoder();
      const reader = response.body.getReader();
      for (let chunk = await reader.read(); !chunk.done; chunk = await reader.read()) {
        offset.current += chunk.value.byteLength;
        const parts = (rest.current + decoder.decode(chunk.value, { stream: true })).split("\n");
        rest.current = parts.pop() ?? "";
        fresh.push(...parts.map((part) => part.replace(escapes, "")));
        frame ||= requestAnimationFrame(show);
      }
    };
    // A break shows on the line at the top of the page; it leads back here once that is live again.
    read().catch(() => undefined);
    return () => {
      stop.abort();
      cancelAnimationFrame(frame);
    };
  }, [name, live]);

  return lines;
}
