import { useSyncExternalStore } from "react";
import type { LogEntry, ServiceView } from "../api/client";
import { call } from "../api/page";

/** Whether what is on screen is what is so. */
export type Line =
  | { state: "connecting" }
  | { state: "live" }
  | { state: "lost"; since: Date }
  | { state: "signed-out" };

type Snapshot = { services: readonly ServiceView[]; loaded: boolean };

// The sentry sends a beat every five seconds.
const quietLimit = 12_000;
const retryPause = 2_000;

let snapshot: Snapshot = { services: [], loaded: false };
let line: Line = { state: "connecting" };
const listeners = new Set<() => void>();
const beganListeners = new Set<() => void>();
const alertListeners = new Set<() => void>();
const logListeners = new Set<(entry: LogEntry) => void>();

function changed() {
  for (const listener of listeners) listener();
}

function subscribe(listener: () => void) {
  listeners.add(listener);
  return () => {
    listeners.delete(listener);
  };
}

const names = new Intl.Collator(undefined, { numeric: true });
const byTitle = (a: ServiceView, b: ServiceView) => names.compare(a.title, b.title) || names.compare(a.name, b.name);

/** What is so, beside what was last shown: of many events that come at once, each page hears once. */
let latest: ServiceView[] | undefined;

function setServices(services: ServiceView[]) {
  latest = services.sort(byTitle);
}

function setService(service: ServiceView) {
  latest ??= [...snapshot.services];
  const at = latest.findIndex((other) => other.name === service.name);
  if (at >= 0 && latest[at]?.title === service.title) latest[at] = service;
  else setServices([...latest.filter((other) => other.name !== service.name), service]);
}

function show() {
  if (!latest) return;
  snapshot = { services: latest, loaded: true };
  latest = undefined;
  changed();
}

function setLine(next: Line) {
  if (line.state === next.state) return;
  line = next;
  changed();
}

/** What is done with each event, by its name. */
const events: Record<string, (data: never) => void> = {
  services(services: ServiceView[]) {
    setServices(services);
    show();
    setLine({ state: "live" });
  },
  service(service: ServiceView) {
    setService(service);
  },
  removed(name: string) {
    latest = (latest ?? [...snapshot.services]).filter((other) => other.name !== name);
  },
  logged(entry: LogEntry) {
    for (const listener of logListeners) listener(entry);
  },
  alert() {
    for (const listener of alertListeners) listener();
  },
  began() {
    for (const listener of beganListeners) listener();
  },
};

/** Opens the event stream and keeps it open for as long as the page lives. */
export async function connect() {
  const ended = new AbortController();
  let quiet: ReturnType<typeof setTimeout> | undefined;
  const heard = () => {
    clearTimeout(quiet);
    quiet = setTimeout(() => ended.abort(), quietLimit);
  };
  heard();
  let status = 0;
  try {
    const response = await call("/api/events", { signal: ended.signal, headers: { Accept: "text/event-stream" } });
    status = response.status;
    if (response.ok && response.body) await read(response.body, heard);
  } catch {
    // The line broke, or was silent for too long: told below.
  }
  clearTimeout(quiet);
  if (status === 401) {
    setLine({ state: "signed-out" });
    return;
  }
  setLine({ state: "lost", since: new Date() });
  setTimeout(connect, retryPause);
}

/** Reads an event stream to its end (WHATWG HTML, section 9.2.6); whoever fetches it can send a header, an EventSource cannot. */
async function read(body: ReadableStream<Uint8Array<ArrayBuffer>>, heard: () => void) {
  const reader = body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    heard();
    const parts = (rest + value).split("\n\n");
    rest = parts.pop() ?? "";
    for (const part of parts) dispatch(part);
    show();
  }
}

function dispatch(part: string) {
  let name = "message";
  const data: string[] = [];
  for (const text of part.split("\n")) {
    if (text.startsWith("event:")) name = text.slice(6).trim();
    else if (text.startsWith("data:")) data.push(text.slice(5));
  }
  if (data.length > 0) events[name]?.(JSON.parse(data.join("\n")) as never);
}

export const useServices = () => useSyncExternalStore(subscribe, () => snapshot);
export const useLine = () => useSyncExternalStore(subscribe, () => line);

/** One service; renders again only when that one changes. */
export const useService = (name: string) =>
  useSyncExternalStore(subscribe, () => snapshot.services.find((service) => service.name === name));

/** Hears that there is a new report of a boot or a drill. */
export function onBegan(listener: () => void) {
  beganListeners.add(listener);
  return () => {
    beganListeners.delete(listener);
  };
}

/** Hears that something became of an alert. */
export function onAlert(listener: () => void) {
  alertListeners.add(listener);
  return () => {
    alertListeners.delete(listener);
  };
}

export function onLogged(listener: (entry: LogEntry) => void) {
  logListeners.add(listener);
  return () => {
    logListeners.delete(listener);
  };
}
