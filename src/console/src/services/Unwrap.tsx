import { Button, Checkbox, Group } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, neededByOthers, take } from "../api/client";
import { Said } from "../app/Trouble";
import { useLine } from "../live/live";

/** The end of a service: what goes and what stays is said before anything is done. */
export function Unwrap({ name }: { name: string }) {
  const navigate = useNavigate();
  const [output, setOutput] = useState(false);
  const live = useLine().state === "live";
  const ask = useMutation({
    mutationKey: ["leave", name],
    mutationFn: ({ dry, alone, withOutput }: { dry: boolean; alone?: boolean; withOutput: boolean }) =>
      take(
        api.DELETE("/api/services/{name}", {
          params: {
            path: { name },
            query: { dry, ...(withOutput && { output: "remove" }), ...(alone && { dependents: "leave" }) },
          },
        }),
      ),
    onSuccess: async (_, { dry }) => {
      if (!dry) await navigate({ to: "/" });
    },
  });
  const needed = neededByOthers(ask.error);
  const busy = ask.isPending || !live;
  const asked = ask.data && ask.variables?.dry;
  return (
    <div className="sheet side files">
      <p>
        It is stopped cleanly and is no service any more. Its program, its account and, unless you want it gone, its
        output stay.
      </p>
      <Checkbox
        size="sm"
        label="Its output goes, too"
        checked={output}
        onChange={(event) => {
          setOutput(event.currentTarget.checked);
          ask.reset();
        }}
      />
      {needed ? <p role="alert" className="attention">{`▲ ${needed.detail}`}</p> : <Said of={ask} />}
      <Group gap="xs">
        {asked || needed ? (
          <>
            <Button
              color="red"
              disabled={busy}
              onClick={() =>
                ask.mutate({
                  dry: false,
                  withOutput: output,
                  alone: needed !== undefined || ask.variables?.alone === true,
                })
              }
            >
              {needed ? "Unwrap it although others need it" : "Unwrap it"}
            </Button>
            <Button variant="default" onClick={() => ask.reset()}>
              Leave it as it is
            </Button>
          </>
        ) : (
          <Button variant="default" disabled={busy} onClick={() => ask.mutate({ dry: true, withOutput: output })}>
            Unwrap…
          </Button>
        )}
      </Group>
    </div>
  );
}
