import type { CheckView } from "../api/client";
import type { Draft } from "./draft";
import { Findings } from "./Findings";

/** What the sentry finds about what stands in the form, beside it. */
export function Checked(props: {
  check: CheckView | undefined;
  fresh: boolean;
  draft: Draft;
  onAccept: (code: string) => void;
  onChanged: () => void;
}) {
  const { check, fresh, draft, onAccept, onChanged } = props;
  const account = String(draft["identity.account"] ?? "").trim();
  return (
    <>
      <h2>Checked while you type</h2>
      <div className="sheet side" aria-busy={!fresh}>
        {!check && <p className="quiet">Nothing to check yet: a name and a program are needed.</p>}
        {check && (
          <p role="status" className={check.clear ? undefined : "attention"}>
            {check.clear ? "✓" : "▲"} {check.said}
          </p>
        )}
        {check?.errors.map((error) => (
          <p key={error.text} className="attention">
            {error.text}
          </p>
        ))}
        {check && <Findings check={check} account={account} onAccept={onAccept} onChanged={onChanged} />}
      </div>
    </>
  );
}
