import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, type CheckView, take } from "../api/client";
import type { Definition } from "./draft";

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

/** The mistake at a key or inside it, if there is one. */
export function mistakeAt(check: CheckView | undefined, path: string): string | undefined {
  const wrong = check?.errors.find(
    ({ where }) => where === path || where.startsWith(`${path}.`) || where.startsWith(`${path}[`),
  );
  return wrong && `${wrong.found}${wrong.allowed ? `; allowed: ${wrong.allowed}` : ""}`;
}
