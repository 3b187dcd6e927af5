import { Button, Checkbox, TextInput } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  api,
  CallError,
  type FindingView,
  type ServiceView,
  type SwapEvent,
  type SwapPlan,
  take,
  type VersionsView,
} from "../api/client";
import { asked } from "../api/lines";
import { Wrong } from "../app/Trouble";
import { at, length } from "../live/clock";
import { useLine } from "../live/live";

type Order = { from?: string; over?: boolean; back?: number; accept?: string[] };
type Asked = { order: Order; dry: boolean };

const beat = 1000;

/** The versions of a program's files: what new ones would change, putting them in, and bringing one back. */
export function Files({ service }: { service: ServiceView }) {
  const name = service.name;
  const versions = useQuery({
    queryKey: ["versions", name, service.run],
    queryFn: () => take(api.GET("/api/services/{name}/versions", { params: { path: { name } } })),
    refetchInterval: (query) => (query.state.data?.["under-way"] ? beat : false),
  });
  const [from, setFrom] = useState("");
  const [over, setOver] = useState(false);
  const [doing, setDoing] = useState<string>();
  const [plan, setPlan] = useState<{ plan: SwapPlan; order: Order }>();
  const live = useLine().state === "live";
  const swap = useMutation({
    mutationFn: async ({ order, dry }: Asked) => {
      setPlan(undefined);
      let said: string | undefined;
      let came = false;
      const events = asked<SwapEvent>(`/api/services/${encodeURIComponent(name)}/swap${dry ? "?dry=true" : ""}`, order);
      for await (const event of events) {
        if (event.text) setDoing(event.text);
        if (event.plan && dry) setPlan({ plan: event.plan, order });
        if (event.refused) throw new CallError(event.refused);
        if (event.answer) [said, came] = [event.answer.said, event.answer["came-true"]];
      }
      return {
        said: dry ? undefined : (said ?? "The sentry ended before it was done: the next one goes on with it."),
        came,
      };
    },
    onSettled: () => {
      setDoing(undefined);
      void versions.refetch();
    },
  });
  const view = versions.data;
  const underWay = doing ?? view?.["under-way"];
  const busy = swap.isPending || !live || view?.["under-way"] != null;
  return (
    <div className="sheet side files">
      {view?.directory == null ? (
        <p className="quiet">
          {view && (
            <>
              Which directory holds its files cannot be told: <code>calm adjust {name} --files-directory PATH</code>
            </>
          )}
        </p>
      ) : (
        <form
          className="bar"
          style={{ alignItems: "end" }}
          onSubmit={(event) => {
            event.preventDefault();
            swap.mutate({ order: { from, over }, dry: true });
          }}
        >
          <TextInput
            style={{ flex: 1 }}
            label={`New files for ${view.directory}`}
            description="A directory or an archive (tar, tar.gz, zip) on this host"
            placeholder="/root/board-2.1.tar.gz"
            value={from}
            onChange={(event) => setFrom(event.currentTarget.value)}
          />
          <Checkbox
            label="Keep files they do not replace"
            checked={over}
            onChange={(event) => setOver(event.currentTarget.checked)}
          />
          <Button type="submit" variant="default" disabled={from === "" || busy}>
            Look at them
          </Button>
        </form>
      )}
      {underWay && <p role="status">… {underWay}</p>}
      <Wrong error={swap.error} />
      {swap.data?.said && (
        <p role="status" className={swap.data.came ? undefined : "attention"} style={{ whiteSpace: "pre-line" }}>
          {swap.data.came ? "" : "▲ "}
          {swap.data.said}
        </p>
      )}
      {plan && (
        <Plan
          plan={plan.plan}
          busy={busy}
          onGo={(accept) => swap.mutate({ order: { ...plan.order, accept }, dry: false })}
          onLeave={() => setPlan(undefined)}
        />
      )}
      {view && view.versions.length > 0 && (
        <Versions view={view} busy={busy} onBack={(back) => swap.mutate({ order: { back }, dry: true })} />
      )}
    </div>
  );
}

