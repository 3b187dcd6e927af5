import { Button, Checkbox, NativeSelect, SimpleGrid } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { type ReactNode, useId, useState } from "react";
import { api, take } from "../api/client";
import { useServices } from "../live/live";
import { Again } from "./Again";
import { type Definition, type Draft, definition, draftOf, type Value } from "./draft";
import { KeyField } from "./Fields";
import { Findings } from "./Findings";
import { type Key, type Leaf, leaves, shapeOf, useKeys } from "./keys";
import { Moments } from "./Moments";
import { Rehearsal } from "./Rehearsal";
import { mistakeAt, useCheck } from "./useCheck";
import "./wrap.css";

/** The parts of the form, in the order of the work. Of each, these keys are shown at once; all others under "More". */
const parts: { title: string; of: string[]; first: string[] }[] = [
  { title: "What it is", of: ["name", "title", "notes", "labels"], first: ["name", "notes"] },
  {
    title: "What runs",
    of: ["program"],
    first: [
      "program.path",
      "program.kind",
      "program.with",
      "program.arguments",
      "program.environment",
      "program.directory",
    ],
  },
  { title: "Who it is", of: ["identity"], first: ["identity.account", "identity.groups"] },
  { title: "What it may use", of: ["resources"], first: ["resources.memory", "resources.cpu", "resources.priority"] },
  {
    title: "When it starts",
    of: ["begin", "rhythm"],
    first: ["begin.at", "begin.needs", "begin.proof", "rhythm"],
  },
  {
    title: "While it runs, when it fails, how it stops",
    of: ["watch", "recover", "wind-down", "reload"],
    first: ["watch", "recover.after", "recover.pause.first", "recover.hold.ends", "recover.codes", "wind-down"],
  },
];

/** What the last part has: whatever no other one asks for, so that none is left out. */
const rest = { title: "Its output, its files, who is told", first: ["output.directory", "files.directory", "tell"] };

/** These are no answers of a person's: the one is written by the sentry, the other by accepting a finding. */
const notAsked = ["format", "accept"];

/** A program you start by hand today, made a service in the order of the work; the sentry checks all of it while you type. */
export function WrapPage() {
  const keys = useKeys();
  return (
    <>
      <h1>Wrap a program</h1>
      <p className="quiet">
        In the order of the work; every answer is checked while you type. Registered is not running: start it at once,
        or later.
      </p>
      {keys && <WrapForm keys={keys} />}
    </>
  );
}

