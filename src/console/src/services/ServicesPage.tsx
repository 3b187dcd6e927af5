import { Chip, Group } from "@mantine/core";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { ServiceView } from "../api/client";
import { Since } from "../live/clock";
import { useServices } from "../live/live";
import { needsAttention, StateMark } from "./StateMark";
import "./services.css";

const isOnItsWay = ({ state }: ServiceView) => state === "waiting" || state === "starting" || state === "stopping";

const asks = (service: ServiceView) => service.asks != null && !needsAttention(service);

const groups: { title: string; has: (service: ServiceView) => boolean }[] = [
  { title: "Needs attention", has: needsAttention },
  { title: "Probably asks somebody", has: asks },
  {
    title: "On its way",
    has: (service) => isOnItsWay(service) && !needsAttention(service) && !asks(service),
  },
  {
    title: "Running",
    has: (service) =>
      (service.state === "running" || service.state === "resting") && !needsAttention(service) && !asks(service),
  },
  { title: "Not running", has: (service) => service.state === "stopped" && !needsAttention(service) },
];

/** All services, grouped by whether they need attention. */
export function ServicesPage() {
  const { services: all, loaded } = useServices();
  const [label, setLabel] = useState<string | null>(null);
  const labels = [...new Set(all.flatMap((service) => service.labels))].sort();
  // The last service with a label may have gone meanwhile.
  const shown = label !== null && labels.includes(label) ? label : null;
  const services = shown === null ? all : all.filter((service) => service.labels.includes(shown));
  if (!loaded) return <p className="quiet">Loading…</p>;
  if (all.length === 0)
    return (
      <>
        <h1>No services yet</h1>
        <p>
          <Link to="/wrap">Wrap a program</Link> you start by hand today, or type <code>calm wrap NAME -- PROGRAM</code>{" "}
          on the host.
        </p>
      </>
    );
  const asking = services.filter(needsAttention).length;
  return (
    <>
      <h1>
        {asking === 0
          ? "No service needs attention"
          : asking === 1
            ? "One service needs attention"
            : `${asking} services need attention`}
      </h1>
      <p className="quiet">
        {services.length} services{shown !== null && ` labelled ${shown}`},{" "}
        {services.filter((service) => service.state === "running").length} of them running.
      </p>
      {labels.length > 0 && (
        <Chip.Group value={shown ?? ""} onChange={(value) => setLabel(value === "" ? null : String(value))}>
          <Group gap="xs" aria-label="Only services with a label" role="group">
            <Chip size="xs" value="">
              all
            </Chip>
            {labels.map((one) => (
              <Chip key={one} size="xs" value={one}>
                {one}
              </Chip>
            ))}
          </Group>
        </Chip.Group>
      )}
      {groups.map((group) => {
        const members = services.filter(group.has);
        if (members.length === 0) return null;
        return (
          <section key={group.title} aria-label={group.title}>
            <h2>{group.title}</h2>
            <div className="sheet rows">
              <div className="row heads">
                <span>Service</span>
                <span>State</span>
                <span>Why</span>
                <span>Starts</span>
                <span className="right">Up</span>
                <span className="right">Restarts</span>
              </div>
              {members.map((service) => (
                <Row key={service.name} service={service} />
              ))}
            </div>
          </section>
        );
      })}
    </>
  );
}

function Row({ service }: { service: ServiceView }) {
  return (
    <Link className="row" to="/services/$name" params={{ name: service.name }} data-service={service.name}>
      <strong>{service.title}</strong>
      <StateMark service={service} />
      <span>{service.why}</span>
      <span>{service.at}</span>
      <span className="right">
        <Since time={service["up-since"]} />
      </span>
      <span className="right number">{service.restarts}</span>
    </Link>
  );
}
