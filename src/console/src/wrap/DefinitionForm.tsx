import { SimpleGrid, TextInput } from "@mantine/core";
import { type ReactNode, useId, useState } from "react";
import type { CheckView } from "../api/client";
import type { Draft, Value } from "./draft";
import { KeyField } from "./Fields";
import { type Key, type Leaf, leaves, shapeOf } from "./keys";
import { Moments } from "./Moments";
import { SeenAs } from "./PathInput";
import { mistakeAt } from "./useCheck";

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

type Props = {
  keys: Record<string, Key>;
  draft: Draft;
  onChange: (path: string, value: Value) => void;
  check: CheckView | undefined;
  /** Keys that are not asked for here. */
  without?: string[];
  /** Stands before the fields of the first part. */
  first?: ReactNode;
};

/** Every key of a definition, in the order of the work; one is found by typing a part of what it is called or does. */
export function DefinitionForm({ keys, draft, onChange, check, without = [], first: lead }: Props) {
  const [find, setFind] = useState("");
  const wanted = find.trim().toLowerCase();
  const all = leaves(keys).filter(({ path }) => !notAsked.includes(path) && !without.includes(path));
  const others = Object.keys(keys).filter((key) => !parts.some(({ of }) => of.includes(key)));
  const field = ({ path, key }: Leaf) => (
    <KeyField
      key={path}
      path={path}
      keyOf={withInterpreters(path, key, check?.interpreters ?? [])}
      value={draft[path]}
      onChange={(value: Value) => onChange(path, value)}
      errorAt={(at) => mistakeAt(check, at)}
    />
  );
  const found = all.filter(({ path, key }) =>
    `${path}\n${key.title}\n${key.description}`.toLowerCase().includes(wanted),
  );
  return (
    <SeenAs value={typeof draft["identity.account"] === "string" ? draft["identity.account"].trim() : ""}>
      <TextInput
        className="find-setting"
        type="search"
        aria-label="Find a setting"
        placeholder="Find a setting: memory, port, log, time…"
        value={find}
        onChange={(event) => setFind(event.currentTarget.value)}
        onKeyDown={(event) => {
          // It is a search, and sends nothing.
          if (event.key === "Enter") event.preventDefault();
        }}
      />
      {wanted !== "" ? (
        <Part title={found.length === 0 ? "No setting is called so" : `Settings with “${find.trim()}”`}>
          <Keys leaves={found} field={field} />
        </Part>
      ) : (
        [...parts, { ...rest, of: others }].map(({ title, of, first }) => {
          const mine = all.filter(({ path }) => of.includes(path.split(".")[0] ?? ""));
          return (
            <Part key={title} title={title}>
              {of.includes("name") && lead}
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
        })
      )}
    </SeenAs>
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
    "x-left-out": chosen,
    enum: found.map((one) => one.path),
  };
}

export function Part({ title, children }: { title: string; children: ReactNode }) {
  const id = useId();
  return (
    <section className="sheet part" aria-labelledby={id}>
      <h2 id={id}>{title}</h2>
      {children}
    </section>
  );
}
