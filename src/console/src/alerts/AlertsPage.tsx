import { Button, Group, TextInput } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { type AlertView, api, type MessageView, take } from "../api/client";
import { Trouble } from "../app/Trouble";
import { at } from "../live/clock";
import { onAlert, useLine } from "../live/live";
import { Recipients } from "./Recipients";
import "./alerts.css";

const most = 50;

const isOpen = (alert: AlertView) => alert.over == null && alert["part-of"] == null;

/** What needs, or needed, somebody: one cause each, who was told of it, and who looks at it. */
export function AlertsPage({ number }: { number?: number }) {
  const live = useLine().state === "live";
  const alerts = useQuery({
    queryKey: ["alerts"],
    queryFn: () => take(api.GET("/api/alerts", { params: { query: { last: most } } })),
    enabled: live,
    refetchOnMount: "always",
  });
  const messages = useQuery({
    queryKey: ["messages"],
    queryFn: () => take(api.GET("/api/messages", { params: { query: { last: most } } })),
    enabled: live,
    refetchOnMount: "always",
    refetchInterval: 5_000,
  });
  useEffect(
    () =>
      onAlert(() => {
        void alerts.refetch();
        void messages.refetch();
      }),
    [alerts.refetch, messages.refetch],
  );
  const all = alerts.data ?? [];
  const [open, past] = [all.filter(isOpen), all.filter((alert) => !isOpen(alert))];
  return (
    <>
      <h1>Alerts</h1>
      <Trouble of={alerts} />
      {alerts.data && open.length === 0 && <p className="quiet">No alert goes on.</p>}
      {open.map((alert) => (
        <Alert key={alert.number} alert={alert} live={live} expanded={alert.number === number || open.length === 1} />
      ))}
      <Recipients live={live} />
      {past.length > 0 && (
        <>
          <h2>Over</h2>
          {past.map((alert) => (
            <Alert key={alert.number} alert={alert} live={live} expanded={alert.number === number} />
          ))}
        </>
      )}
      <h2>Messages</h2>
      {messages.data?.length === 0 && <p className="quiet">No message was sent.</p>}
      {messages.data && messages.data.length > 0 && <Messages all={messages.data} />}
    </>
  );
}

function Alert({ alert, live, expanded }: { alert: AlertView; live: boolean; expanded: boolean }) {
  const [note, setNote] = useState("");
  // It stays as somebody left it, whatever else comes.
  const [shown, setShown] = useState(expanded);
  const params = { path: { number: alert.number } };
  const taken = useMutation({
    mutationFn: (what: "looks" | "closes" | { until: string }) =>
      take(
        what === "closes"
          ? api.POST("/api/alerts/{number}/close", { params })
          : api.POST("/api/alerts/{number}/acknowledge", {
              params,
              body: { note: note.trim() || null, until: what === "looks" ? null : what.until },
            }),
      ),
  });
  const open = isOpen(alert);
  const urgent = open && alert.urgency === "urgent" && (!alert.lasts || alert["well-since"] == null);
  const heard = alert.heard.map((one) => one.recipient).join(", ");
  return (
    <details className="sheet alert" open={shown} onToggle={(event) => setShown(event.currentTarget.open)}>
      <summary>
        <span className={urgent && alert["taken-by"] == null ? "attention" : ""}>
          {urgent ? "▲ " : ""}
          {alert.subject}
        </span>
        <span className="quiet">
          {alert.number} · since {at(alert.began)} · {how(alert)}
          {alert["taken-by"] ? ` · ${alert["taken-by"]} looks at it` : ""}
        </span>
      </summary>
      <div className="alert-inside">
        <p className="quiet">
          {heard ? `Told: ${heard}.` : "Nobody was told."}
          {alert["taken-by"] && alert["taken-at"]
            ? ` ${alert["taken-by"]} looks at it since ${at(alert["taken-at"])}${alert["taken-until"] ? `, put aside until ${at(alert["taken-until"])}` : ""}${alert["taken-note"] ? `: ${alert["taken-note"]}` : ""}.`
            : ""}
          {alert.returns > 0 ? ` It came back ${alert.returns} times within a day.` : ""}
        </p>
        <ul>
          {alert.affected.slice(0, 50).map((one) => (
            <li key={one.service ?? one.title}>
              {one.service ? (
                <Link to="/services/$name" params={{ name: one.service }}>
                  {one.title}
                </Link>
              ) : (
                one.title
              )}
              {": "}
              {one.what ?? one.topic}
              {one.times > 1 ? ` (${one.times} times)` : ""}
              {one.well && open && alert.lasts ? " It is well now." : ""}
            </li>
          ))}
        </ul>
        {alert.affected.length + alert.more > 50 && (
          <p className="quiet">and {alert.affected.length + alert.more - 50} more</p>
        )}
        {open && (
          <Group gap="xs" align="end">
            <TextInput
              size="xs"
              w={320}
              label="What others should know"
              value={note}
              maxLength={500}
              onChange={(event) => setNote(event.currentTarget.value)}
            />
            <Button size="xs" disabled={!live || taken.isPending} onClick={() => taken.mutate("looks")}>
              {alert["taken-by"] ? "I look at it instead" : "I look at it"}
            </Button>
            {aside.map(({ label, until }) => (
              <Button
                key={until}
                size="xs"
                variant="default"
                disabled={!live || taken.isPending}
                onClick={() => taken.mutate({ until })}
              >
                {label}
              </Button>
            ))}
            {alert["may-be-closed"] && (
              <Button
                size="xs"
                variant="default"
                disabled={!live || taken.isPending}
                onClick={() => taken.mutate("closes")}
              >
                It is done with
              </Button>
            )}
          </Group>
        )}
        <p role="status" className={taken.error ? "attention" : "quiet"}>
          {taken.error ? `▲ ${taken.error.message}` : taken.data?.said}
        </p>
      </div>
    </details>
  );
}

/** Until when an alert can be put aside with one click. */
const aside = [
  { label: "Not for two hours", until: "2h" },
  { label: "Not before 07:30", until: "07:30" },
];

function how(alert: AlertView) {
  if (alert["part-of"] != null) return `part of ${alert["part-of"]}`;
  if (alert.over != null) return `over at ${at(alert.over)}`;
  if (!alert.lasts) return "has happened";
  if (alert["well-since"] != null) return `well since ${at(alert["well-since"])}`;
  return alert.urgency === "urgent" ? "urgent" : "can wait";
}

function Messages({ all }: { all: MessageView[] }) {
  return (
    <div className="sheet rows message-rows">
      <div className="row heads">
        <span>Made</span>
        <span>To</span>
        <span>Message</span>
        <span>What became of it</span>
      </div>
      {all.map((one) => (
        <div className="row" key={one.number}>
          <span className="number">{at(one.at)}</span>
          <span>{one.recipient}</span>
          <details>
            <summary>{one.subject ?? "(cannot be read)"}</summary>
            <pre>{one.text}</pre>
          </details>
          <span className={one.state === "refused" || one.state === "dropped" ? "attention" : "quiet"}>
            {one.state === "refused" || one.state === "dropped" ? "▲ " : ""}
            {one.state}
            {one.state === "waiting" && one.tries > 0 ? `, ${one.tries} tries` : ""}
            {one.answer ? `: ${one.answer}` : ""}
          </span>
        </div>
      ))}
    </div>
  );
}
