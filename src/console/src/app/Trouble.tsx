import { Button } from "@mantine/core";
import type { UseQueryResult } from "@tanstack/react-query";

/** Why something that was asked for is not there, and the way to ask again. */
export function Trouble({ of }: { of: UseQueryResult<unknown> }) {
  if (!of.isError) return null;
  return (
    <p role="alert" className="attention">
      ▲ {of.error.message}{" "}
      <Button size="compact-xs" variant="default" loading={of.isFetching} onClick={() => void of.refetch()}>
        Try again
      </Button>
    </p>
  );
}
