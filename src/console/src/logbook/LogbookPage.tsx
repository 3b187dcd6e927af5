import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, type LogEntry, take } from "../api/client";
import { at } from "../live/clock";
import { onLogged } from "../live/live";

const shown = 200;
const key = ["logbook"];

/** What the sentry saw and did, and who asked; new entries come in on top. */
export function LogbookPage() {
  const queries = useQueryClient();
  const log = useQuery({
    queryKey: key,
    queryFn: () => take(api.GET("/api/logbook", { params: { query: { last: shown } } })),
    refetchOnMount: "always",
  });
  useEffect(
    () =>
      onLogged((entry) =>
        queries.setQueryData<LogEntry[]>(
          key,
          (known) => known && [...known.filter((old) => old.id !== entry.id), entry].slice(-shown),
        ),
      ),
    [queries],
  );
  return (
    <>
      <h1>Logbook</h1>
      <LogTable entries={log.data ?? []} withService />
    </>
  );
}

export function LogTable({ entries, withService }: { entries: readonly LogEntry[]; withService?: boolean }) {
  return (
    <div className="sheet">
      <table className="plain">
        <thead>
          <tr>
            <th>When</th>
            {withService && <th>Service</th>}
            <th>What</th>
            <th>Asked by</th>
          </tr>
        </thead>
        <tbody>
          {entries.toReversed().map((entry) => (
            <tr key={entry.id}>
              <td className="number">{at(entry.at)}</td>
              {withService && <td>{entry.service ?? "(sentry)"}</td>}
              <td>{entry.text}</td>
              <td>{entry.by ?? "–"}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
