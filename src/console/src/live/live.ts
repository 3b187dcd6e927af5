import { useSyncExternalStore } from "react";
import type { LogEntry, ServiceView } from "../api/client";

/** Whether what is on screen is what is so. */
export type Line =
  | { state: "connecting" }
  | { state: "live" }
  | { state: "lost"; since: Date }
  | { state: "signed-out" };

type Snapshot = { services: readonly ServiceView[]; loaded: boolean };

const quietLimit = 40_000;
const retryPause = 2_000;

let snapshot: Snapshot = { services: [], loaded: false };
let line: Line = { state: "connecting" };
const listeners = new Set<() => void>();
const beganListeners = new Set<() => void>();
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

function setServices(services: ServiceView[]) {
  snapshot = { services: services.sort((a, b) => a.title.localeCompare(b.title)), loaded: true };
  changed();
}

function setLine(next: Line) {
  if (line.state === next.state) return;
  line = next;
  changed();
}

/** Opens the event stream and keeps it open for as long as the page lives. */
export function connect() {
  const source = new EventSource("/api/events");
  let quiet: ReturnType<typeof setTimeout>;

  const again = async () => {
    clearTimeout(quiet);
    source.close();
    const status = await fetch("/api/sentry").then(
      (response) => response.status,
      () => 0,
    );
    if (status === 401) {
      setLine({ state: "signed-out" });
      return;
    }
    setLine({ state: "lost", since: new Date() });
    setTimeout(connect, retryPause);
  };
  const heard = () => {
    clearTimeout(quiet);
    quiet = setTimeout(again, quietLimit);
  };
  const on = <T>(name: string, take: (data: T) => void) =>
    source.addEventListener(name, (event) => {
      heard();
      take(JSON.parse(event.data) as T);
    });

  source.onerror = again;
  on<ServiceView[]>("services", (services) => {
    setServices(services);
    setLine({ state: "live" });
  });
  on<ServiceView>("service", (service) =>
    setServices([...snapshot.services.filter((other) => other.name !== service.name), service]),
  );
  on<string>("removed", (name) => setServices(snapshot.services.filter((other) => other.name !== name)));
  on<LogEntry>("logged", (entry) => {
    for (const listener of logListeners) listener(entry);
  });
  on("began", () => {
    for (const listener of beganListeners) listener();
  });
  on("beat", () => undefined);
  heard();
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

export function onLogged(listener: (entry: LogEntry) => void) {
  logListeners.add(listener);
  return () => {
    logListeners.delete(listener);
  };
}
