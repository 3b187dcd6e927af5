import { type NeedRow, needOf, needRows, noProof, type ProofRow, proofOf, proofRow } from "./begin";
import {
  noRecover,
  type Recover,
  recoverFields,
  recoverOf,
  type StepRow,
  stepOf,
  stepRows,
  type WatchRow,
  watchOf,
  watchRows,
} from "./care";

/** The form's fields as text, and the definition they make. What is left empty is left out, so that it keeps its default. */
export type Fields = {
  name: string;
  notes: string;
  kind: "stays" | "detaches" | "toggles";
  path: string;
  with: string;
  arguments: string;
  directory: string;
  environment: string;
  secrets: string;
  pidFile: string;
  stop: string;
  account: string;
  groups: string;
  umask: string;
  moreRights: boolean;
  priority: string;
  disk: string;
  processors: string;
  memory: string;
  cpu: string;
  openFiles: string;
  tasks: string;
  at: "boot" | "boot-late" | "request" | "never";
  needs: NeedRow[];
  proof: ProofRow;
  terminal: boolean;
  watch: WatchRow[];
  recover: Recover;
  steps: StepRow[];
  accept: string[];
  start: boolean;
};

export const empty: Fields = {
  name: "",
  notes: "",
  kind: "stays",
  path: "",
  with: "",
  arguments: "",
  directory: "",
  environment: "",
  secrets: "",
  pidFile: "",
  stop: "",
  account: "",
  groups: "",
  umask: "",
  moreRights: false,
  priority: "normal",
  disk: "normal",
  processors: "",
  memory: "",
  cpu: "",
  openFiles: "",
  tasks: "",
  at: "boot",
  needs: [],
  proof: noProof,
  terminal: false,
  watch: [],
  recover: noRecover,
  steps: [],
  accept: [],
  start: true,
};

/** Which field a key of the definition stands in. */
export const fieldOf: Record<string, keyof Fields> = {
  name: "name",
  title: "name",
  notes: "notes",
  "program.kind": "kind",
  "program.path": "path",
  "program.with": "with",
  "program.arguments": "arguments",
  "program.directory": "directory",
  "program.environment": "environment",
  "program.secrets": "secrets",
  "program.pid-file": "pidFile",
  "program.off": "stop",
  "identity.account": "account",
  "identity.groups": "groups",
  "identity.umask": "umask",
  "resources.processors": "processors",
  "resources.memory": "memory",
  "resources.cpu": "cpu",
  "resources.open-files": "openFiles",
  "resources.tree-size": "tasks",
};

const lines = (text: string) => text.split("\n").filter((line) => line.trim() !== "");
/** Arguments are taken a line each, exactly: only the line end that closes the text is not one. */
const exact = (text: string) => (text === "" ? undefined : text.replace(/\n$/, "").split("\n"));
const some = <T>(list: T[]) => (list.length > 0 ? list : undefined);

export type Definition = { [key: string]: unknown };

export function definition(fields: Fields): Definition {
  const variables = lines(fields.environment).map((line) => {
    const equals = line.indexOf("=");
    return equals < 0 ? [line.trim(), ""] : [line.slice(0, equals).trim(), line.slice(equals + 1)];
  });
  return clean({
    name: fields.name.trim(),
    notes: fields.notes.trim(),
    program: clean({
      kind: fields.kind === "stays" ? "" : fields.kind,
      path: fields.path.trim(),
      with: fields.with.trim(),
      arguments: exact(fields.arguments),
      directory: fields.directory.trim(),
      environment: variables.length > 0 ? Object.fromEntries(variables) : undefined,
      secrets: some(
        lines(fields.secrets).map((line) =>
          line.trim().endsWith(":file") ? { key: line.trim().slice(0, -5), as: "file" } : line.trim(),
        ),
      ),
      "pid-file": fields.kind === "detaches" ? fields.pidFile.trim() : "",
      stop: fields.kind === "toggles" ? exact(fields.stop) : undefined,
      terminal: fields.terminal ? "true" : undefined,
    }),
    identity: clean({
      account: fields.account.trim(),
      groups: some(fields.groups.split(/[\s,]+/).filter(Boolean)),
      umask: fields.umask.trim(),
      "more-rights": fields.moreRights ? "allowed" : "",
    }),
    resources: clean({
      priority: fields.priority === "normal" ? "" : fields.priority,
      disk: fields.disk === "normal" ? "" : fields.disk,
      processors: fields.processors.trim(),
      memory: fields.memory.trim(),
      cpu: fields.cpu.trim(),
      "open-files": fields.openFiles.trim(),
      tasks: fields.tasks.trim(),
    }),
    begin: clean({ at: fields.at, needs: some(fields.needs.map(needOf)), proof: proofOf(fields.proof) }),
    watch: some(fields.watch.map(watchOf)),
    recover: recoverOf(fields.recover),
    "wind-down": fields.kind === "toggles" ? undefined : some(fields.steps.map(stepOf)),
    accept: some(fields.accept),
  }) as Definition;
}

function clean(map: Definition): Definition | undefined {
  const kept = Object.entries(map).filter(([, value]) => value !== undefined && value !== "");
  return kept.length > 0 ? Object.fromEntries(kept) : undefined;
}

/** The fields of another service's definition, as far as the form has them; its name is not taken over. */
// biome-ignore lint/suspicious/noExplicitAny: a definition is described by its own schema, not by the API's
export function fields(from: any, given: readonly string[]): Fields {
  const was = (key: string) => given.includes(key);
  const { program, identity, resources } = from;
  return {
    ...empty,
    notes: from.notes ?? "",
    kind: program.kind,
    path: program.path,
    with: program.with ?? "",
    arguments: (program.arguments ?? []).join("\n"),
    directory: program.directory ?? "",
    environment: Object.entries(program.environment ?? {})
      .map(([name, value]) => `${name}=${value}`)
      .join("\n"),
    secrets: (program.secrets ?? [])
      .map((use: string | { key: string }) => (typeof use === "string" ? use : `${use.key}:file`))
      .join("\n"),
    pidFile: program["pid-file"] ?? "",
    stop: (program.off ?? []).join("\n"),
    account: identity.account,
    groups: (identity.groups ?? []).join(", "),
    umask: was("identity.umask") ? identity.umask : "",
    moreRights: identity["more-rights"] === "allowed",
    priority: resources.priority,
    disk: resources.disk,
    processors: resources.processors ?? "",
    memory: resources.memory ?? "",
    cpu: resources.cpu ?? "",
    openFiles: resources["open-files"] ?? "",
    tasks: resources.tree-size ?? "",
    at: from.begin.at,
    needs: needRows(from.begin.needs),
    proof: given.some((key) => key.startsWith("begin.proof.")) ? proofRow(from.begin.proof) : noProof,
    terminal: String(program.terminal) === "true",
    watch: watchRows(from.watch),
    recover: recoverFields(from.recover, given),
    steps: was("wind-down") ? stepRows(from["wind-down"]) : [],
    accept: from.accept ?? [],
  };
}
