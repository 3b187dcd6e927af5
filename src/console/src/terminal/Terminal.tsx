import { Button } from "@mantine/core";
import { lazy, Suspense, useState } from "react";

// What draws a terminal is fetched when one is joined.
const TerminalScreen = lazy(() => import("./TerminalScreen"));

/** A service's terminal, for those that have one for people. */
export function Terminal({ name, lives }: { name: string; lives: boolean }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <h2>Terminal</h2>
      {open ? (
        <Suspense fallback={<p className="quiet">Joining…</p>}>
          <TerminalScreen name={name} onLeave={() => setOpen(false)} />
        </Suspense>
      ) : (
        <p>
          <Button size="compact-sm" variant="default" disabled={!lives} onClick={() => setOpen(true)}>
            Join
          </Button>{" "}
          <span className="quiet">
            {lives ? "See what is on it, and type there." : "It can be joined while the service runs."}
          </span>
        </p>
      )}
    </>
  );
}
