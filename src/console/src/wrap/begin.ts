/** Needs and proof as rows of the form, and the part of a definition they make. */
export type NeedKind = "network" | "service" | "tcp" | "path" | "after-boot";

export type NeedRow = {
  kind: NeedKind;
  value: string;
  mounted: boolean;
  writable: boolean;
  ifLost: string;
  within: string;
  then: string;
};

export type ProofKind = "up-for" | "tcp" | "http" | "output" | "file" | "command" | "told";

export type ProofRow = {
  kind: ProofKind;
  value: string;
  status: string;
  text: string;
  within: string;
  onlyTell: boolean;
};

export const newNeed: NeedRow = {
  kind: "service",
  value: "",
  mounted: false,
  writable: false,
  ifLost: "leave",
  within: "",
  // biome-ignore lint/suspicious/noThenProperty: the word of the definition
  then: "tell",
};

export const noProof: ProofRow = { kind: "up-for", value: "", status: "", text: "", within: "", onlyTell: false };

const left = (text: string) => text.trim() || undefined;

export function needOf(row: NeedRow) {
  return {
    [row.kind]: row.kind === "network" ? row.value.trim() || "up" : row.value.trim(),
    mounted: row.kind === "path" && row.mounted ? "true" : undefined,
    writable: row.kind === "path" && row.writable ? "true" : undefined,
    "if-lost": row.kind === "service" && row.ifLost !== "leave" ? row.ifLost : undefined,
    within: left(row.within),
    // biome-ignore lint/suspicious/noThenProperty: the word of the definition
    then: row.then === "tell" ? undefined : row.then,
  };
}

/** Undefined: it is left to the default, which is staying up for a second. */
export function proofOf(row: ProofRow) {
  if (row.kind === "up-for") return left(row.value) ? { "up-for": row.value.trim() } : undefined;
  return {
    [row.kind]:
      row.kind === "told" ? "ready" : row.kind === "command" ? row.value.split("\n").filter(Boolean) : row.value.trim(),
    status: row.kind === "http" ? left(row.status) : undefined,
    text: row.kind === "http" ? left(row.text) : undefined,
    within: left(row.within),
    "if-not": row.onlyTell ? "tell" : undefined,
  };
}

// biome-ignore lint/suspicious/noExplicitAny: a definition is described by its own schema, not by the API's
export function needRows(needs: any[] | undefined): NeedRow[] {
  return (needs ?? []).map((need) => {
    const kind =
      (["network", "service", "tcp", "path", "after-boot"] as const).find((one) => need[one] !== undefined) ??
      "service";
    return {
      kind,
      value: kind === "network" && need.network === "up" ? "" : String(need[kind] ?? ""),
      mounted: String(need.mounted) === "true",
      writable: String(need.writable) === "true",
      ifLost: need["if-lost"] ?? "leave",
      within: need.within ?? "",
      // biome-ignore lint/suspicious/noThenProperty: the word of the definition
      then: need.then ?? "tell",
    };
  });
}

// biome-ignore lint/suspicious/noExplicitAny: as above
export function proofRow(proof: any): ProofRow {
  const kind =
    (["tcp", "http", "output", "file", "command", "told"] as const).find((one) => proof?.[one] !== undefined) ??
    "up-for";
  const value = proof?.[kind];
  return {
    kind,
    value: kind === "told" ? "" : Array.isArray(value) ? value.join("\n") : String(value ?? ""),
    status: String(proof?.status ?? ""),
    text: proof?.text ?? "",
    within: proof?.within ?? "",
    onlyTell: proof?.["if-not"] === "tell",
  };
}
