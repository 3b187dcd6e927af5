import { Button } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type RecipientView, type TrialEvent, take } from "../api/client";
import { asked } from "../api/lines";
import { Wrong } from "../app/Trouble";
import { at } from "../live/clock";

/** Who is told of what, and whether it gets there; a trial shows all that goes to and fro. */
export function Recipients({ live }: { live: boolean }) {
  const all = useQuery({
    queryKey: ["recipients"],
    queryFn: () => take(api.GET("/api/recipients")),
    enabled: live,
    refetchInterval: 5_000,
  });
  return (
    <>
      <h2>Who is told</h2>
      {all.data?.length === 0 && (
        <p>
          Nobody: no recipient is set. Recipients stand in the sentry's settings, under <code>tell</code>.
        </p>
      )}
      {all.data && all.data.length > 0 && (
        <div className="sheet rows recipient-rows">
          {all.data.map((one) => (
            <Recipient key={one.name} one={one} live={live} />
          ))}
        </div>
      )}
      {all.data && all.data.length > 0 && <Replay live={live} names={all.data.map((one) => one.name)} />}
    </>
  );
}

/** The recipients there are now, tried on what the logbook has of the past week: nothing is sent. */
function Replay({ live, names }: { live: boolean; names: string[] }) {
  const replay = useMutation({
    mutationFn: () => take(api.GET("/api/recipients/replay", { params: { query: { for: "7 d" } } })),
  });
  const told = replay.data;
  return (
    <>
      <p>
        <Button
          size="compact-xs"
          variant="default"
          disabled={!live || replay.isPending}
          onClick={() => replay.mutate()}
        >
          Who would have been told what of the past week?
        </Button>
      </p>
      <Wrong error={replay.error} />
      {told && (
        <section aria-label="Who would have been told what">
          <p role="status">
            {told.length === 0
              ? "Nobody would have been told anything: nothing needed a person."
              : `${names.map((name) => `${name}: ${told.filter((one) => one.recipient === name).length}`).join(", ")} (messages of the past week${told.length >= most ? `, the first ${most}` : ""}, by the recipients there are now; nothing was sent).`}
          </p>
          {told.length > 0 && (
            <div className="sheet rows replay-rows">
              <div className="row heads">
                <span>At</span>
                <span>Who</span>
                <span>Message</span>
              </div>
              {told.slice(-shown).map((one) => (
                <div className="row" key={`${one.at} ${one.recipient} ${one.subject}`}>
                  <span className="number">{at(one.at)}</span>
                  <span>{one.recipient}</span>
                  <span>{one.subject}</span>
                </div>
              ))}
            </div>
          )}
          {told.length > shown && (
            <p className="quiet">
              The last {shown} of {told.length}; all of them: <code>calm tell --replay 7d</code>
            </p>
          )}
        </section>
      )}
    </>
  );
}

/** The call gives so many; a page shows the last of them. */
const most = 1000;
const shown = 100;

function Recipient({ one, live }: { one: RecipientView; live: boolean }) {
  const [lines, setLines] = useState<string[]>([]);
  const trial = useMutation({
    mutationFn: async () => {
      setLines([]);
      let end: TrialEvent | undefined;
      for await (const event of asked<TrialEvent>(`/api/recipients/${encodeURIComponent(one.name)}/trial`)) {
        const { line } = event;
        if (line != null) setLines((before) => [...before, line]);
        else end = event;
      }
      return end;
    },
  });
  return (
    <div className="row">
      <strong>{one.name}</strong>
      <span>
        {one.said}.
        {one.trouble ? (
          <span className="attention wide"> ▲ {one.trouble}</span>
        ) : (
          <span className="quiet">
            {one.last ? ` Last delivered at ${at(one.last)}.` : ""}
            {one.waiting > 0 ? ` ${one.waiting} wait.` : ""}
          </span>
        )}
      </span>
      <Button
        size="compact-xs"
        variant="default"
        disabled={!live || trial.isPending}
        aria-label={`Try ${one.name}`}
        onClick={() => trial.mutate()}
      >
        Try it
      </Button>
      {(trial.isPending || trial.data || trial.error) && (
        <div className="wide" role="status">
          <pre>{lines.join("\n")}</pre>
          <p className={trial.error || trial.data?.["came-true"] === false ? "attention" : "quiet"}>
            {trial.isPending
              ? "Sending…"
              : trial.error
                ? `▲ ${trial.error.message}`
                : `${trial.data?.["came-true"] ? "" : "▲ "}${trial.data?.said ?? ""}`}
          </p>
        </div>
      )}
    </div>
  );
}
