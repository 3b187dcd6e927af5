import { Button, TextInput } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, type ServiceView, take } from "../api/client";
import { Said } from "../app/Trouble";
import { useLine } from "../live/live";

/** Another short name for a service that is at rest; what goes with it is said first. */
export function Rename({ service }: { service: ServiceView }) {
  const navigate = useNavigate();
  const [to, setTo] = useState("");
  const live = useLine().state === "live";
  const ask = useMutation({
    mutationKey: ["leave", service.name],
    mutationFn: ({ dry }: { dry: boolean }) =>
      take(
        api.POST("/api/services/{name}/rename", {
          params: { path: { name: service.name }, query: { to: to.trim(), dry } },
        }),
      ),
    onSuccess: async (answer, { dry }) => {
      if (!dry && answer.service) await navigate({ to: "/services/$name", params: { name: answer.service.name } });
    },
  });
  const asked = ask.data && ask.variables?.dry;
  return (
    <form
      className="sheet side files"
      onSubmit={(event) => {
        event.preventDefault();
        ask.mutate({ dry: !asked });
      }}
    >
      <div className="bar" style={{ alignItems: "end" }}>
        <TextInput
          label={`Instead of ${service.name}`}
          value={to}
          onChange={(event) => {
            setTo(event.currentTarget.value);
            ask.reset();
          }}
        />
        <Button
          type="submit"
          variant={asked ? "filled" : "default"}
          disabled={!live || to.trim() === ""}
          loading={ask.isPending}
        >
          {asked ? "Rename it" : "Rename…"}
        </Button>
      </div>
      <Said of={ask} />
    </form>
  );
}
