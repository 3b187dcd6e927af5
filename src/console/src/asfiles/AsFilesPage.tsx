import { Button, Checkbox, FileButton, Group } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type ComparisonView, type SettleEvent, type SettlementView, take } from "../api/client";
import { asked } from "../api/lines";
import { counted } from "../app/counted";
import { save } from "../app/save";
import { Trouble, Wrong } from "../app/Trouble";
import { at } from "../live/clock";
import { useLine } from "../live/live";

type Files = { files: Record<string, string>; directory: string };

const beat = 1000;

/** All services as files: taken along, compared with this machine, and the machine brought to them. */
export function AsFilesPage() {
  const live = useLine().state === "live";
  const client = useQueryClient();
  const [files, setFiles] = useState<Files>();
  const [takeAway, setTakeAway] = useState(false);
  const [doing, setDoing] = useState<string>();
  const latest = useQuery({
    queryKey: ["settlements"],
    queryFn: () => take(api.GET("/api/files/settlements")),
    refetchInterval: (query) => (query.state.data?.some((one) => !one.ended) ? beat : false),
  });
  const compare = useMutation({
    mutationFn: () => take(api.POST("/api/files/compare", { body: { files, "take-away": takeAway } as never })),
  });
  const settle = useMutation({
    mutationFn: async (back: boolean) => {
      const events = back
        ? asked<SettleEvent>("/api/files/settle/back")
        : asked<SettleEvent>("/api/files/settle", { files, seen: compare.data?.tag, "take-away": takeAway });
      for await (const event of events) if (event.text) setDoing(event.text);
    },
    onSettled: () => {
      setDoing(undefined);
      compare.reset();
      void latest.refetch();
      void client.invalidateQueries({ queryKey: ["files"] });
    },
  });
  const choose = async (chosen: File[]) => {
    compare.reset();
    settle.reset();
    setFiles(chosen.length === 0 ? undefined : await read(chosen));
  };
  const busy = !live || compare.isPending || settle.isPending || latest.data?.some((one) => !one.ended) === true;
  const count = Object.keys(files?.files ?? {}).length;
  return (
    <>
      <h1>As files</h1>
      <div className="columns">
        <div>
          <h2>Bring this machine to files</h2>
          <div className="sheet side">
            <p>
              Definitions from this browser's machine: compared first, and only then carried out, in order, with check
              and proof after each; it stops at the first that fails.
            </p>
            <Group gap="xs">
              <FileButton multiple accept=".yaml,.yml" onChange={(chosen) => void choose(chosen)}>
                {(props) => (
                  <Button variant="default" disabled={busy} {...props}>
                    Choose files…
                  </Button>
                )}
              </FileButton>
              <FileButton multiple inputProps={directories} onChange={(chosen) => void choose(chosen)}>
                {(props) => (
                  <Button variant="default" disabled={busy} {...props}>
                    Choose a directory…
                  </Button>
                )}
              </FileButton>
            </Group>
            {files && (
              <p role="status">
                {count === 0
                  ? "▲ None of them ends in .yaml or .yml."
                  : `${counted(count, "file")} of ${files.directory}: ${Object.keys(files.files).slice(0, 8).join(", ")}${count > 8 ? " …" : ""}`}
              </p>
            )}
            <Checkbox
              mt="sm"
              label="Services that no file names are unwrapped"
              checked={takeAway}
              onChange={(event) => {
                setTakeAway(event.currentTarget.checked);
                compare.reset();
              }}
            />
            <Button
              mt="sm"
              variant={compare.data ? "default" : "filled"}
              disabled={busy || count === 0}
              loading={compare.isPending}
              onClick={() => compare.mutate()}
            >
              Compare
            </Button>
            <p role="status" style={{ whiteSpace: "pre-line" }}>
              {doing && `… ${doing}`}
            </p>
            <Wrong error={compare.error ?? settle.error} />
          </div>
          {compare.data && <Comparison of={compare.data} busy={busy} onSettle={() => settle.mutate(false)} />}
        </div>
        <div>
          <Latest of={latest.data} busy={busy} onBack={() => settle.mutate(true)} />
          <Trouble of={latest} />
          <Export />
        </div>
      </div>
    </>
  );
}

// Of a whole directory: no standard says how (it is in the File and Directory Entries API), every browser takes it.
const directories = { webkitdirectory: "" } as never;

