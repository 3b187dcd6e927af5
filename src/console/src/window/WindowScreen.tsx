import { Button, Group, TextInput } from "@mantine/core";
import RFB from "@novnc/novnc";
import { useEffect, useRef, useState } from "react";
import { api, CallError, take } from "../api/client";
import "./window.css";

const beat = 1000;

/** Of what was copied there, in characters: a program may copy as much as it likes. */
const longestText = 65_536;

/** What somebody wants there: to act, to act although another does, or only to see. */
type Wish = "act" | "take" | "see";

/** A service's window, live, fitted to the page. Where the display or the sentry goes away, it comes back by itself. */
export default function WindowScreen({ name, onLeave }: { name: string; onLeave: () => void }) {
  const place = useRef<HTMLDivElement>(null);
  const screen = useRef<RFB>(null);
  // Whoever joins anew has left before: else it would be told of itself.
  const gone = useRef<Promise<unknown>>(Promise.resolve());
  const [wish, setWish] = useState<Wish>("act");
  const [acts, setActs] = useState(false);
  const [said, setSaid] = useState<string | null>("Joining…");
  const [text, setText] = useState("");

  useEffect(() => {
    const target = place.current;
    if (!target) return;
    let left = false;
    let takes = wish === "take"; // once: whoever takes over from it later keeps that
    let timer: ReturnType<typeof setTimeout> | undefined;
    const again = () => {
      if (!left) timer = setTimeout(join, beat);
    };
    const ticketFor = (watch: boolean) =>
      take(api.POST("/api/services/{name}/window", { params: { path: { name }, query: { watch } } }));

    async function join() {
      try {
        await gone.current;
        const ticket = await ticketFor(wish === "see").catch((error) => {
          // Whoever may only see sees it.
          if (error instanceof CallError && error.problem.status === 403) return ticketFor(true);
          throw error;
        });
        if (left || !target) return;
        const mine = ticket.acts && (takes || ticket["acted-by"] == null);
        const address = new URL(`/api/window?ticket=${ticket.ticket}${takes ? "&take=true" : ""}`, location.href);
        takes = false;
        address.protocol = address.protocol.replace("http", "ws");
        const display = new RFB(target, address.href, { shared: true });
        display.scaleViewport = true;
        display.background = "transparent";
        display.viewOnly = !mine;
        screen.current = display;
        setActs(mine);
        display.addEventListener("connect", () => {
          // Made smaller where the page is, and never larger than it is.
          const drawn = target.querySelector("canvas");
          target.style.maxWidth = drawn ? `${drawn.width}px` : "";
          target.style.aspectRatio = drawn ? `${drawn.width} / ${drawn.height}` : "";
          target.style.height = drawn ? "auto" : "";
          setSaid(mine ? null : (ticket["acted-by"] ?? null) && `${ticket["acted-by"]} acts there; you see it.`);
          if (mine) display.focus();
        });
        display.addEventListener("disconnect", () => {
          if (screen.current === display) screen.current = null;
          if (left) return;
          setSaid("Its display is away. This comes back by itself.");
          again();
        });
        display.addEventListener("clipboard", (event) =>
          setText((event as CustomEvent<{ text: string }>).detail.text.slice(0, longestText)),
        );
      } catch (error) {
        if (left) return;
        setSaid(error instanceof Error ? error.message : String(error));
        again();
      }
    }

    void join();
    return () => {
      left = true;
      clearTimeout(timer);
      const display = screen.current;
      screen.current = null;
      if (!display) return;
      gone.current = new Promise((resolve) => display.addEventListener("disconnect", resolve));
      display.disconnect();
    };
  }, [name, wish]);

  return (
    <section aria-label="Window">
      <Group gap="xs" mb="xs">
        <span role="status" className={said ? "attention" : "quiet"}>
          {said ?? (acts ? "Pointer and keys go to it." : "You see it.")}
        </span>
        {acts ? (
          <Button size="compact-sm" variant="default" onClick={() => setWish("see")}>
            Only see
          </Button>
        ) : (
          <Button size="compact-sm" variant="default" onClick={() => setWish("take")}>
            Act here
          </Button>
        )}
        <Button size="compact-sm" variant="default" onClick={onLeave}>
          Leave
        </Button>
      </Group>
      <div className="window-screen" ref={place} />
      {acts && (
        <Group gap="xs" mt="xs" align="end">
          <TextInput
            size="xs"
            flex={1}
            label="Its clipboard"
            description="What was copied there; what you put here can be pasted there."
            value={text}
            onChange={(event) => setText(event.currentTarget.value)}
          />
          <Button size="xs" variant="default" onClick={() => screen.current?.clipboardPasteFrom(text)}>
            Put there
          </Button>
        </Group>
      )}
    </section>
  );
}
