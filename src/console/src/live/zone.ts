import { useSyncExternalStore } from "react";
import { hostZone } from "../api/page";

/** Whose times are shown: the host's, as in all that the sentry says in sentences, or those where the browser is. */
type Whose = "host" | "here";

const place = "calm-times";
let whose: Whose = localStorage.getItem(place) === "here" ? "here" : "host";
const listeners = new Set<() => void>();

export const shownZone = () => (whose === "here" ? undefined : hostZone);

export function show(next: Whose) {
  whose = next;
  localStorage.setItem(place, next);
  for (const listener of listeners) listener();
}

function subscribe(listener: () => void) {
  listeners.add(listener);
  return () => {
    listeners.delete(listener);
  };
}

export const useWhose = () => useSyncExternalStore(subscribe, () => whose);

/** The zones of both, where it is another time there than here. */
export function differing(): { host: string; here: string } | undefined {
  const now = new Date();
  const told = (zone?: string) => now.toLocaleString("sv-SE", { timeZone: zone });
  return hostZone && told(hostZone) !== told()
    ? { host: hostZone, here: Intl.DateTimeFormat().resolvedOptions().timeZone }
    : undefined;
}