function Plan({
  plan,
  busy,
  onGo,
  onLeave,
}: {
  plan: SwapPlan;
  busy: boolean;
  onGo: (accept: string[]) => void;
  onLeave: () => void;
}) {
  const blocking = plan.findings.filter((finding: FindingView) => finding.severity === "blocks" && !finding.accepted);
  const acceptable = blocking.every((finding) => finding.code === "data-left-behind");
  const rows: [string, { count: number | string; paths: readonly string[] }][] = [
    ["Changed", plan.changed],
    ["New", plan.added],
    ["Gone", plan.gone],
  ];
  return (
    <section aria-label="What new files would change">
      <h3>
        Version {plan.version}, from {plan.source}
        {plan["source-owner"] && ` (${plan["source-owner"]}'s)`}
      </h3>
      <dl className="facts">
        {rows
          .filter(([, files]) => Number(files.count) > 0)
          .map(([what, files]) => (
            <div key={what} style={{ display: "contents" }}>
              <dt>{what}</dt>
              <dd>
                {files.count}: <code>{files.paths.slice(0, 12).join(", ")}</code>
                {files.paths.length > 12 && " …"}
              </dd>
            </div>
          ))}
        <dt>The same</dt>
        <dd>{plan.same}</dd>
        {plan.data.length > 0 && (
          <>
            <dt>Data</dt>
            <dd>
              <code>{plan.data.join(", ")}</code> stays as it is
            </dd>
          </>
        )}
        {Number(plan["given-up"].count) > 0 && (
          <>
            <dt>Given up</dt>
            <dd>
              {plan["given-up"].count}: {plan["given-up"].paths.slice(0, 12).join(", ")} (others than root can write
              there)
            </dd>
          </>
        )}
        {plan["earlier-place"] && (
          <>
            <dt>Left over</dt>
            <dd>
              <code>{plan["earlier-place"]}</code>: from an earlier sentry, known to no service; look at it, then remove
              it
            </dd>
          </>
        )}
        {plan["used-by"].map((user) => (
          <div key={user} style={{ display: "contents" }}>
            <dt>Also used by</dt>
            <dd>{user}</dd>
          </div>
        ))}
        <dt>Interrupted</dt>
        <dd>{plan.interrupts}</dd>
        <dt>Watched for</dt>
        <dd>
          {length(Number(plan["watch-ms"]))}; if it does not stay well, version {plan.before} comes back
        </dd>
      </dl>
      {blocking.map((finding) => (
        <p key={finding.code + finding.seen} className="attention">
          ▲ {finding.seen} {finding.why}
        </p>
      ))}
      <div className="bar">
        <Button disabled={busy || !acceptable} onClick={() => onGo(blocking.map((finding) => finding.code))}>
          {blocking.length > 0 && acceptable ? "Put them in without those files" : "Put them in"}
        </Button>
        <Button variant="default" onClick={onLeave}>
          Leave it
        </Button>
      </div>
    </section>
  );
}

function Versions({ view, busy, onBack }: { view: VersionsView; busy: boolean; onBack: (back: number) => void }) {
  return (
    <table className="plain">
      <thead>
        <tr>
          {["Version", "Put in", "By", "Runs", "From", ""].map((head) => (
            <th key={head}>{head}</th>
          ))}
        </tr>
      </thead>
      <tbody>
        {view.versions.map((version) => (
          <tr key={version.number} className={version.failed ? "bad" : undefined}>
            <td className="number">{version.number}</td>
            <td className="number">{version.at ? at(version.at) : "–"}</td>
            <td>{version.by ?? "–"}</td>
            <td className="number">{version.runs}</td>
            <td>
              <code>{version.source ?? "it was there"}</code>
            </td>
            <td>
              {version.present ? (
                "in place"
              ) : version.failed ? (
                `did not stay: ${version.failed}`
              ) : version.kept ? (
                <Button
                  size="compact-xs"
                  variant="default"
                  disabled={busy}
                  onClick={() => onBack(Number(version.number))}
                >
                  Bring it back…
                </Button>
              ) : (
                "let go"
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