/** The texts of those that are definitions, by their paths from the directory. */
async function read(chosen: File[]): Promise<Files> {
  const pathOf = (file: File) => file.webkitRelativePath.split("/").slice(1).join("/") || file.name;
  const isHidden = (path: string) => path.split("/").some((part) => part.startsWith("."));
  const some = chosen.filter((file) => /\.ya?ml$/.test(file.name) && !isHidden(pathOf(file)));
  return {
    files: Object.fromEntries(await Promise.all(some.map(async (file) => [pathOf(file), await file.text()]))),
    directory: `${chosen[0]?.webkitRelativePath.split("/")[0] || "a browser's machine"}`,
  };
}

function Comparison({ of: view, busy, onSettle }: { of: ComparisonView; busy: boolean; onSettle: () => void }) {
  const steps = view.differences.reduce((sum, one) => sum + one.steps.length, 0);
  return (
    <section className="sheet side" aria-label="Where they differ">
      <p role="status">
        {view.same
          ? `✓ The machine is as ${view.services === 1 ? "the file says" : `the files of ${view.services} services say`}.`
          : `${view.differences.length} of ${counted(view.services, "service")} in ${counted(view.files, "file")} ${view.differences.length === 1 ? "differs" : "differ"}.`}
      </p>
      <dl className="facts" style={{ padding: 0 }}>
        {view.differences.map((one) => (
          <div key={one.name + one.file} style={{ display: "contents" }}>
            <dt>
              {one.name}
              {one.file && <div className="quiet">{one.file}</div>}
            </dt>
            <dd>
              {one.changes.map((change) => (
                <div key={change}>{change}</div>
              ))}
              <strong>→ {one.said.join(", ")}</strong>
            </dd>
          </div>
        ))}
      </dl>
      {view.left.length > 0 && <p className="quiet">In no file, and left as they are: {view.left.join(", ")}.</p>}
      {view.notes.map((note) => (
        <p key={note}>△ {note}</p>
      ))}
      {steps > 0 && (
        <Button disabled={busy} onClick={onSettle}>
          Settle: {counted(steps, "step")}
        </Button>
      )}
    </section>
  );
}

const marks: Record<string, string> = { done: "✓", failed: "▲" };

function Latest({ of: all, busy, onBack }: { of: SettlementView[] | undefined; busy: boolean; onBack: () => void }) {
  if (!all) return null;
  return (
    <>
      <h2>The latest settling</h2>
      <div className="sheet side">
        {all.length === 0 && <p className="quiet">This machine was never brought to files.</p>}
        {all.map((one) => (
          <section key={one.number} aria-label="The latest settling">
            <p className={one.ended && !one["came-true"] ? "attention" : undefined} style={{ whiteSpace: "pre-line" }}>
              {one.said}
            </p>
            <p className="quiet">
              {at(one.began)}, asked for by {one.by}
              {one.directory && `, from ${one.directory}`}
              {one.head && ` (${one.head})`}
            </p>
            <ol className="plan">
              {one.steps.map((step) => (
                <li key={step.deed + step.name + step.what}>
                  {marks[step.state] ?? "○"} {step.what}
                  {step.said && <div className="quiet">{step.said}</div>}
                </li>
              ))}
            </ol>
            {one.next && <p style={{ whiteSpace: "pre-line" }}>{one.next}</p>}
            {one["can-go-back"] && (
              <Button variant="default" disabled={busy} onClick={onBack}>
                Undo it
              </Button>
            )}
          </section>
        ))}
      </div>
    </>
  );
}

/** Every definition as its file, to be looked at and kept. */
function Export() {
  const files = useQuery({ queryKey: ["files"], queryFn: () => take(api.GET("/api/files")), staleTime: 0 });
  return (
    <>
      <h2>What is here, as files</h2>
      <div className="sheet side">
        <Trouble of={files} />
        {files.data && Object.keys(files.data.files).length === 0 && (
          <p className="quiet">Nothing is wrapped here yet.</p>
        )}
        {Object.entries(files.data?.files ?? {}).map(([path, text]) => (
          <details key={path}>
            <summary>
              <code>{path}</code>
            </summary>
            <pre className="file">{text}</pre>
            <Button
              size="compact-sm"
              variant="default"
              onClick={() => save(path.replaceAll("/", "-"), text, "text/yaml")}
            >
              Save it
            </Button>
          </details>
        ))}
        <p className="quiet">
          All at once, on the host: <code>calm export --all --to DIRECTORY</code>. Values of secrets are in none.
        </p>
      </div>
    </>
  );
}
