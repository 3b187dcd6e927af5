import { useQuery } from "@tanstack/react-query";
import { call } from "../api/page";

/** One key of a definition, as its JSON Schema has it: everything the form knows of it. */
export type Key = {
  title: string;
  description: string;
  type?: string | string[];
  enum?: string[];
  pattern?: string;
  examples?: string[];
  properties?: Record<string, Key>;
  items?: { anyOf?: Key[] };
  /** What holds where it is left out, as it is said at the end of the description; none: it must not be left out. */
  "x-left-out"?: string;
  /** The keys of which exactly one says what kind a map is of. */
  "x-kinds"?: string[];
  /** The kinds an attribute goes with; none: all. */
  "x-with"?: string[];
};

export type Shape = "text" | "path" | "choice" | "switch" | "texts" | "pairs" | "names" | "one" | "many" | "map";

export function shapeOf(key: Key): Shape {
  if (key["x-kinds"]) return key.type === "array" ? "many" : "one";
  if (key.properties) return "map";
  if (key.type === "object") return "pairs";
  if (key.type === "array") return key.items?.anyOf ? "names" : "texts";
  if (key.type === "boolean") return "switch";
  return key.enum ? "choice" : key.pattern === "^/" ? "path" : "text";
}

/** The keys of a map that is one of several kinds, or of each map in a list. */
export const memberKeys = (key: Key) => key.properties ?? key.items?.anyOf?.[0]?.properties ?? {};

export type Leaf = { path: string; key: Key };

/** Every key that has a value of its own, with its dotted path. */
export const leaves = (keys: Record<string, Key>, path = ""): Leaf[] =>
  Object.entries(keys).flatMap(([name, key]) =>
    shapeOf(key) === "map" ? leaves(key.properties ?? {}, `${path}${name}.`) : [{ path: path + name, key }],
  );

export function useKeys(): Record<string, Key> | undefined {
  const schema = useQuery({
    queryKey: ["definition.schema"],
    queryFn: async () =>
      (await call("/api/definition.schema.json")).json() as Promise<{ properties: Record<string, Key> }>,
    staleTime: Number.POSITIVE_INFINITY,
  });
  return schema.data?.properties;
}
