import { Button, Checkbox, Chip, Group, NativeSelect, TextInput } from "@mantine/core";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { memo, useCallback, useMemo, useState } from "react";
import type { ServiceView } from "../api/client";
import { download } from "../app/save";
import { Since } from "../live/clock";
import { useServices } from "../live/live";
import { isShown, type Narrowing, type Sort, sorts } from "./narrowing";
import { needsAttention, StateMark } from "./StateMark";
import { Together } from "./Together";
import { percent, size, type Usage, useUsage } from "./usage";
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

/** What it is sorted by: figures from the largest on, what has none last. */
const figures: Partial<Record<Sort, (service: ServiceView, usage: Usage | undefined) => number | undefined>> = {
  up: (service) => (service["up-since"] ? -Date.parse(service["up-since"]) : undefined),
  memory: (_, usage) => usage?.["memory-bytes"] ?? undefined,
  processor: (_, usage) => usage?.["cpu-percent"] ?? undefined,
  restarts: (service) => Number(service.restarts),
};

function sorted(services: readonly ServiceView[], by: Sort, usage: ReadonlyMap<string, Usage>): ServiceView[] {
  const figure = figures[by];
  if (figure) {
    const of = (service: ServiceView) => figure(service, usage.get(service.name)) ?? Number.NEGATIVE_INFINITY;
    return [...services].sort((a, b) => of(b) - of(a));
  }
  return by === "state" ? [...services].sort((a, b) => a.state.localeCompare(b.state)) : [...services];
}

