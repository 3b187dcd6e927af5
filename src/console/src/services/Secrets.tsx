import { Button, PasswordInput } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type SecretView, take } from "../api/client";

/** A service's secrets by name. A value goes in here and is never shown again. */
export function Secrets({
  service,
  secrets,
  onChanged,
}: {
  service: string;
  secrets: readonly SecretView[];
  onChanged: () => void;
}) {
  return (
    <div className="sheet side">
      {secrets.map((secret) => (
        <Secret key={secret.key} service={service} secret={secret} onChanged={onChanged} />
      ))}
    </div>
  );
}

function Secret({ service, secret, onChanged }: { service: string; secret: SecretView; onChanged: () => void }) {
  const [value, setValue] = useState("");
  const set = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/services/{name}/secrets/{key}", {
          params: { path: { name: service, key: secret.key } },
          body: { value } as never,
        }),
      ),
    onSuccess: () => {
      setValue("");
      onChanged();
    },
  });
  const remove = useMutation({
    mutationFn: () =>
      take(api.DELETE("/api/services/{name}/secrets/{key}", { params: { path: { name: service, key: secret.key } } })),
    onSuccess: onChanged,
  });
  return (
    <form
      className="bar"
      style={{ alignItems: "end", padding: "8px 0" }}
      onSubmit={(event) => {
        event.preventDefault();
        set.mutate();
      }}
    >
      <PasswordInput
        style={{ flex: 1 }}
        label={secret.key}
        description={`${secret["has-value"] ? "sealed" : "▲ no value yet"}${secret.used ? "" : "; the definition does not ask for it"}`}
        autoComplete="off"
        value={value}
        onChange={(event) => setValue(event.currentTarget.value)}
        error={(set.error ?? remove.error)?.message}
      />
      <Button type="submit" variant="default" disabled={value === ""} loading={set.isPending}>
        {secret["has-value"] ? "Replace" : "Set"}
      </Button>
      {secret["has-value"] && (
        <Button
          variant="subtle"
          aria-label={`Remove the value of ${secret.key}`}
          loading={remove.isPending}
          onClick={() => remove.mutate()}
        >
          Remove
        </Button>
      )}
    </form>
  );
}
