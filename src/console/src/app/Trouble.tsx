import { Button } from "@mantine/core";
import type { UseQueryResult } from "@tanstack/react-query";

/** What an act came to that could not be done; nothing, where nothing is wrong. */
export function Wrong({ error }: { error: Error | null | undefined }) {
  return (
    error && (
      <p role="alert" className="attention" style={{ whiteSpace: "pre-line" }}>
        ▲ {error.message}
      </p>
    )
  );
}

/** What came of an act, as the sentry says it, or why it could not be done. */
export function Said({ of }: { of: { error: Error | null; data?: { said: string } | undefined } }) {
  return of.error ? (
    <Wrong error={of.error} />
  ) : (
    <p role="status" className="quiet" style={{ whiteSpace: "pre-line" }}>
      {of.data?.said}
    </p>
  );
}

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