function WrapForm({ keys }: { keys: Record<string, Key> }) {
  const navigate = useNavigate();
  const [draft, setDraft] = useState<Draft>({ "begin.at": "boot" });
  const [accept, setAccept] = useState<string[]>([]);
  const [start, setStart] = useState(true);
  const sent = { ...definition(keys, draft), ...(accept.length > 0 && { accept }) };
  const enough = Boolean(draft.name) && Boolean(draft["program.path"]);
  const { check, fresh, again } = useCheck(sent, enough);
  const wrap = useMutation({
    mutationFn: async () => {
      const answer = await take(api.POST("/api/services", { body: sent as never }));
      const name = answer.service?.name ?? "";
      // Whether it came to run is shown where it can be mended: on the service's own page.
      if (start) void api.POST("/api/services/{name}/start", { params: { path: { name } } });
      return name;
    },
    onSuccess: (name) => navigate({ to: "/services/$name", params: { name } }),
  });
  const all = leaves(keys).filter(({ path }) => !notAsked.includes(path));
  const others = Object.keys(keys).filter((key) => !parts.some(({ of }) => of.includes(key)));
  const field = ({ path, key }: Leaf) => (
    <KeyField
      key={path}
      path={path}
      keyOf={withInterpreters(path, key, check?.interpreters ?? [])}
      value={draft[path]}
      onChange={(value: Value) => setDraft((before) => ({ ...before, [path]: value }))}
      errorAt={(at) => mistakeAt(check, at)}
    />
  );
  return (
    <div className="bench">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          wrap.mutate();
        }}
      >
        {[...parts, { ...rest, of: others }].map(({ title, of, first }) => {
          const mine = all.filter(({ path }) => of.includes(path.split(".")[0] ?? ""));
          return (
            <Part key={title} title={title}>
              {of.includes("name") && (
                <Sibling
                  onChoose={(from, given) => setDraft({ ...draftOf(keys, from, given), name: draft.name ?? "" })}
                />
              )}
              <Keys leaves={mine.filter(({ path }) => first.includes(path))} field={field} />
              {of.includes("rhythm") && <Moments all={check?.moments} />}
              {mine.some(({ path }) => !first.includes(path)) && (
                <details>
                  <summary>More</summary>
                  <Keys leaves={mine.filter(({ path }) => !first.includes(path))} field={field} />
                </details>
              )}
            </Part>
          );
        })}
        <Part title="Try it">
          {enough && check?.errors.length === 0 ? (
            <Rehearsal
              definition={sent}
              onAdopt={(adoption) => setDraft((before) => ({ ...before, ...draftOf(keys, adoption) }))}
            />
          ) : (
            <p className="quiet">With a name and a program it can be run here just as its service would run it.</p>
          )}
        </Part>
        <Checkbox
          label="Start it at once"
          mt="lg"
          checked={start}
          onChange={(event) => setStart(event.currentTarget.checked)}
        />
        {wrap.isError && (
          <p className="attention" role="alert">
            ▲ {wrap.error.message}
          </p>
        )}
        <Button type="submit" mt="md" loading={wrap.isPending}>
          Wrap
        </Button>
      </form>
      <aside aria-label="Checked while you type">
        <h2>Checked while you type</h2>
        <div className="sheet side" aria-busy={!fresh}>
          {!check && <p className="quiet">Nothing to check yet: a name and a program are needed.</p>}
          {check && (
            <p role="status" className={check.clear ? undefined : "attention"}>
              {check.clear ? "✓" : "▲"} {check.said}
            </p>
          )}
          {check?.errors.map((error) => (
            <p key={error.text} className="attention">
              {error.text}
            </p>
          ))}
          {check && (
            <Findings
              check={check}
              account={String(draft["identity.account"] ?? "").trim()}
              onAccept={(code) => setAccept([...accept, code])}
              onChanged={() => void again()}
            />
          )}
        </div>
        {check?.repeat && (
          <>
            <h2>The same again</h2>
            <div className="sheet side">
              <Again repeat={check.repeat} />
            </div>
          </>
        )}
      </aside>
    </div>
  );
}

/** Short fields stand beside each other, long ones below them. */
function Keys({ leaves: all, field }: { leaves: Leaf[]; field: (leaf: Leaf) => ReactNode }) {
  const isLong = ({ key }: Leaf) => ["one", "many"].includes(shapeOf(key));
  return (
    <>
      <SimpleGrid cols={{ base: 1, sm: 2 }}>{all.filter((leaf) => !isLong(leaf)).map(field)}</SimpleGrid>
      {all.filter(isLong).map(field)}
    </>
  );
}

/** The interpreters that this machine has for the program are offered by name. */
function withInterpreters(path: string, key: Key, found: { path: string; chosen: boolean }[]): Key {
  if (path !== "program.with" || found.length === 0) return key;
  const chosen = found.find((one) => one.chosen)?.path ?? "none";
  return {
    ...key,
    description: key.description.replace(` Left out: ${key["x-left-out"]}.`, ""),
    "x-left-out": chosen,
    enum: found.map((one) => one.path),
  };
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  const id = useId();
  return (
    <section className="sheet part" aria-labelledby={id}>
      <h2 id={id}>{title}</h2>
      {children}
    </section>
  );
}

/** Another service to begin from: everything of it is taken over but its name. */
function Sibling({ onChoose }: { onChoose: (from: Definition, given: readonly string[]) => void }) {
  const { services } = useServices();
  const choose = async (name: string) => {
    if (name === "") return;
    const like = await take(api.GET("/api/services/{name}", { params: { path: { name } } }));
    onChoose(like.definition as Definition, like.given);
  };
  return (
    <NativeSelect
      label="Like"
      description="Take over the settings of another service"
      data={[{ value: "", label: "none" }, ...services.map((one) => ({ value: one.name, label: one.title }))]}
      onChange={(event) => void choose(event.currentTarget.value)}
    />
  );
}
