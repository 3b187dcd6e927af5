import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, type CheckView, take } from "../api/client";
import { type Definition, fieldOf } from "./definition";

/** What the sentry finds about a definition, asked anew as soon as nobody has typed for a moment. */
export function useCheck(definition: Definition, enabled: boolean) {
  const text = JSON.stringify(definition);
  const [settled] = useDebouncedValue(text, 400);
  const check = useQuery({
    queryKey: ["check", settled],
    queryFn: () => take(api.POST("/api/check", { body: JSON.parse(settled) as never })),
    enabled,
    placeholderData: keepPreviousData,
    gcTime: 0,
  });
  return {
    check: enabled ? check.data : undefined,
    fresh: text === settled && !check.isFetching,
    again: check.refetch,
  };
}

/** The definition's own mistakes at the fields they are in: "resources.memory: 'lots'; allowed: …". */
export function mistakes(check: CheckView | undefined): Record<string, string> {
  const found: Record<string, string> = {};
  for (const error of check?.errors ?? []) {
    const [key = ""] = error.split(": ", 1);
    const known = Object.keys(fieldOf)
      .filter((one) => key === one || key.startsWith(`${one}[`) || key.startsWith(`${one}.`))
      .sort((a, b) => b.length - a.length)[0];
    const field = known ? fieldOf[known] : undefined;
    if (field) found[field] = error.slice(key.length + 2);
  }
  return found;
}
