import { Button, Group } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { type Joined, join, type News } from "./join";
import { screenIn } from "./screen";

/** A service's own terminal, seen while it runs, and typed at. It has its own size, whatever the window's. */
export default function TerminalScreen({ name, onLeave }: { name: string; onLeave: () => void }) {
  const place = useRef<HTMLDivElement>(null);
  const joined = useRef<Joined>(null);
  const [there, setThere] = useState<News | null>(null);
  const [said, setSaid] = useState<string | null>("Joining…");

  useEffect(() => {
    if (!place.current) return;
    const terminal = screenIn(place.current, false);
    const mine = join(name, false, {
      begin: (columns, rows, leftOut) => {
        terminal.reset();
        terminal.resize(columns, rows);
        setSaid(leftOut > 0 ? `${leftOut} bytes are not shown: this window was too slow.` : null);
      },
      resize: (columns, rows) => terminal.resize(columns, rows),
      show: (bytes, shown) => terminal.write(bytes, shown),
      news: (news) => (news.is === "there" ? setThere(news) : setSaid(news.why ?? null)),
      away: (isAway) => setSaid(isAway ? "The sentry is away; the program goes on. This comes back by itself." : null),
      over: (why) => setSaid(why),
    });
    joined.current = mine;
    const typed = terminal.onData((keys) => mine.type(new TextEncoder().encode(keys)));
    const binary = terminal.onBinary((keys) => mine.type(Uint8Array.from(keys, (one) => one.charCodeAt(0))));
    terminal.focus();
    return () => {
      typed.dispose();
      binary.dispose();
      mine.leave();
      terminal.dispose();
    };
  }, [name]);

  const types = there?.["you-type"] === true;
  const others = (there?.viewers ?? 1) - 1;
  return (
    <section aria-label="Terminal">
      <Group gap="xs" mb="xs">
        <span role="status" className={said ? "attention" : "quiet"}>
          {said ??
            (types
              ? "You type."
              : there?.["typed-by"]
                ? `${there["typed-by"]} types; you see it.`
                : "Nobody types; you see it.")}
          {!said && others > 0 && ` ${others} more see it.`}
        </span>
        {!types && (
          <Button size="compact-sm" variant="default" onClick={() => joined.current?.takeOver()}>
            Type here
          </Button>
        )}
        {types && (
          <Button size="compact-sm" variant="default" onClick={() => joined.current?.letGo()}>
            Only see
          </Button>
        )}
        <Button size="compact-sm" variant="default" onClick={onLeave}>
          Leave
        </Button>
      </Group>
      <div className="terminal-screen" ref={place} />
    </section>
  );
}
