import type { ServiceView } from "../api/client";

export const sorts = {
  name: "by name",
  state: "by state",
  up: "by time up",
  memory: "by memory",
  processor: "by processor",
  restarts: "by restarts",
} as const;

export type Sort = keyof typeof sorts;

/** What the list shows, and how, as it stands in the address: whoever is sent it sees the same. */
export type Narrowing = {
  find?: string;
  state?: string;
  label?: string;
  account?: string;
  sort?: Sort;
  dense?: true;
};

export function narrowing(search: Record<string, unknown>): Narrowing {
  const text = (key: string) => (typeof search[key] === "string" && search[key] !== "" ? { [key]: search[key] } : {});
  return {
    ...text("find"),
    ...text("state"),
    ...text("label"),
    ...text("account"),
    ...(typeof search.sort === "string" && search.sort in sorts && { sort: search.sort as Sort }),
    ...(search.dense === true && { dense: true as const }),
  };
}

/** Whether a service is among those that are shown: every word that is looked for stands somewhere in what it is called or does. */
export function isShown(service: ServiceView, { find, state, label, account }: Narrowing): boolean {
  if (state !== undefined && service.state !== state && service.health !== state) return false;
  if (label !== undefined && !service.labels.includes(label)) return false;
  if (account !== undefined && service.account !== account) return false;
  if (find === undefined) return true;
  const all = [service.name, service.title, service.account, service.why, ...service.labels, ...service.command]
    .join("\n")
    .toLowerCase();
  return find
    .toLowerCase()
    .split(/\s+/)
    .every((word) => all.includes(word));
}
