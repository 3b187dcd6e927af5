import { Button, Group, TextInput } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, CallError, take } from "../api/client";
import { Trouble } from "../app/Trouble";
import { at } from "../live/clock";

/** What led there, what happens next and what you could do, from the record; for now, or for a time in the past. */
export function Why({ name, turn }: { name: string; turn: string }) {
  const [wanted, setWanted] = useState("");
  const [asked, setAsked] = useState<string>();
  const why = useQuery({
    queryKey: ["why", name, asked ?? turn],
    queryFn: () =>
      take(
        api.GET("/api/services/{name}/why", {
          params: { path: { name }, query: asked ? { at: new Date(asked).toISOString() } : {} },
        }),
      ),
    placeholderData: keepPreviousData,
    // What the sentry refuses is said; that it cannot be reached is said above, and asked again.
    retry: (_, error) => !(error instanceof CallError),
  });
  const view = why.data;
  return (
    <div className="sheet why">
      <Trouble of={why} />
      {view && !why.isError && (
        <>
          {view.past && (
            <p>
              <strong>
                At {at(view.at)}: {view.state}, health {view.health}, since {at(view.since)}.
              </strong>{" "}
              {view.said}
            </p>
          )}
          <h3>What led there</h3>
          <ol className="steps">
            {view.because.map((step) => (
              <li key={`${step.at} ${step.text}`}>
                <time className="number">
                  {at(step.at)}
                  {step.until !== step.at && ` to ${at(step.until)}`}
                </time>
                <span>
                  {step.text}
                  {step.by && <span className="quiet"> ({step.by})</span>}
                </span>
              </li>
            ))}
          </ol>
          {view["last-failure"] && (
            <>
              <h3>
                Last lines before run {view["last-failure"].run} {view["last-failure"].words}, at{" "}
                {at(view["last-failure"].at)}
              </h3>
              <pre className="last-lines">{view["last-failure"]["last-lines"].join("\n") || "it printed nothing"}</pre>
            </>
          )}
          <h3>{view.past ? "What was to happen next" : "What happens next"}</h3>
          <ol className="steps">
            {view.next.map((next) => (
              <li key={next.text}>
                <time className="number">{next.at ? at(next.at) : ""}</time>
                <span>{next.text}</span>
              </li>
            ))}
          </ol>
          {view.could.length > 0 && (
            <>
              <h3>What you could do</h3>
              <ul className="could">
                {view.could.map((could) => (
                  <li key={could.command}>
                    {could.text}: <code>{could.command}</code>
                  </li>
                ))}
              </ul>
            </>
          )}
        </>
      )}
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (wanted) setAsked(wanted);
        }}
      >
        <Group gap="xs" align="end">
          <TextInput
            type="datetime-local"
            step={1}
            size="xs"
            label="Ask for another time"
            value={wanted}
            onChange={(event) => setWanted(event.currentTarget.value)}
          />
          <Button size="xs" variant="default" disabled={!wanted} type="submit">
            Ask
          </Button>
          {asked && (
            <Button size="xs" variant="subtle" onClick={() => setAsked(undefined)}>
              Back to now
            </Button>
          )}
        </Group>
      </form>
    </div>
  );
}
