import { Button, PasswordInput, TextInput } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { type Answer, api, take } from "../api/client";
import { Said, Trouble, Wrong } from "../app/Trouble";
import { at, Since } from "../live/clock";
import { useLine } from "../live/live";

/** The sentry itself on this host: what it is, who may run services, who is signed in, what it keeps sealed. */
export function HostPage() {
  return (
    <>
      <h1>Host</h1>
      <div className="columns">
        <div>
          <Sentry />
          <Accounts />
        </div>
        <div>
          <Sessions />
          <OwnSecrets />
        </div>
      </div>
    </>
  );
}

function Sentry() {
  const sentry = useQuery({ queryKey: ["sentry"], queryFn: () => take(api.GET("/api/sentry")) });
  const proof = useMutation({ mutationFn: () => take(api.GET("/api/logbook/proof")) });
  const view = sentry.data;
  if (!view) return <Trouble of={sentry} />;
  return (
    <>
      <h2>The sentry</h2>
      <dl className="facts sheet">
        <dt>Version</dt>
        <dd>{view.version}</dd>
        <dt>Host</dt>
        <dd>{view.host}</dd>
        <dt>Serves</dt>
        <dd>
          <Since time={view.since} />, since {at(view.since)}, as pid {view.pid} of {view.account}
        </dd>
        <dt>Starts with the machine</dt>
        <dd className={view["starts-with-machine"] ? undefined : "attention"}>
          {view["starts-with-machine"] ? "yes" : "▲ no: calm host install"}
        </dd>
        <dt>Guarded</dt>
        <dd>{view.guard == null ? "no: nobody brings it back where it is lost" : `yes, by pid ${view.guard}`}</dd>
        <dt>Root</dt>
        <dd>
          <code>{view.root}</code>
        </dd>
        <dt>You are</dt>
        <dd>{view.you}</dd>
        <dt>Logbook</dt>
        <dd>
          <Button size="compact-sm" variant="default" loading={proof.isPending} onClick={() => proof.mutate()}>
            Is it as it was written?
          </Button>
          {proof.data && (
            <p role="status" className={proof.data.holds ? undefined : "attention"}>
              {proof.data.holds
                ? `✓ All ${proof.data.entries} entries are as they were written.`
                : `▲ Not from entry ${proof.data["broken-at"]} on: ${proof.data.why}`}
            </p>
          )}
          <Wrong error={proof.error} />
        </dd>
      </dl>
    </>
  );
}

type OfAccount = { what: "make" | "permit" | "forbid" | "remove"; name: string };

