import { Button, Group } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { type Answer, api, neededByOthers, take } from "../api/client";
import { counted } from "../app/counted";
import { useLine } from "../live/live";

type Asked = { what: "start" | "stop" | "restart"; dependents?: "stop" | "leave" };

const ways = {
  start: "/api/together/start",
  stop: "/api/together/stop",
  restart: "/api/together/restart",
} as const;

/** Several services, started, stopped or restarted as one act; each says what came of it. */
export function Together({ names, onDone }: { names: string[]; onDone: () => void }) {
  const ask = useMutation({
    mutationFn: ({ what, dependents }: Asked): Promise<Answer> =>
      take(
        api.POST(ways[what], {
          params: { query: dependents ? { dependents } : {} },
          body: { services: names } as never,
        }),
      ),
  });
  const needed = neededByOthers(ask.error);
  const live = useLine().state === "live";
  const busy = ask.isPending || !live;
  const what = ask.variables?.what ?? "stop";
  return (
    <section className="sheet side together" aria-label="Marked services">
      <Group gap="xs">
        <strong>{counted(names.length, "service")} marked</strong>
        {(["start", "stop", "restart"] as const).map((one) => (
          <Button key={one} size="xs" variant="default" disabled={busy} onClick={() => ask.mutate({ what: one })}>
            {{ start: "Start them", stop: "Stop them", restart: "Restart them" }[one]}
          </Button>
        ))}
        <Button size="xs" variant="subtle" onClick={onDone}>
          Unmark all
        </Button>
      </Group>
      <div role="status" className={ask.isError ? "attention" : undefined}>
        {ask.isPending && <p>Asked; waiting for it to come true…</p>}
        {ask.isError && <p>▲ {needed ? needed.detail : ask.error.message}</p>}
        {ask.data && (
          <>
            <p className={ask.data["came-true"] ? undefined : "attention"} style={{ whiteSpace: "pre-line" }}>
              {ask.data.said}
            </p>
            <ul className="could">
              {ask.data.each
                ?.filter((one) => !one["came-true"])
                .map((one) => (
                  <li key={one.service?.name ?? one.said} style={{ whiteSpace: "pre-line" }}>
                    ▲ {one.said}
                  </li>
                ))}
            </ul>
          </>
        )}
      </div>
      {needed && (
        <Group gap="xs">
          <Button size="xs" onClick={() => ask.mutate({ what, dependents: "stop" })}>
            {what === "stop" ? "Stop" : "Restart"} those too, in order
          </Button>
          <Button size="xs" variant="default" onClick={() => ask.mutate({ what, dependents: "leave" })}>
            Leave those as they are
          </Button>
        </Group>
      )}
    </section>
  );
}
