import { Button, FileButton, Group } from "@mantine/core";
import { lazy, Suspense, useState } from "react";
import { type Recording, read } from "./recording";

// What draws a terminal is fetched when one is joined.
const TerminalScreen = lazy(() => import("./TerminalScreen"));
const Player = lazy(() => import("./Player"));

/** A service's terminal, for those that have one for people, and recordings of it. */
export function Terminal({ name, lives }: { name: string; lives: boolean }) {
  const [open, setOpen] = useState(false);
  const [recording, setRecording] = useState<Recording>();
  const [wrong, setWrong] = useState<string>();
  const play = (file: File | null) => {
    if (!file) return;
    read(file).then(
      (read) => {
        setWrong(undefined);
        setRecording(read);
      },
      (error: Error) => setWrong(error.message),
    );
  };
  return (
    <>
      <h2 id="terminal">Terminal</h2>
      {open || recording ? (
        <Suspense fallback={<p className="quiet">Fetching what draws it…</p>}>
          {recording ? (
            <Player recording={recording} onLeave={() => setRecording(undefined)} />
          ) : (
            <TerminalScreen name={name} onLeave={() => setOpen(false)} />
          )}
        </Suspense>
      ) : (
        <Group gap="xs" mb="md">
          <Button size="compact-sm" variant="default" disabled={!lives} onClick={() => setOpen(true)}>
            Join
          </Button>
          <FileButton onChange={play}>
            {(props) => (
              <Button size="compact-sm" variant="default" {...props}>
                Play a recording…
              </Button>
            )}
          </FileButton>
          <span className="quiet">
            {lives ? "See what is on it, and type there." : "It can be joined while the service runs."}
          </span>
          {wrong && (
            <span className="attention" role="alert">
              ▲ {wrong}
            </span>
          )}
        </Group>
      )}
    </>
  );
}
