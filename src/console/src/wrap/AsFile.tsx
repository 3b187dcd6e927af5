import { Textarea } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useEffect, useRef, useState } from "react";
import type { CheckView, Problem } from "../api/client";
import { call } from "../api/page";
import type { Definition } from "./draft";

/** The definition as a file, beside the form: each follows the other, once the sentry has read what was typed. */
export function AsFile({ file, onGiven }: { file: string; onGiven: (definition: Definition) => void }) {
  const [typed, setTyped] = useState<string>();
  const [wrong, setWrong] = useState<string>();
  const [settled] = useDebouncedValue(typed, 400);
  const given = useRef(onGiven);
  given.current = onGiven;
  useEffect(() => {
    if (settled === undefined) return;
    const gone = new AbortController();
    read(settled, gone.signal).then(
      (definition) => {
        setWrong(undefined);
        given.current(definition);
      },
      (error: Error) => {
        if (!gone.signal.aborted) setWrong(error.message);
      },
    );
    return () => gone.abort();
  }, [settled]);
  return (
    <Textarea
      aria-label="As a file"
      autosize
      minRows={6}
      maxRows={26}
      spellCheck={false}
      classNames={{ input: "typed-file" }}
      value={typed ?? file}
      error={wrong}
      onChange={(event) => setTyped(event.currentTarget.value)}
      onBlur={() => {
        // What was read stands as the form has it; what could not be read stays as it was typed.
        if (typed === settled && !wrong) setTyped(undefined);
      }}
    />
  );
}

/** What it gives, every value as text, as the form takes them; what is wrong with it is said with its line. */
async function read(text: string, signal: AbortSignal): Promise<Definition> {
  const answer = await call("/api/check", {
    method: "POST",
    headers: { "Content-Type": "application/yaml" },
    body: text,
    signal,
  });
  if (!answer.ok) throw new Error(((await answer.json()) as Problem).detail);
  const { errors } = (await answer.json()) as CheckView;
  if (errors.length > 0) throw new Error(errors.map((error) => error.text).join("\n"));
  const { parse } = await import("yaml");
  return parse(text, { schema: "failsafe" }) as Definition;
}
