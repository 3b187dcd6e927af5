import { Button, Group } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { api, type ServiceView, take } from "../api/client";
import { useLine } from "../live/live";

/** Start, stop, restart; each says what came of it. */
export function Actions({ service }: { service: ServiceView }) {
  const ask = useMutation({
    mutationFn: (what: "start" | "stop" | "restart") =>
      take(api.POST(`/api/services/{name}/${what}`, { params: { path: { name: service.name } } })),
  });
  const up = service.pid != null || service.state === "running";
  const live = useLine().state === "live";
  const busy = ask.isPending || !live;
  const answer = ask.data;
  return (
    <div>
      <Group gap="xs">
        <Button variant={up ? "default" : "filled"} disabled={up || busy} onClick={() => ask.mutate("start")}>
          Start
        </Button>
        <Button variant="default" disabled={service.state === "stopped" || busy} onClick={() => ask.mutate("stop")}>
          Stop
        </Button>
        <Button variant="default" disabled={!up || busy} onClick={() => ask.mutate("restart")}>
          Restart
        </Button>
      </Group>
      <p
        role="status"
        className={ask.isError || answer?.["came-true"] === false ? "asks" : "quiet"}
        style={{ minHeight: "1.5em", margin: "8px 0 0" }}
      >
        {ask.isPending
          ? "Asked; waiting for it to come true…"
          : ask.isError
            ? `▲ ${ask.error.message}`
            : answer
              ? answer.said
              : ""}
      </p>
    </div>
  );
}