function Accounts() {
  const [name, setName] = useState("");
  const live = useLine().state === "live";
  const accounts = useQuery({ queryKey: ["accounts"], queryFn: () => take(api.GET("/api/accounts")), staleTime: 0 });
  const act = useMutation({
    mutationFn: ({ what, name }: OfAccount): Promise<Answer> => {
      const path = { params: { path: { name } } };
      return take(
        what === "make"
          ? api.POST("/api/accounts/{name}", path)
          : what === "permit"
            ? api.POST("/api/accounts/{name}/permit", path)
            : what === "forbid"
              ? api.POST("/api/accounts/{name}/forbid", path)
              : api.DELETE("/api/accounts/{name}", path),
      );
    },
    onSuccess: () => {
      setName("");
      void accounts.refetch();
    },
  });
  return (
    <>
      <h2>Accounts that may run services, and those that do</h2>
      <Trouble of={accounts} />
      <div className="sheet wide-table">
        <table className="plain">
          <thead>
            <tr>
              <th>Account</th>
              <th>Runs</th>
              <th>May it</th>
              <th>Change</th>
            </tr>
          </thead>
          <tbody>
            {accounts.data?.map((one) => (
              <tr key={one.name}>
                <td>
                  <Link to="/" search={{ account: one.name }}>
                    {one.name}
                  </Link>
                  {one.made && <span className="quiet">, made here</span>}
                </td>
                <td>{one.services.join(", ") || "nothing"}</td>
                <td>{one.permitted ? "permitted" : "▲ not permitted"}</td>
                <td>
                  <Button
                    size="compact-sm"
                    variant="default"
                    disabled={!live || act.isPending}
                    aria-label={`${one.permitted ? "Forbid" : "Permit"} ${one.name}`}
                    onClick={() => act.mutate({ what: one.permitted ? "forbid" : "permit", name: one.name })}
                  >
                    {one.permitted ? "Forbid" : "Permit"}
                  </Button>
                  {one.made && one.services.length === 0 && (
                    <Button
                      size="compact-sm"
                      variant="subtle"
                      disabled={!live || act.isPending}
                      aria-label={`Remove ${one.name}`}
                      onClick={() => act.mutate({ what: "remove", name: one.name })}
                    >
                      Remove
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <form
          className="bar side"
          onSubmit={(event) => {
            event.preventDefault();
            act.mutate({ what: "make", name: name.trim() });
          }}
        >
          <TextInput
            aria-label="A new account"
            placeholder="a locked account of its own"
            value={name}
            onChange={(event) => setName(event.currentTarget.value)}
          />
          <Button type="submit" variant="default" disabled={!live || name.trim() === ""} loading={act.isPending}>
            Make it
          </Button>
        </form>
      </div>
      <Said of={act} />
    </>
  );
}

/** What a browser says of itself (RFC 9110, 10.1.5), as people call it; what is not known is shown as it is. */
function browserOf(agent: string): string {
  const [, name, version] =
    /(Firefox|Edg|Chrome)\/(\d+)/.exec(agent) ?? /Version\/(?:\d+).*(Safari)\/(\d+)/.exec(agent) ?? [];
  const [system] = /Windows|Android|iPhone|iPad|Mac OS X|Linux/.exec(agent) ?? [];
  return name ? `${name === "Edg" ? "Edge" : name} ${version}${system ? `, ${system}` : ""}` : agent;
}

function Sessions() {
  const live = useLine().state === "live";
  const sessions = useQuery({ queryKey: ["sessions"], queryFn: () => take(api.GET("/api/sessions")), staleTime: 0 });
  const end = useMutation({
    mutationFn: (id: string): Promise<Answer> => take(api.DELETE("/api/sessions/{id}", { params: { path: { id } } })),
    onSuccess: () => void sessions.refetch(),
  });
  return (
    <>
      <h2>Browsers that are signed in</h2>
      <Trouble of={sessions} />
      <div className="sheet wide-table">
        <table className="plain">
          <thead>
            <tr>
              <th>Who</th>
              <th>Used</th>
              <th>End</th>
            </tr>
          </thead>
          <tbody>
            {sessions.data?.map((one) => (
              <tr key={one.id}>
                <td>
                  {one.account}, <span title={one.agent}>{browserOf(one.agent)}</span>
                  {one.yours && <strong> (this one)</strong>}
                </td>
                <td>
                  {at(one.used)} <span className="quiet">until {at(one.until)} at the latest</span>
                </td>
                <td>
                  {!one.yours && (
                    <Button
                      size="compact-sm"
                      variant="default"
                      disabled={!live || end.isPending}
                      aria-label={`End the session of ${one.account} with ${browserOf(one.agent)}, used ${at(one.used)}`}
                      onClick={() => end.mutate(one.id)}
                    >
                      End it
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <Said of={end} />
    </>
  );
}

function OwnSecrets() {
  const [key, setKey] = useState("");
  const [value, setValue] = useState("");
  const live = useLine().state === "live";
  const secrets = useQuery({ queryKey: ["own-secrets"], queryFn: () => take(api.GET("/api/secrets")), staleTime: 0 });
  const set = useMutation({
    mutationFn: (): Promise<Answer> =>
      take(api.PUT("/api/secrets/{key}", { params: { path: { key: key.trim() } }, body: { value } as never })),
    onSuccess: () => {
      setValue("");
      void secrets.refetch();
    },
  });
  const remove = useMutation({
    mutationFn: (key: string): Promise<Answer> => take(api.DELETE("/api/secrets/{key}", { params: { path: { key } } })),
    onSuccess: () => void secrets.refetch(),
  });
  return (
    <>
      <h2>Its own secrets, such as a mail password</h2>
      <div className="sheet side">
        <Trouble of={secrets} />
        {secrets.data?.length === 0 && <p className="quiet">None is kept.</p>}
        {secrets.data?.map((one) => (
          <p key={one.key} className="bar">
            <span style={{ flex: 1 }}>
              <code>{one.key}</code> {one["has-value"] ? "sealed" : "▲ no value yet"}
              {!one.used && <span className="quiet">; no setting asks for it</span>}
            </span>
            {one["has-value"] && (
              <Button
                size="compact-sm"
                variant="default"
                disabled={!live || remove.isPending}
                aria-label={`Remove ${one.key}`}
                onClick={() => remove.mutate(one.key)}
              >
                Remove
              </Button>
            )}
          </p>
        ))}
        <form
          className="bar"
          style={{ alignItems: "end", flexWrap: "wrap" }}
          onSubmit={(event) => {
            event.preventDefault();
            set.mutate();
          }}
        >
          <TextInput
            label="Name"
            value={key}
            autoComplete="off"
            onChange={(event) => setKey(event.currentTarget.value)}
          />
          <PasswordInput
            label="Value"
            style={{ flex: 1, minWidth: 140 }}
            value={value}
            autoComplete="off"
            onChange={(event) => setValue(event.currentTarget.value)}
          />
          <Button type="submit" variant="default" disabled={!live || !key.trim() || !value} loading={set.isPending}>
            Seal it
          </Button>
        </form>
        <Said of={set.isIdle ? remove : set} />
      </div>
    </>
  );
}
