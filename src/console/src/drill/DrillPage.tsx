import { Button, Group, SegmentedControl } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, type BeginReport, type DrillPlan, take } from "../api/client";
import { asked } from "../api/lines";
import { Trouble, Wrong } from "../app/Trouble";
import { at } from "../live/clock";
import { onBegan, useLine } from "../live/live";
import { seconds, TimeLine } from "./TimeLine";
import "./drill.css";
import { counted } from "../app/counted";

const beat = 300;

/** How all services began, after a boot or in a drill; and a drill, which proves a reboot without one. */
export function DrillPage() {
  const live = useLine().state === "live";
  const latest = useQuery({
    queryKey: ["began"],
    queryFn: () => take(api.GET("/api/drills")),
    refetchInterval: (query) => (query.state.data?.some((one) => !one.done) ? beat : false),
  });
  useEffect(() => onBegan(() => void latest.refetch()), [latest.refetch]);
  const plan = useMutation({ mutationFn: () => take(api.GET("/api/drills/plan")) });
  const drill = useMutation({
    mutationFn: async () => {
      for await (const _ of asked("/api/drills")) void latest.refetch();
      await latest.refetch();
    },
    onMutate: () => setKind(undefined),
    onSettled: () => plan.reset(),
  });
  const [kind, setKind] = useState<string>();
  const report = latest.data?.find((one) => one.kind === kind) ?? latest.data?.[0];
  return (
    <>
      <h1>Begin and drill</h1>
      <p>A drill proves a reboot without one: all services are stopped in order and started again as a boot would.</p>
      {!plan.data && (
        <Button disabled={!live || drill.isPending} loading={plan.isPending} onClick={() => plan.mutate()}>
          Show what a drill would do
        </Button>
      )}
      {plan.data && (
        <Plan plan={plan.data} pending={drill.isPending} onGo={() => drill.mutate()} onLeave={() => plan.reset()} />
      )}
      <Wrong error={plan.error ?? drill.error} />
      <Trouble of={latest} />
      {latest.data && latest.data.length > 1 && (
        <SegmentedControl
          mt="md"
          size="xs"
          aria-label="Which report"
          data={latest.data.map((one) => ({ value: one.kind, label: kinds[one.kind] ?? one.kind }))}
          value={report?.kind ?? ""}
          onChange={setKind}
        />
      )}
      {latest.data?.length === 0 && <p className="quiet">No boot and no drill has been seen yet.</p>}
      {report && <Report report={report} />}
    </>
  );
}

function Plan({
  plan,
  pending,
  onGo,
  onLeave,
}: {
  plan: DrillPlan;
  pending: boolean;
  onGo: () => void;
  onLeave: () => void;
}) {
  return (
    <section className="sheet part" aria-label="What a drill would do">
      <p>{plan.said}</p>
      <div className="columns">
        <div>
          <h2>Interrupted, in this order</h2>
          <ol className="plan">
            {plan.stops.map((stop) => (
              <li key={stop.name}>
                {stop.name} <span className="quiet">{took(stop["usual-ms"], "down in")}</span>
              </li>
            ))}
          </ol>
        </div>
        <div>
          <h2>Begun, in this order</h2>
          <ol className="plan">
            {plan.begins.map((begin) => (
              <li key={begin.name}>
                {begin.name}{" "}
                <span className="quiet">
                  {took(begin["usual-ms"], "ready in")}
                  {begin.needs.length > 0 && `, after ${begin.needs.join(", ")}`}
                </span>
              </li>
            ))}
          </ol>
        </div>
      </div>
      <Group>
        <Button loading={pending} onClick={onGo}>
          Interrupt {counted(plan.stops.length, "service")} and drill now
        </Button>
        <Button variant="default" disabled={pending} onClick={onLeave}>
          Leave it
        </Button>
      </Group>
    </section>
  );
}

const took = (ms: number | null | undefined, how: string) =>
  ms == null ? "not known yet" : `usually ${how} ${ms < 100 ? `${Math.max(1, Math.round(ms))} ms` : seconds(ms)}`;

const kinds: Record<string, string> = { boot: "Boot", drill: "Drill", start: "Start after all had been stopped" };

function Report({ report }: { report: BeginReport }) {
  const different = report.services.filter((one) => one.differences.length > 0);
  return (
    <section aria-label="Latest report">
      <h2>
        {kinds[report.kind]} of {at(report.booted ?? report.began)}
        {report.by ? `, asked for by ${report.by}` : ""}
        {report.done ? "" : " — under way"}
      </h2>
      <p role="status" className={report.done && !report["came-true"] ? "attention" : undefined}>
        {report.done ? (report["came-true"] ? "✓ " : "▲ ") : ""}
        {report.said}{" "}
        {report["logged-in"].length === 0 ? "Nobody was logged in." : `Logged in: ${report["logged-in"].join(", ")}.`}
        {report.booted && ` Times are since the machine came up.`}
      </p>
      <TimeLine report={report} />
      {different.length > 0 && (
        <>
          <h2>Different from before</h2>
          <dl className="facts sheet">
            {different.map((one) => (
              <Different key={one.name} name={one.name} what={one.differences.join(" ")} />
            ))}
          </dl>
        </>
      )}
    </section>
  );
}

function Different({ name, what }: { name: string; what: string }) {
  return (
    <>
      <dt>{name}</dt>
      <dd>{what}</dd>
    </>
  );
}
