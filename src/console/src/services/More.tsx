import { Button, Menu } from "@mantine/core";
import type { ServiceView } from "../api/client";

/** What is asked for now and then, of a service; each is one call that says what came of it. */
export type Rare = {
  what: "quiet" | "watches" | "skip" | "advance";
  for?: string;
};

const lengths = ["30 min", "4 h", "1 d"];

export function More(props: { service: ServiceView; busy: boolean; onAsk: (rare: Rare) => void }) {
  const { service, busy, onAsk } = props;
  return (
    <Menu position="bottom-end" withinPortal={false} withInitialFocusPlaceholder={false}>
      <Menu.Target>
        <Button variant="default" disabled={busy}>
          More…
        </Button>
      </Menu.Target>
      <Menu.Dropdown>
        <Menu.Label>Raise no alert of it</Menu.Label>
        {lengths.map((length) => (
          <Menu.Item key={length} onClick={() => onAsk({ what: "quiet", for: length })}>
            Keep quiet for {length}
          </Menu.Item>
        ))}
        {service["quiet-until"] && (
          <Menu.Item onClick={() => onAsk({ what: "quiet", for: "0" })}>Be told again now</Menu.Item>
        )}
        <Menu.Divider />
        <Menu.Label>Do nothing about what its watches find</Menu.Label>
        {service["watches-paused-until"] ? (
          <Menu.Item onClick={() => onAsk({ what: "watches", for: "0" })}>Act on them again now</Menu.Item>
        ) : (
          lengths.slice(0, 2).map((length) => (
            <Menu.Item key={length} onClick={() => onAsk({ what: "watches", for: length })}>
              Pause for {length}
            </Menu.Item>
          ))
        )}
        {service["next-moment"] && (
          <>
            <Menu.Divider />
            <Menu.Label>Its next planned moment</Menu.Label>
            <Menu.Item onClick={() => onAsk({ what: "skip" })}>Leave it out, this once</Menu.Item>
            <Menu.Item onClick={() => onAsk({ what: "advance" })}>Take it now</Menu.Item>
          </>
        )}
      </Menu.Dropdown>
    </Menu>
  );
}
