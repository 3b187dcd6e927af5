import { Button } from "@mantine/core";
import { lazy, Suspense, useState } from "react";

// What draws a window is fetched when one is joined.
const WindowScreen = lazy(() => import("./WindowScreen"));

/** What a service shows on the display of its own. */
export function Window({ name, lives }: { name: string; lives: boolean }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <h2 id="window">Window</h2>
      {open ? (
        <Suspense fallback={<p className="quiet">Fetching what draws it…</p>}>
          <WindowScreen name={name} onLeave={() => setOpen(false)} />
        </Suspense>
      ) : (
        <p>
          <Button size="compact-sm" variant="default" disabled={!lives} onClick={() => setOpen(true)}>
            See its window
          </Button>{" "}
          <span className="quiet">
            {lives ? "See what it shows, and answer it." : "It can be seen while the service runs."}
          </span>
        </p>
      )}
    </>
  );
}
