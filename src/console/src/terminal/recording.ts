/** A recording of a terminal (asciicast, version 2): its size, and what was shown when, in seconds from its beginning. */
export type Recording = {
  columns: number;
  rows: number;
  began?: Date | undefined;
  shows: Shows[];
  length: number;
};

export type Shows = { at: number; what: "o" | "r"; text: string };

const longest = 64 << 20;
const mostEach = 1000;

/** Nothing happened for longer than this: played, it takes no longer. */
const longestRest = 2;

/** @throws Error, which says what is wrong with the file, and where. */
export async function read(file: File): Promise<Recording> {
  if (file.size > longest)
    throw new Error(`${file.name} has more than 64 MiB; recordings of that size are not played.`);
  const lines = (await file.text()).split("\n");
  const head = parsed(lines[0] ?? "", 1) as {
    version?: unknown;
    width?: unknown;
    height?: unknown;
    timestamp?: unknown;
  };
  if (head?.version !== 2)
    throw new Error(
      `${file.name} is no recording: its first line says no "version": 2. 'calm terminal NAME --record FILE' makes one.`,
    );
  if (!isSize(head.width) || !isSize(head.height))
    throw new Error(`${file.name}, line 1: width and height from 1 to ${mostEach} are missing.`);
  const shows: Shows[] = [];
  let [was, at] = [0, 0];
  lines.slice(1).forEach((line, i) => {
    if (line.trim() === "") return;
    const one = parsed(line, i + 2);
    if (!Array.isArray(one) || typeof one[0] !== "number" || typeof one[1] !== "string" || typeof one[2] !== "string")
      throw new Error(`${file.name}, line ${i + 2}: not [seconds, "o", text].`);
    at += Math.min(longestRest, Math.max(0, one[0] - was));
    was = Math.max(was, one[0]);
    if (one[1] === "o" || one[1] === "r") shows.push({ at, what: one[1], text: one[2] });
  });
  return {
    columns: head.width,
    rows: head.height,
    began: typeof head.timestamp === "number" ? new Date(head.timestamp * 1000) : undefined,
    shows,
    length: at,
  };

  function parsed(line: string, number: number): unknown {
    try {
      return JSON.parse(line);
    } catch {
      throw new Error(
        number === 1
          ? `${file.name} is no recording: its first line is no JSON. 'calm terminal NAME --record FILE' makes one.`
          : `${file.name}, line ${number}: no JSON. What comes before it can be played once that line is taken out.`,
      );
    }
  }
}

const isSize = (value: unknown): value is number =>
  Number.isInteger(value) && (value as number) >= 1 && (value as number) <= mostEach;

/** A size as an event has it; null: it is none. */
export function sizeOf(text: string): { columns: number; rows: number } | null {
  const [columns, rows] = text.split("x").map(Number);
  return isSize(columns) && isSize(rows) ? { columns, rows } : null;
}
