/** Watches, recovery and wind-down as fields of the form, and the parts of a definition they make. */
export const watchKinds = [
  "http",
  "tcp",
  "command",
  "silent-for",
  "file",
  "well-within",
  "memory-above",
  "cpu-above",
  "open-files-above",
  "tree-above",
  "ceiling-within",
  "paused-for",
] as const;
export type WatchKind = (typeof watchKinds)[number];

export type WatchRow = {
  kind: WatchKind;
  value: string;
  text: string;
  freshFor: string;
  above: string;
  every: string;
  patience: string;
  then: string;
};

export const stepKinds = ["signal", "send", "close", "key", "http", "command"] as const;
export type StepKind = (typeof stepKinds)[number];

export type StepRow = { kind: StepKind; value: string; to: string; wait: string };

export type Recover = {
  after: string;
  first: string;
  longest: string;
  ends: string;
  within: string;
  retryEvery: string;
  codes: string;
};

export const newWatch: WatchRow = {
  kind: "http",
  value: "",
  text: "",
  freshFor: "",
  above: "",
  every: "",
  patience: "",
  // biome-ignore lint/suspicious/noThenProperty: the word of the definition
  then: "",
};

export const newStep: StepRow = { kind: "signal", value: "TERM", to: "", wait: "10 s" };

export const noRecover: Recover = {
  after: "failure",
  first: "",
  longest: "",
  ends: "",
  within: "",
  retryEvery: "",
  codes: "",
};

const left = (text: string) => text.trim() || undefined;
const words = (text: string) => text.split("\n").filter(Boolean);
const some = (map: Record<string, unknown>) =>
  Object.values(map).some((value) => value !== undefined) ? map : undefined;

export const isLevel = (kind: WatchKind) => kind.endsWith("-above");

export function watchOf(row: WatchRow) {
  return {
    [row.kind]: row.kind === "command" ? words(row.value) : row.value.trim(),
    text: row.kind === "http" ? left(row.text) : undefined,
    "fresh-for": row.kind === "file" ? left(row.freshFor) : undefined,
    for: isLevel(row.kind) ? left(row.above) : undefined,
    every: left(row.every),
    patience: left(row.patience),
    // biome-ignore lint/suspicious/noThenProperty: the word of the definition
    then: left(row.then),
  };
}

/** In text that is sent, \n stands for a line end. */
const unescaped = (text: string) =>
  text.replace(/\\(.)/g, (_, letter: string) => ({ n: "\n", r: "\r", t: "\t" })[letter] ?? letter);
const escaped = (text: string) =>
  text.replace(/[\\\n\r\t]/g, (letter) => ({ "\\": "\\\\", "\n": "\\n", "\r": "\\r", "\t": "\\t" })[letter] ?? letter);

export function stepOf(row: StepRow) {
  const value =
    row.kind === "send"
      ? unescaped(row.value)
      : row.kind === "command"
        ? words(row.value)
        : row.kind === "close"
          ? "input"
          : row.kind === "key"
            ? row.value || "interrupt"
            : row.value.trim();
  return {
    [row.kind]: value,
    to: row.kind === "send" || row.kind === "signal" ? left(row.to) : undefined,
    wait: left(row.wait),
  };
}

export function recoverOf(recover: Recover) {
  const codes = words(recover.codes).map((line) => line.split("=").map((part) => part.trim()));
  return some({
    after: recover.after === "failure" ? undefined : recover.after,
    pause: some({ first: left(recover.first), longest: left(recover.longest) }),
    hold: some({ ends: left(recover.ends), within: left(recover.within), "retry-every": left(recover.retryEvery) }),
    codes: codes.length > 0 ? Object.fromEntries(codes.map(([code, then]) => [code, then ?? ""])) : undefined,
  });
}

// biome-ignore lint/suspicious/noExplicitAny: a definition is described by its own schema, not by the API's
export function watchRows(watches: any[] | undefined): WatchRow[] {
  return (watches ?? []).map((watch) => {
    const kind = watchKinds.find((one) => watch[one] !== undefined) ?? "http";
    const value = watch[kind];
    return {
      kind,
      value: Array.isArray(value) ? value.join("\n") : String(value ?? ""),
      text: watch.text ?? "",
      freshFor: watch["fresh-for"] ?? "",
      above: watch.for ?? "",
      every: watch.every ?? "",
      patience: String(watch.patience ?? ""),
      // biome-ignore lint/suspicious/noThenProperty: the word of the definition
      then: watch.then ?? "",
    };
  });
}

// biome-ignore lint/suspicious/noExplicitAny: as above
export function stepRows(steps: any[] | undefined): StepRow[] {
  return (steps ?? []).map((step) => {
    const kind = stepKinds.find((one) => step[one] !== undefined) ?? "signal";
    const value = step[kind];
    return {
      kind,
      value: Array.isArray(value) ? value.join("\n") : kind === "send" ? escaped(value) : String(value ?? ""),
      to: step.to ?? "",
      wait: step.wait ?? "",
    };
  });
}

// biome-ignore lint/suspicious/noExplicitAny: as above
export function recoverFields(recover: any, given: readonly string[]): Recover {
  const was = (key: string, value: unknown) => (given.includes(`recover.${key}`) ? String(value ?? "") : "");
  return {
    after: recover.after ?? "failure",
    first: was("pause.first", recover.pause?.first),
    longest: was("pause.longest", recover.pause?.longest),
    ends: was("hold.ends", recover.hold?.ends),
    within: was("hold.within", recover.hold?.within),
    retryEvery: was("hold.retry-every", recover.hold?.["retry-every"]),
    codes: Object.entries(recover.codes ?? {})
      .map(([code, then]) => `${code}=${then}`)
      .join("\n"),
  };
}
