import { Spotlight, spotlight } from "@mantine/spotlight";
import "@mantine/spotlight/styles.css";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { api, take } from "../api/client";
import { useServices } from "../live/live";
import { sections } from "../services/sections";
import { pages } from "./pages";

type Found = { id: string; label: string; hint?: string; go: () => void };

const most = 8;

/**
 * How well a text fits what was typed: the smaller the better; undefined: not at all. Its letters must stand in it in their order; whole
 * words come first.
 */
function fit(text: string, typed: string): number | undefined {
  const [all, wanted] = [text.toLowerCase(), typed.toLowerCase().trim()];
  if (all.startsWith(wanted)) return 0;
  const at = all.indexOf(wanted);
  if (at >= 0) return /[\s\-_./]/.test(all[at - 1] ?? "") ? 1 : 2;
  let from = 0;
  let first = -1;
  for (const letter of wanted.replace(/\s/g, "")) {
    const found = all.indexOf(letter, from);
    if (found < 0) return undefined;
    if (first < 0) first = found;
    from = found + 1;
  }
  return 3 + (from - first) / 1000;
}

/** One box, by a key, that knows pages, services, acts, accounts and alerts by a few letters. */
export function Finder() {
  // It was loaded because somebody wanted it; from then on it hears its keys itself.
  useEffect(() => spotlight.open(), []);
  const [typed, setTyped] = useState("");
  const [said, setSaid] = useState<string>();
  const navigate = useNavigate();
  const { services } = useServices();
  const wanted = typed.trim();
  const accounts = useQuery({
    queryKey: ["accounts"],
    queryFn: () => take(api.GET("/api/accounts")),
    enabled: wanted !== "",
    staleTime: 30_000,
  });
  const alerts = useQuery({
    queryKey: ["alerts", "found"],
    queryFn: () => take(api.GET("/api/alerts", { params: { query: { last: 50 } } })),
    enabled: wanted !== "",
    staleTime: 10_000,
  });
  const act = useMutation({
    mutationFn: ({ way, name }: { way: (typeof acts)[number]["way"]; name: string }) =>
      take(api.POST(way, { params: { path: { name } } })),
    onMutate: ({ name }) => {
      setSaid(undefined);
      void navigate({ to: "/services/$name", params: { name } });
    },
    onSuccess: (answer) => setSaid(answer.said),
    onError: (error) => setSaid(`▲ ${error.message}`),
  });

  const best = <T,>(all: readonly T[], text: (one: T) => string, found: (one: T) => Found) =>
    all
      .map((one) => ({ one, fits: fit(text(one), wanted) }))
      .filter((pair): pair is { one: T; fits: number } => pair.fits !== undefined)
      .sort((a, b) => a.fits - b.fits)
      .slice(0, most)
      .map(({ one }) => found(one));
  // "stop ledger": an act and a service; "ledger runs": a service and a part of its page.
  const [head = "", ...rest] = wanted.split(/\s+/);
  const after = rest.join(" ");
  const groups: { title: string; found: Found[] }[] = [
    {
      title: "Services",
      found:
        wanted === ""
          ? []
          : best(
              services,
              (one) => `${one.title} ${one.name}`,
              (one) => ({
                id: `service ${one.name}`,
                label: one.title,
                hint: `${one.state}: ${one.why}`,
                go: () => void navigate({ to: "/services/$name", params: { name: one.name } }),
              }),
            ),
    },
    {
      title: "Acts",
      found: acts
        .filter((one) => after !== "" && one.word.startsWith(head.toLowerCase()))
        .flatMap((one) =>
          services
            .filter((service) => (fit(`${service.title} ${service.name}`, after) ?? 9) < 3)
            .slice(0, 4)
            .map((service) => ({
              id: `${one.word} ${service.name}`,
              label: `${one.said} ${service.title}`,
              hint: `it is ${service.state}`,
              go: () => act.mutate({ way: one.way, name: service.name }),
            })),
        ),
    },
    {
      title: "Parts of a service",
      found: Object.entries(sections)
        .filter(([, title]) => rest.length > 0 && fit(title, rest.at(-1) ?? "") === 0)
        .flatMap(([key, title]) =>
          services
            .filter(
              (service) => (fit(`${service.title} ${service.name}`, [head, ...rest.slice(0, -1)].join(" ")) ?? 9) < 3,
            )
            .slice(0, 4)
            .map((service) => ({
              id: `${service.name} ${key}`,
              label: `${service.title}: ${title}`,
              go: () =>
                void navigate({
                  to: "/services/$name/$section",
                  params: { name: service.name, section: key },
                }),
            })),
        ),
    },
    {
      title: "Pages",
      found: best(
        pages,
        (one) => `${one.title} ${one.words}`,
        (one) => ({
          id: `page ${one.to}`,
          label: one.title,
          hint: one.words,
          go: () => void navigate({ to: one.to }),
        }),
      ),
    },
    {
      title: "Accounts",
      found:
        wanted === ""
          ? []
          : best(
              accounts.data ?? [],
              (one) => one.name,
              (one) => ({
                id: `account ${one.name}`,
                label: one.name,
                hint: one.services.length > 0 ? `runs ${one.services.join(", ")}` : "runs nothing",
                go: () => void navigate({ to: "/", search: { account: one.name } }),
              }),
            ),
    },
    {
      title: "Alerts",
      found:
        wanted === ""
          ? []
          : best(
              alerts.data ?? [],
              (one) => `${one.number} ${one.subject} ${one["cause-name"]}`,
              (one) => ({
                id: `alert ${one.number}`,
                label: `Alert ${one.number}`,
                hint: `${one.subject}: ${one["cause-name"]}`,
                go: () => void navigate({ to: "/alerts/$number", params: { number: String(one.number) } }),
              }),
            ),
    },
  ].filter((group) => group.found.length > 0);
  return (
    <>
      <Spotlight.Root
        query={typed}
        onQueryChange={setTyped}
        shortcut={["mod + K", "/"]}
        scrollable
        maxHeight={420}
        lockScroll={false}
        attributes={{ content: { "aria-label": "Find" } }}
      >
        <Spotlight.Search placeholder="A service, a page, “stop ledger”, “ledger runs”…" aria-label="Find anything" />
        <Spotlight.ActionsList>
          {groups.map((group) => (
            <Spotlight.ActionsGroup key={group.title} label={group.title}>
              {group.found.map((one) => (
                <Spotlight.Action key={one.id} label={one.label} description={one.hint} onClick={one.go} />
              ))}
            </Spotlight.ActionsGroup>
          ))}
          {groups.length === 0 && <Spotlight.Empty>Nothing is called so.</Spotlight.Empty>}
        </Spotlight.ActionsList>
      </Spotlight.Root>
      {said && (
        <div className="notice said" role="status">
          {said}
          <button type="button" className="opens" aria-label="Close" onClick={() => setSaid(undefined)}>
            ×
          </button>
        </div>
      )}
    </>
  );
}

const acts = [
  { word: "start", said: "Start", way: "/api/services/{name}/start" },
  { word: "stop", said: "Stop", way: "/api/services/{name}/stop" },
  { word: "restart", said: "Restart", way: "/api/services/{name}/restart" },
  { word: "release", said: "Release", way: "/api/services/{name}/release" },
] as const;
