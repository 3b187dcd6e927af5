import { Link } from "@tanstack/react-router";
import type { ServiceView } from "../api/client";
import { Since } from "../live/clock";
import { useServices } from "../live/live";
import { asksForPerson, StateMark } from "./StateMark";

const groups: { title: string; has: (service: ServiceView) => boolean }[] = [
  { title: "Needs you", has: asksForPerson },
  {
    title: "On its way",
    has: (service) => ["waiting", "starting", "stopping"].includes(service.state) && !asksForPerson(service),
  },
  { title: "Running", has: (service) => ["running", "resting"].includes(service.state) && !asksForPerson(service) },
  { title: "Not running", has: (service) => service.state === "stopped" && !asksForPerson(service) },
];

/** All services, grouped by what they ask of you. */
export function ServicesPage() {
  const { services, loaded } = useServices();
  if (!loaded) return <p className="quiet">Asking the sentry…</p>;
  if (services.length === 0)
    return (
      <>
        <h1>No services yet</h1>
        <p>
          <Link to="/wrap">Wrap a program</Link> you start by hand today, or type <code>calm wrap NAME -- PROGRAM</code>{" "}
          on the host.
        </p>
      </>
    );
  const asking = services.filter(asksForPerson).length;
  return (
    <>
      <h1>{asking === 0 ? "All is well" : asking === 1 ? "One service needs you" : `${asking} services need you`}</h1>
      <p className="quiet">
        {services.length} services, {services.filter((service) => service.state === "running").length} of them running.
      </p>
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
                <span>Begins at</span>
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
