import type { ServiceDetail } from "../api/client";

/** Who the live run is and what it may use, as the kernel itself reports it. */
export function InForce({ detail }: { detail: ServiceDetail }) {
  const values = detail["in-force"];
  if (values.length === 0) return <p className="quiet">Nothing of it is running.</p>;
  return (
    <div className="sheet">
      <table className="plain">
        <thead>
          <tr>
            <th>Setting</th>
            <th>Set</th>
            <th>In force</th>
          </tr>
        </thead>
        <tbody>
          {values.map((value) => (
            <tr key={value.key} className={value.same ? undefined : "attention"}>
              <td>
                <code>{value.key}</code>
              </td>
              <td>{value.set ?? <span className="quiet">default</span>}</td>
              <td>
                {value.same ? "" : "▲ "}
                {value.kernel}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
