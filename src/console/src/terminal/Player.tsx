import { Button, Group, SegmentedControl, Slider } from "@mantine/core";
import type { Terminal } from "@xterm/xterm";
import { useEffect, useRef, useState } from "react";
import { type Recording, sizeOf } from "./recording";
import { screenIn } from "./screen";

const beat = 50;

/** Plays what a viewer of a terminal saw. Everything in it stays in this page. */
export default function Player({ recording, onLeave }: { recording: Recording; onLeave: () => void }) {
  const place = useRef<HTMLDivElement>(null);
  const screen = useRef<Terminal>(null);
  const shown = useRef(0);
  const [at, setAt] = useState(0);
  const [plays, setPlays] = useState(true);
  const [speed, setSpeed] = useState("1");

  useEffect(() => {
    if (!place.current) return;
    const terminal = screenIn(place.current, true);
    screen.current = terminal;
    return () => {
      screen.current = null;
      terminal.dispose();
    };
  }, []);

  // What comes before a time is on the screen; back in time means from the beginning.
  useEffect(() => {
    const terminal = screen.current;
    if (!terminal) return;
    const last = recording.shows[shown.current - 1];
    if (shown.current === 0 || (last && last.at > at)) {
      terminal.reset();
      terminal.resize(recording.columns, recording.rows);
      shown.current = 0;
    }
    for (let next = recording.shows[shown.current]; next && next.at <= at; next = recording.shows[++shown.current]) {
      const size = next.what === "r" ? sizeOf(next.text) : null;
      if (size) terminal.resize(size.columns, size.rows);
      else if (next.what === "o") terminal.write(next.text);
    }
  }, [at, recording]);

  useEffect(() => {
    if (!plays) return;
    const timer = setInterval(
      () => setAt((now) => Math.min(recording.length, now + (beat / 1000) * Number(speed))),
      beat,
    );
    return () => clearInterval(timer);
  }, [plays, speed, recording]);
  const isOver = at >= recording.length;

  return (
    <section aria-label="Recording">
      <Group gap="xs" mb="xs">
        <Button
          size="compact-sm"
          variant="default"
          onClick={() => {
            if (isOver) setAt(0);
            setPlays(isOver || !plays);
          }}
        >
          {isOver ? "Play again" : plays ? "Pause" : "Play"}
        </Button>
        <Slider
          aria-label="Time in the recording"
          flex={1}
          min={0}
          max={Math.max(recording.length, 0.1)}
          step={0.1}
          value={at}
          label={(seconds) => `${seconds.toFixed(1)} s`}
          onChange={setAt}
        />
        <span className="quiet">
          {at.toFixed(1)} of {recording.length.toFixed(1)} s
        </span>
        <SegmentedControl
          aria-label="Speed"
          size="xs"
          value={speed}
          onChange={setSpeed}
          data={[
            { value: "1", label: "1×" },
            { value: "2", label: "2×" },
            { value: "8", label: "8×" },
          ]}
        />
        <Button size="compact-sm" variant="default" onClick={onLeave}>
          Close
        </Button>
      </Group>
      <p className="quiet" role="status">
        {recording.began ? `Recorded ${recording.began.toLocaleString()}, ` : ""}
        {recording.columns}x{recording.rows}. Pauses longer than 2 s are shortened.
      </p>
      <div className="terminal-screen" ref={place} />
    </section>
  );
}
