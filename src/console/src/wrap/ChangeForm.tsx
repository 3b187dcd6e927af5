import { Button } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, CallError, type ServiceDetail, take } from "../api/client";
import { Trouble, Wrong } from "../app/Trouble";
import { useLine } from "../live/live";
import { AsFile } from "./AsFile";
import { Checked } from "./Checked";
import { DefinitionForm, Part } from "./DefinitionForm";
import { type Definition, type Draft, definition, draftOf } from "./draft";
import { type Key, useKeys } from "./keys";
import { Rehearsal } from "./Rehearsal";
import { useCheck } from "./useCheck";
import "./wrap.css";

/** A definition as it was read: what is changed is made from it, and is refused where another has come meanwhile. */
type Read = { detail: ServiceDetail; tag: string };

async function read(name: string): Promise<Read> {
  const asked = await api.GET("/api/services/{name}", { params: { path: { name } } });
  return { detail: await take(Promise.resolve(asked)), tag: asked.response.headers.get("ETag") ?? "" };
}

/** A service's definition, changed in the same form as it was made in; what would change is shown before it is saved. */
export function ChangeForm({ name }: { name: string }) {
  const keys = useKeys();
  const first = useQuery({
    queryKey: ["change", name],
    queryFn: () => read(name),
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 0,
  });
  if (first.isError) return <Trouble of={first} />;
  if (!keys || !first.data) return <p className="quiet">Asking the sentry for its definition…</p>;
  return <Changing keys={keys} name={name} first={first.data} />;
}

const acceptOf = (one: Read) => ((one.detail.definition as { accept?: string[] }).accept ?? []) as string[];
const drafted = (keys: Record<string, Key>, one: Read) =>
  draftOf(keys, one.detail.definition as Definition, one.detail.given);

function Changing({ keys, name, first }: { keys: Record<string, Key>; name: string; first: Read }) {
  const [ground, setGround] = useState(first);
  const [draft, setDraft] = useState<Draft>(() => drafted(keys, first));
  const [accept, setAccept] = useState(() => acceptOf(first));
  const live = useLine().state === "live";
  const sent = { ...definition(keys, { ...draft, name }), ...(accept.length > 0 && { accept }) };
  const { check: found, fresh, again } = useCheck(sent, true);
  // Of what is there its name is taken by itself.
  const check = found && {
    ...found,
    said: found.clear ? "Nothing stands in its way." : found.said,
    findings: found.findings.filter((one) => one.code !== "name-taken"),
  };
  const text = JSON.stringify(sent);
  const [settled] = useDebouncedValue(text, 400);
  const patch = (body: string, dry: boolean, tag: string) =>
    take(
      api.PATCH("/api/services/{name}", {
        params: { path: { name }, query: { whole: true, dry } },
        headers: { "If-Match": tag },
        body: JSON.parse(body) as never,
      }),
    );
  const difference = useQuery({
    queryKey: ["difference", name, ground.tag, settled],
    queryFn: () => patch(settled, true, ground.tag),
    enabled: live && check?.errors.length === 0,
    placeholderData: keepPreviousData,
    gcTime: 0,
  });
  const save = useMutation({
    mutationFn: () => patch(text, false, ground.tag),
    onSuccess: async () => {
      const now = await read(name);
      setGround(now);
      setDraft(drafted(keys, now));
    },
  });
  const before = drafted(keys, ground);
  const typed = Object.entries(draft).filter(([path, value]) => !same(before[path], value));
  const theirs = useMutation({
    mutationFn: () => read(name),
    onSuccess: (now) => {
      // What was typed here stays; all else is as it is now.
      setGround(now);
      setDraft({ ...drafted(keys, now), ...Object.fromEntries(typed) });
      save.reset();
    },
  });
  const overtaken = [save.error, difference.error].some(
    (error) => error instanceof CallError && error.problem.status === 412,
  );
  const wrong = overtaken ? undefined : (save.error ?? difference.error);
  return (
    <div className="bench">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate();
        }}
      >
        <DefinitionForm
          keys={keys}
          draft={draft}
          without={["name"]}
          onChange={(path, value) => {
            setDraft((before) => ({ ...before, [path]: value }));
            save.reset();
          }}
          check={check}
        />
        <Part title="Try it">
          <Rehearsal
            definition={sent}
            onAdopt={(adoption) => setDraft((before) => ({ ...before, ...draftOf(keys, adoption) }))}
          />
        </Part>
      </form>
      <aside aria-label="What would change">
        <h2>What would change</h2>
        <div className="sheet side">
          {overtaken ? (
            <div role="alert" className="attention">
              <p>▲ Somebody else has changed it meanwhile. What you typed is still here, and nothing was saved.</p>
              <Button size="xs" variant="default" loading={theirs.isPending} onClick={() => theirs.mutate()}>
                Go on from what it is now
              </Button>
            </div>
          ) : (
            <p role="status" style={{ whiteSpace: "pre-line" }}>
              {save.data ? `✓ ${save.data.said}` : (difference.data?.said ?? "Nothing yet.")}
            </p>
          )}
          <Wrong error={wrong} />
          <Button
            mt={6}
            disabled={!live || overtaken || (check?.errors.length ?? 1) > 0 || typed.length === 0}
            loading={save.isPending}
            onClick={() => save.mutate()}
          >
            Save
          </Button>
          <p className="quiet">
            The live run goes on as it is; each change says when it holds. An earlier one is made to hold again under{" "}
            <Link to="/services/$name/$section" params={{ name, section: "history" }}>
              History
            </Link>
            .
          </p>
        </div>
        <Checked
          check={check}
          fresh={fresh}
          draft={draft}
          onAccept={(code) => setAccept([...accept, code])}
          onChanged={() => void again()}
        />
        {check?.repeat && (
          <>
            <h2>All of it</h2>
            <div className="sheet side">
              <AsFile
                file={check.repeat.file}
                onGiven={(given) => {
                  setDraft(draftOf(keys, given));
                  setAccept((given.accept as string[] | undefined) ?? []);
                  save.reset();
                }}
              />
            </div>
          </>
        )}
      </aside>
    </div>
  );
}

const same = (a: unknown, b: unknown) => JSON.stringify(a ?? "") === JSON.stringify(b ?? "");
