import { type Key, leaves, memberKeys, shapeOf } from "./keys";

/** One map of a list, or a map that is one of several kinds: its kind, the kind's value, and its attributes, as text. */
export type Row = { kind: string; value: string; more: Record<string, string> };

export type Value = string | boolean | Row[];

/** What stands in the form, by the dotted path of each key. What is empty is left out, so that it keeps its default. */
export type Draft = Record<string, Value>;

export type Definition = { [key: string]: unknown };

const lines = (text: string) => text.split("\n").filter((line) => line.trim() !== "");
const shown = (value: unknown) => (Array.isArray(value) ? value.join("\n") : String(value ?? ""));

/** Text that is sent has its line ends written as \n, so that they are seen. */
const escaped = (text: string) =>
  text.replace(/[\\\n\r\t]/g, (letter) => ({ "\\": "\\\\", "\n": "\\n", "\r": "\\r", "\t": "\\t" })[letter] ?? letter);
const unescaped = (text: string) =>
  text.replace(/\\(.)/g, (_, letter: string) => ({ n: "\n", r: "\r", t: "\t" })[letter] ?? letter);

/** The definition that a form makes. */
export function definition(keys: Record<string, Key>, draft: Draft): Definition {
  const made: Definition = {};
  for (const { path, key } of leaves(keys)) {
    const value = madeOf(key, draft[path]);
    if (value !== undefined) put(made, path.split("."), value);
  }
  return made;
}

function madeOf(key: Key, value: Value | undefined): unknown {
  if (value === undefined || value === "" || value === false) return undefined;
  if (value === true) return "true";
  if (typeof value !== "string") {
    const rows = value.map((row) => madeRow(key, row));
    return shapeOf(key) === "one" ? rows[0] : rows.length > 0 ? rows : undefined;
  }
  switch (shapeOf(key)) {
    // Taken a line each, exactly: only the line end that closes the text is not one.
    case "texts":
      return value.replace(/\n$/, "").split("\n");
    case "names":
      return lines(value).map((line) =>
        line.trim().endsWith(":file") ? { key: line.trim().slice(0, -5), as: "file" } : line.trim(),
      );
    case "pairs":
      return Object.fromEntries(
        lines(value).map((line) => {
          const equals = line.indexOf("=");
          return equals < 0 ? [line.trim(), ""] : [line.slice(0, equals).trim(), line.slice(equals + 1)];
        }),
      );
    default:
      return value.trim() || undefined;
  }
}

function madeRow(key: Key, row: Row): Definition {
  const members = memberKeys(key);
  const value = row.kind === "send" ? unescaped(row.value) : row.value.trim();
  const of = members[row.kind];
  const more = Object.entries(row.more).filter(([name, text]) => text !== "" && goesWith(members[name], row.kind));
  return { [row.kind]: of && shapeOf(of) === "texts" ? lines(row.value) : value, ...Object.fromEntries(more) };
}

export const goesWith = (attribute: Key | undefined, kind: string) =>
  attribute !== undefined && (attribute["x-with"]?.includes(kind) ?? true);

function put(into: Definition, [first = "", ...rest]: string[], value: unknown) {
  if (rest.length === 0) into[first] = value;
  else {
    into[first] ??= {};
    put(into[first] as Definition, rest, value);
  }
}

/**
 * A definition as it stands in the form.
 * @param given Dotted keys that were set; undefined: all.
 */
export function draftOf(keys: Record<string, Key>, from: Definition, given?: readonly string[]): Draft {
  const draft: Draft = {};
  for (const { path, key } of leaves(keys)) {
    const value = path.split(".").reduce<unknown>((at, name) => (at as Definition | undefined)?.[name], from);
    const set = !given || given.some((one) => one === path || one.startsWith(`${path}.`));
    if (value !== undefined && set) draft[path] = drafted(key, value);
  }
  return draft;
}

function drafted(key: Key, value: unknown): Value {
  switch (shapeOf(key)) {
    case "one":
      return [rowOf(key, value as Definition)];
    case "many":
      return (value as Definition[]).map((one) => rowOf(key, one));
    case "switch":
      return String(value) === "true";
    case "names":
      return (value as (string | { key: string })[])
        .map((one) => (typeof one === "string" ? one : `${one.key}:file`))
        .join("\n");
    case "pairs":
      return Object.entries(value as Definition)
        .map(([name, text]) => `${name}=${text}`)
        .join("\n");
    default:
      return shown(value);
  }
}

function rowOf(key: Key, from: Definition): Row {
  const kind = key["x-kinds"]?.find((one) => from[one] !== undefined) ?? "";
  const { [kind]: value, ...more } = from;
  return {
    kind,
    value: kind === "send" ? escaped(String(value)) : shown(value),
    more: Object.fromEntries(Object.entries(more).map(([name, text]) => [name, shown(text)])),
  };
}
