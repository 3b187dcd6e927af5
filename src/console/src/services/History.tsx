import { Button } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type ServiceView, take } from "../api/client";
import { Wrong } from "../app/Trouble";
import { at } from "../live/clock";
import { useLine } from "../live/live";

const shown = 20;

/** Revisions of a definition: when, by whom, what each changed; and an earlier one made to hold again. */
export function History({ service, revision }: { service: ServiceView; revision: number | undefined }) {
  const name = service.name;
  const all = useQuery({
    queryKey: ["revisions", name, revision],
    queryFn: () =>
      take(api.GET("/api/services/{name}/revisions", { params: { path: { name }, query: { last: shown } } })),
  });
  const [asked, setAsked] = useState<number>();
  const live = useLine().state === "live";
  const revert = useMutation({
    mutationFn: ({ to, dry }: { to: number; dry: boolean }) =>
      take(
        api.POST("/api/services/{name}/revisions/{revision}/revert", {
          params: { path: { name, revision: to }, query: { dry } },
        }),
      ),
    onSuccess: (_, { to, dry }) => {
      setAsked(dry ? to : undefined);
      if (!dry) void all.refetch();
    },
    onError: () => setAsked(undefined),
  });
  const busy = revert.isPending || !live;
  return (
    <div className="sheet side files">
      {service["apart-since"] && (
        <p className="attention">
          ▲ It differs from its files{service.files && ` in ${service.files}`} since {at(service["apart-since"])}.
        </p>
      )}
      <Wrong error={revert.error} />
      {revert.data && (
        <p role="status" style={{ whiteSpace: "pre-line" }}>
          {revert.data.said}
        </p>
      )}
      {asked !== undefined && (
        <div className="bar">
          <Button disabled={busy} onClick={() => revert.mutate({ to: asked, dry: false })}>
            Revision {asked} is to hold again
          </Button>
          <Button
            variant="default"
            onClick={() => {
              setAsked(undefined);
              revert.reset();
            }}
          >
            Leave it as it is
          </Button>
        </div>
      )}
      <table className="plain">
        <thead>
          <tr>
            <th>Revision</th>
            <th>Given</th>
            <th>By</th>
            <th>What it changed</th>
            <th>Hold again</th>
          </tr>
        </thead>
        <tbody>
          {all.data?.map((one) => (
            <tr key={one.revision}>
              <td>
                {one.revision}
                {one["in-effect"] && " (in effect)"}
              </td>
              <td>{at(one.at)}</td>
              <td>
                {one.by}
                {one.from && `, ${one.from}`}
              </td>
              <td style={{ whiteSpace: "pre-line", overflowWrap: "anywhere" }}>
                {one.changes.length > 0
                  ? one.changes.join("\n")
                  : one.revision === 1
                    ? "wrapped"
                    : "no effective change"}
              </td>
              <td>
                {!one["in-effect"] && (
                  <Button
                    size="xs"
                    variant="default"
                    disabled={busy}
                    aria-label={`What if revision ${one.revision} held again`}
                    onClick={() => revert.mutate({ to: Number(one.revision), dry: true })}
                  >
                    What if…
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