/** All services, grouped by whether they need attention, or those that are looked for. */
export function ServicesPage() {
  const { services: all, loaded } = useServices();
  const usage = useUsage();
  const shownBy: Narrowing = useSearch({ from: "/" });
  const navigate = useNavigate({ from: "/" });
  const [marked, setMarked] = useState<ReadonlySet<string>>(new Set());
  const narrow = (by: Narrowing) =>
    void navigate({
      search: (was) =>
        Object.fromEntries(
          Object.entries({ ...was, ...by }).filter(([, value]) => value !== "" && value !== undefined),
        ),
      replace: true,
    });
  const mark = useCallback(
    (name: string, is: boolean) =>
      setMarked((was) => new Set(is ? [...was, name] : [...was].filter((one) => one !== name))),
    [],
  );
  const labels = useMemo(() => [...new Set(all.flatMap((service) => service.labels))].sort(), [all]);
  const accounts = useMemo(() => [...new Set(all.map((service) => service.account))].sort(), [all]);
  if (!loaded) return <p className="quiet">Asking the sentry…</p>;
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
  const services = all.filter((service) => isShown(service, shownBy));
  const asking = services.filter(needsAttention).length;
  const narrowed = services.length < all.length;
  const firstShown = groups.find((group) => services.some(group.has));
  const rows = (members: readonly ServiceView[]) =>
    members.map((service) => (
      <Row
        key={service.name}
        service={service}
        usage={usage.get(service.name)}
        marked={marked.has(service.name)}
        onMark={mark}
      />
    ));
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
        {services.length} {narrowed && `of ${all.length} `}services
        {shownBy.label !== undefined && ` labelled ${shownBy.label}`},{" "}
        {services.filter((service) => service.state === "running").length} of them running.
      </p>
      <search className="narrow">
        <TextInput
          size="xs"
          aria-label="Find a service"
          placeholder="name, account, command…"
          value={shownBy.find ?? ""}
          onChange={(event) => narrow({ find: event.currentTarget.value })}
        />
        <NativeSelect
          size="xs"
          aria-label="Only in a state"
          value={shownBy.state ?? ""}
          data={[
            { value: "", label: "in any state" },
            ...["running", "resting", "starting", "waiting", "stopping", "stopped", "held", "poor"],
          ]}
          onChange={(event) => narrow({ state: event.currentTarget.value })}
        />
        <NativeSelect
          size="xs"
          aria-label="Only of an account"
          value={shownBy.account ?? ""}
          data={[{ value: "", label: "of any account" }, ...accounts]}
          onChange={(event) => narrow({ account: event.currentTarget.value })}
        />
        <NativeSelect
          size="xs"
          aria-label="In which order"
          value={shownBy.sort ?? ""}
          data={[
            { value: "", label: "by what they ask of you" },
            ...Object.entries(sorts).map(([value, label]) => ({ value, label })),
          ]}
          onChange={(event) => narrow({ sort: (event.currentTarget.value || undefined) as never })}
        />
        <Checkbox
          size="xs"
          label="dense"
          checked={shownBy.dense === true}
          onChange={(event) => narrow({ dense: (event.currentTarget.checked || undefined) as never })}
        />
        <Button
          size="compact-sm"
          variant="default"
          onClick={() =>
            download("services.csv", [
              [
                "service",
                "title",
                "state",
                "health",
                "account",
                "up since",
                "memory bytes",
                "processor %",
                "restarts",
                "why",
              ],
              ...services.map((one) => [
                one.name,
                one.title,
                one.state,
                one.health,
                one.account,
                one["up-since"],
                usage.get(one.name)?.["memory-bytes"],
                usage.get(one.name)?.["cpu-percent"],
                one.restarts,
                one.why,
              ]),
            ])
          }
        >
          Download as CSV
        </Button>
        {labels.length > 0 && (
          <Chip.Group value={shownBy.label ?? ""} onChange={(value) => narrow({ label: String(value) })}>
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
      </search>
      {marked.size > 0 && (
        <Together
          names={all.filter((one) => marked.has(one.name)).map((one) => one.name)}
          onDone={() => setMarked(new Set())}
        />
      )}
      {services.length === 0 && (
        <p>
          No service is so.{" "}
          <Button size="compact-sm" variant="default" onClick={() => void navigate({ search: {}, replace: true })}>
            Show all
          </Button>
        </p>
      )}
      {shownBy.sort ? (
        <section aria-label={`Services ${sorts[shownBy.sort]}`}>
          <h2>Services {sorts[shownBy.sort]}</h2>
          <div className={shownBy.dense ? "sheet rows dense" : "sheet rows"}>
            <Heads />
            {rows(sorted(services, shownBy.sort, usage))}
          </div>
        </section>
      ) : (
        groups.map((group) => {
          const members = services.filter(group.has);
          if (members.length === 0) return null;
          return (
            <section key={group.title} aria-label={group.title}>
              <h2>{group.title}</h2>
              <div className={shownBy.dense ? "sheet rows dense" : "sheet rows"}>
                {group === firstShown && <Heads />}
                {rows(members)}
              </div>
            </section>
          );
        })
      )}
    </>
  );
}

const Heads = () => (
  <div className="row heads">
    <span />
    <span>Service</span>
    <span>State</span>
    <span>Why</span>
    <span className="right">Up</span>
    <span className="right">Memory</span>
    <span className="right">Processor</span>
    <span className="right">Restarts</span>
  </div>
);

type RowProps = {
  service: ServiceView;
  usage: Usage | undefined;
  marked: boolean;
  onMark: (name: string, is: boolean) => void;
};

/** Of a thousand only those are drawn again that changed. */
const Row = memo(function Row({ service, usage, marked, onMark }: RowProps) {
  return (
    <div className="row service" data-service={service.name}>
      <Checkbox
        size="xs"
        aria-label={`Mark ${service.title}`}
        checked={marked}
        onChange={(event) => onMark(service.name, event.currentTarget.checked)}
      />
      <Link className="opens-row" to="/services/$name" params={{ name: service.name }}>
        <bdi>{service.title}</bdi>
      </Link>
      <StateMark service={service} />
      <span className="why-text">{service.why}</span>
      <span className="right">
        <Since time={service["up-since"]} />
      </span>
      <span className="right figure">{size(usage?.["memory-bytes"])}</span>
      <span className="right figure">{percent(usage?.["cpu-percent"])}</span>
      <span className="right number">{service.restarts}</span>
    </div>
  );
});
