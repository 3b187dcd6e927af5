import { useSyncExternalStore } from "react";
import { useLine } from "./live";
import { shownZone } from "./zone";

let now = Date.now();
const listeners = new Set<() => void>();
setInterval(() => {
  now = Date.now();
  for (const listener of listeners) listener();
}, 1000);

function subscribe(listener: () => void) {
  listeners.add(listener);
  return () => {
    listeners.delete(listener);
  };
}

/** The two largest units of a length of time in milliseconds: "3 d 4 h", "12 min 5 s". */
export function length(milliseconds: number): string {
  const seconds = Math.max(0, Math.floor(milliseconds / 1000));
  const [d, h, m, s] = [
    Math.floor(seconds / 86400),
    Math.floor(seconds / 3600) % 24,
    Math.floor(seconds / 60) % 60,
    seconds % 60,
  ];
  if (d > 0) return `${d} d ${h} h`;
  if (h > 0) return `${h} h ${m} min`;
  if (m > 0) return `${m} min ${s} s`;
  return `${s} s`;
}

/** A time as it is shown, with the date unless it is today's. */
export function at(time: string | Date): string {
  const zone = { timeZone: shownZone() };
  const day = (date: Date) => date.toLocaleDateString("sv-SE", zone);
  const date = new Date(time);
  return `${day(date) === day(new Date()) ? "" : `${day(date)} `}${date.toLocaleTimeString("sv-SE", zone)}`;
}

/** How long it has been since, counting on by itself for as long as that is known to be so. */
export function Since({ time }: { time: string | null | undefined }) {
  const line = useLine();
  // Of a thousand only those are drawn again of which another text is to be seen.
  const text = useSyncExternalStore(subscribe, () =>
    time ? length((line.state === "lost" ? line.since.getTime() : now) - Date.parse(time)) : "–",
  );
  return <span className="number">{text}</span>;
}
