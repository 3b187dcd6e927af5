import { Button, Group } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { api, neededByOthers, type ServiceView, take } from "../api/client";
import { useLine } from "../live/live";
import { More, type Rare } from "./More";

const ways = {
  start: "/api/services/{name}/start",
  stop: "/api/services/{name}/stop",
  restart: "/api/services/{name}/restart",
  reload: "/api/services/{name}/reload",
  release: "/api/services/{name}/release",
  quiet: "/api/services/{name}/quiet",
  watches: "/api/services/{name}/watches",
  skip: "/api/services/{name}/skip",
  advance: "/api/services/{name}/advance",
} as const;

type Asked =
  | { what: "start" | "stop" | "restart" | "reload" | "release"; dependents?: "stop" | "leave"; thisRun?: boolean }
  | Rare;

/** Start, stop, restart, reload, release; each says what came of it. */
export function Actions({ service, reloads, job }: { service: ServiceView; reloads: boolean; job: boolean }) {
  const ask = useMutation({
    mutationFn: (asked: Asked) =>
      take(
        api.POST(ways[asked.what], {
          params: {
            path: { name: service.name },
            query: {
              ...("dependents" in asked && asked.dependents && { dependents: asked.dependents }),
              ...("thisRun" in asked && asked.thisRun && { "this-run": true }),
              ...("for" in asked && asked.for && { for: asked.for }),
            },
          },
        }),
      ),
  });
  const needed = neededByOthers(ask.error);
  const what = ask.variables?.what;
  const up = service.pid != null || service.state === "running";
  const live = useLine().state === "live";
  const busy = ask.isPending || !live;
  const answer = ask.data;
  return (
    <div>
      <Group gap="xs">
        {service.state === "held" && (
          <Button disabled={busy} onClick={() => ask.mutate({ what: "release" })}>
            Release
          </Button>
        )}
        <Button
          variant={up || service.state === "held" ? "default" : "filled"}
          disabled={up || busy}
          onClick={() => ask.mutate({ what: "start" })}
        >
          {job ? "Run now" : "Start"}
        </Button>
        {job && (
          <Button
            variant="default"
            disabled={!up || busy}
            title="Its rhythm goes on"
            onClick={() => ask.mutate({ what: "stop", thisRun: true })}
          >
            Stop this run
          </Button>
        )}
        <Button
          variant="default"
          disabled={service.state === "stopped" || busy}
          title={job ? "Also lays its rhythm to rest, until somebody runs it" : undefined}
          onClick={() => ask.mutate({ what: "stop" })}
        >
          Stop
        </Button>
        <Button variant="default" disabled={!up || busy} onClick={() => ask.mutate({ what: "restart" })}>
          Restart
        </Button>
        {reloads && (
          <Button
            variant="default"
            disabled={service.state !== "running" || busy}
            title="Reads its settings anew, without a restart"
            onClick={() => ask.mutate({ what: "reload" })}
          >
            Reload
          </Button>
        )}
        <More service={service} busy={busy} onAsk={(rare) => ask.mutate(rare)} />
      </Group>
      <p
        role="status"
        className={ask.isError || answer?.["came-true"] === false ? "attention" : "quiet"}
        style={{ minHeight: "1.4em", margin: "4px 0 0", fontSize: 14 }}
      >
        {ask.isPending
          ? "Asked; waiting for it to come true…"
          : needed
            ? `▲ ${needed.detail}`
            : ask.isError
              ? `▲ ${ask.error.message}`
              : answer
                ? answer.said
                : ""}
      </p>
      {needed && (what === "stop" || what === "restart") && (
        <Group gap="xs" mt={6}>
          <Button size="xs" onClick={() => ask.mutate({ what, dependents: "stop" })}>
            {what === "stop" ? "Stop" : "Restart"} them too, in order
          </Button>
          <Button size="xs" variant="default" onClick={() => ask.mutate({ what, dependents: "leave" })}>
            Leave them as they are
          </Button>
        </Group>
      )}
    </div>
  );
}
