import { Button, Group, SegmentedControl, Select, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { api, type LogEntry, take } from "../api/client";
import { Trouble } from "../app/Trouble";
import { at } from "../live/clock";
import { onLogged, useServices } from "../live/live";

const shown = 200;

/** Of these what the run printed is what one wants to see next. */
const showsOutput = new Set(["fell", "ended", "main-ended", "not-proven", "unwell"]);

const kinds = {
  all: { label: "All", codes: [] },
  failed: {
    label: "What failed",
    codes: [
      "fell",
      "held",
      "lost",
      "never-launched",
      "not-proven",
      "need-missing",
      "unwell",
      "step-failed",
      "reload-failed",
      "trouble",
      "output-lost",
      "output-dropped",
      "disk-will-fill",
    ],
  },
  changed: {
    label: "What was changed",
    codes: [
      "wrapped",
      "adjusted",
      "renamed",
      "unwrapped",
      "secret-set",
      "secret-removed",
      "account-made",
      "account-removed",
      "account-permitted",
      "account-forbidden",
      "folder-granted",
      "folder-taken",
    ],
  },
  doors: {
    label: "Who came in",
    codes: ["signed-in", "signed-out", "sign-in-refused", "session-ended", "refused"],
  },
  noted: { label: "Programs' own", codes: ["noted"] },
} satisfies Record<string, { label: string; codes: string[] }>;

type Kind = keyof typeof kinds;

/** What the sentry saw and did, and who asked; new entries come in on top. */
export function LogbookPage() {
  const queries = useQueryClient();
  const { services } = useServices();
  const [kind, setKind] = useState<Kind>("all");
  const [service, setService] = useState<string | null>(null);
  const [by, setBy] = useState("");
  const [find, setFind] = useState("");
  const [severity, setSeverity] = useState<string | null>(null);
  const [last, setLast] = useState(shown);
  const [typed] = useDebouncedValue({ by: by.trim(), find: find.trim() }, 250);
  const query = {
    last,
    kind: kinds[kind].codes.join(",") || undefined,
    severity: severity ?? undefined,
    service: service ?? undefined,
    by: typed.by || undefined,
    find: typed.find || undefined,
  };
  const isNarrowed = Boolean(query.kind || query.severity || query.service || query.by || query.find);
  const key = ["logbook", query];
  const log = useQuery({
    queryKey: key,
    queryFn: () => take(api.GET("/api/logbook", { params: { query } })),
    refetchOnMount: "always",
    placeholderData: keepPreviousData,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: the key is made of what is listed
  useEffect(
    () =>
      onLogged((entry) => {
        // What fits is for the sentry to judge.
        if (isNarrowed) queries.invalidateQueries({ queryKey: key });
        else
          queries.setQueryData<LogEntry[]>(
            key,
            (known) => known && [...known.filter((old) => old.id !== entry.id), entry].slice(-last),
          );
      }),
    [queries, JSON.stringify(query)],
  );
  const entries = log.data ?? [];
  return (
    <>
      <h1>Logbook</h1>
      <Group gap="sm" align="end" mb="md">
        <SegmentedControl
          size="xs"
          aria-label="Which kinds"
          value={kind}
          onChange={(value) => setKind(value as Kind)}
          data={Object.entries(kinds).map(([value, { label }]) => ({ value, label }))}
        />
        <Select
          size="xs"
          w={120}
          placeholder="however bad"
          aria-label="As bad as this, or worse"
          clearable
          value={severity}
          onChange={setSeverity}
          data={["alert", "critical", "error", "warning", "notice"].map((value) => ({
            value,
            label: `${value}, worse`,
          }))}
        />
        <Select
          size="xs"
          w={150}
          placeholder="any service"
          aria-label="Service"
          clearable
          searchable
          value={service}
          onChange={setService}
          data={services.map((one) => one.name)}
        />
        <TextInput
          size="xs"
          w={110}
          placeholder="asked by"
          aria-label="Asked by"
          value={by}
          onChange={(event) => setBy(event.currentTarget.value)}
        />
        <TextInput
          size="xs"
          w={160}
          placeholder="find"
          aria-label="Find"
          value={find}
          onChange={(event) => setFind(event.currentTarget.value)}
        />
      </Group>
      <Group gap="sm" mb="sm">
        <Download query={query} />
        <Proof />
      </Group>
      <Trouble of={log} />
      {log.isSuccess && entries.length === 0 ? (
        <p className="quiet">{isNarrowed ? "Nothing in the logbook fits." : "Nothing in the logbook."}</p>
      ) : (
        <LogTable entries={entries} withService />
      )}
      {entries.length >= last && (
        <Button size="xs" variant="default" mt="sm" loading={log.isFetching} onClick={() => setLast(last * 4)}>
          Show older ones
        </Button>
      )}
    </>
  );
}

type Query = { kind?: string; severity?: string; service?: string; by?: string; find?: string };

/** What fits, as a file for a spreadsheet. */
function Download({ query }: { query: Query }) {
  const download = useMutation({
    mutationFn: async () => {
      const text = await take(
        api.GET("/api/logbook", {
          params: { query: { ...query, last: 100_000, form: "csv" } },
          parseAs: "text",
        }) as Promise<{ data?: string; error?: unknown; response: Response }>,
      );
      const address = URL.createObjectURL(new Blob([text], { type: "text/csv" }));
      const link = document.createElement("a");
      link.href = address;
      link.download = "logbook.csv";
      link.click();
      URL.revokeObjectURL(address);
    },
  });
  return (
    <Button
      size="xs"
      variant="default"
      loading={download.isPending}
      onClick={() => download.mutate()}
      title={download.error?.message}
    >
      {download.isError ? "▲ Not downloaded; again" : "Download as CSV"}
    </Button>
  );
}

/** Whether it is as it was written: its chain of hashes, followed from the first entry to the last. */
function Proof() {
  const prove = useMutation({ mutationFn: () => take(api.GET("/api/logbook/proof")) });
  const proof = prove.data;
  return (
    <>
      <Button size="xs" variant="default" loading={prove.isPending} onClick={() => prove.mutate()}>
        Prove it
      </Button>
      <span role="status" className={prove.isError || proof?.holds === false ? "attention" : "quiet"}>
        {prove.isError
          ? `▲ ${prove.error.message}`
          : proof === undefined
            ? "Is it as it was written? Each entry carries a hash of all before it."
            : proof.holds
              ? `It is as it was written: ${proof.entries.toLocaleString("en")} entries, up to number ${proof.last}, hash ${proof.head.slice(0, 16)}…`
              : `▲ It is not as it was written: ${proof.why}.`}
      </span>
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
              <td>
                {entry.text}
                {entry.service && entry.run && showsOutput.has(entry.code) && (
                  <>
                    {" "}
                    <Link
                      to="/services/$name/$section"
                      params={{ name: entry.service, section: "output" }}
                      search={{ run: entry.run }}
                      title={`What run ${entry.run} printed`}
                    >
                      its output
                    </Link>
                  </>
                )}
              </td>
              <td>
                {entry.by ?? "–"}
                {entry.from && <span className="quiet">, {entry.from}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
