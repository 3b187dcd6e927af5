import { Button } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { api, type CheckView, type FindingView, take } from "../api/client";
import { Wrong } from "../app/Trouble";
import { Typed } from "../app/Typed";

type Marks = Record<FindingView["severity"], string>;

const marks = { blocks: "▲", risk: "△", note: "○" } satisfies Marks;
const words = { blocks: "in its way", risk: "a risk", note: "to know" } satisfies Marks;

/** What a check saw: how bad, what, why it matters, what to do. What a button can do, a button does. */
export function Findings(props: {
  check: CheckView;
  account: string;
  onAccept?: (code: string) => void;
  onChanged: () => void;
}) {
  return (
    <ul className="findings">
      {props.check.findings.map((finding) => (
        <Finding key={finding.code + finding.seen} finding={finding} {...props} />
      ))}
    </ul>
  );
}

/** What a button can do about a finding. */
const mends: Partial<Record<FindingView["code"], string>> = {
  "account-missing": "Make the account",
  "account-not-permitted": "Permit it",
};

function Finding({
  finding,
  account,
  onAccept,
  onChanged,
}: {
  finding: FindingView;
  account: string;
  onAccept?: (code: string) => void;
  onChanged: () => void;
}) {
  const blocks = finding.severity === "blocks" && !finding.accepted;
  const mend = useMutation({
    mutationFn: () => {
      const path = { params: { path: { name: account } } };
      return take(
        finding.code === "account-missing"
          ? api.POST("/api/accounts/{name}", path)
          : api.POST("/api/accounts/{name}/permit", path),
      );
    },
    onSuccess: onChanged,
  });
  const button = mends[finding.code];
  return (
    <li className={blocks ? "attention" : undefined}>
      <strong>
        {finding.accepted ? "✓ accepted" : `${marks[finding.severity]} ${words[finding.severity]}`}
        {finding["only-now"] && !finding.accepted ? ", now" : ""}
      </strong>{" "}
      <code>{finding.code}</code>
      <p>{finding.seen}</p>
      <p className="quiet">{finding.why}</p>
      <p className="mend">
        <Typed words={finding.mend.split(" ")} />
      </p>
      {button && account !== "" && (
        <Button size="compact-sm" variant="default" loading={mend.isPending} onClick={() => mend.mutate()}>
          {button}
        </Button>
      )}
      <Wrong error={mend.error} />
      {finding["may-be-accepted"] && !finding.accepted && onAccept && (
        <Button size="compact-sm" variant="subtle" onClick={() => onAccept(finding.code)}>
          Accept it all the same
        </Button>
      )}
    </li>
  );
}
