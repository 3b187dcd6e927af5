import type { ServiceDetail } from "../api/client";
import { at } from "../live/clock";

const follows: Record<string, string> = {
  note: "it is noted",
  tell: "an alert is raised",
  restart: "it is stopped and restarted",
  "restart-by-force": "it is killed and restarted",
};

/** What is looked at while it runs, what was last seen, and what follows when it turns poor. */
export function Watches({ detail }: { detail: ServiceDetail }) {
  if (detail.watches.length === 0) return <p className="quiet">Nothing of its own runs that could be watched.</p>;
  return (
    <div className="sheet">
      {detail["watches-paused-until"] && (
        <p>
          Paused until {at(detail["watches-paused-until"])}: nothing is done about what they find.{" "}
          <code>calm watches {detail.name} --resume</code> ends that.
        </p>
      )}
      <table className="plain">
        <thead>
          <tr>
            {["So it must be", "Health", "Last seen", "If not"].map((head) => (
              <th key={head}>{head}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {detail.watches.map((watch) => (
            <tr key={watch.what}>
              <td>{watch.what}</td>
              <td className={watch.health === "poor" ? "attention" : undefined}>
                {watch.health === "poor" ? "▲ poor" : watch.health}
                {watch.since && <span className="quiet"> since {at(watch.since)}</span>}
                {watch.bad > 0 && watch.health !== "poor" && ` (${watch.bad} of ${watch.patience} bad looks)`}
              </td>
              <td>{watch.seen ?? "not looked at yet"}</td>
              <td>
                {follows[watch.follows]}
                {watch.implied && <span className="quiet"> (default)</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
