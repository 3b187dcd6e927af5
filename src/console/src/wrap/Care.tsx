import { Button, Checkbox, NativeSelect, Radio, Textarea, TextInput } from "@mantine/core";
import type { UseFormReturnType } from "@mantine/form";
import { isLevel, newStep, newWatch, type StepKind, type StepRow, type WatchKind } from "./care";
import type { Fields } from "./definition";

const watches: Record<WatchKind, { label: string; hint: string }> = {
  http: { label: "a page answers", hint: "http://127.0.0.1:7411/health" },
  tcp: { label: "it takes connections", hint: "127.0.0.1:7411" },
  command: { label: "a command succeeds", hint: "/usr/bin/ledger-ping" },
  "silent-for": { label: "it is not silent for", hint: "10 min" },
  file: { label: "a file stays fresh", hint: "/srv/skerry/tides.csv" },
  "well-within": { label: "it says that it is alive within", hint: "30 s" },
  "memory-above": { label: "memory not above", hint: "400 MiB" },
  "cpu-above": { label: "processor time not above", hint: "90 %" },
  "open-files-above": { label: "open files not above", hint: "1000" },
  "tree-above": { label: "processes below it not above", hint: "20" },
  "ceiling-within": { label: "memory not at its ceiling within", hint: "2 h" },
  "paused-for": { label: "not stopped by a signal for", hint: "30 s" },
};

/** What can be watched of something that has no process of its own. */
const ofAnything: WatchKind[] = ["http", "tcp", "command", "file"];

const steps: Record<StepKind, { label: string; hint: string }> = {
  signal: { label: "a signal", hint: "TERM" },
  send: { label: "send text", hint: "close-day\\n" },
  close: { label: "end its input", hint: "" },
  key: { label: "press a key", hint: "interrupt" },
  http: { label: "ask an address", hint: "http://127.0.0.1:7411/close" },
  command: { label: "run a command", hint: "/usr/bin/ledger-close" },
};

type Form = UseFormReturnType<Fields>;
type Errors = (key: string) => string | undefined;

const choices = <K extends string>(kinds: Record<K, { label: string }>) =>
  (Object.keys(kinds) as K[]).map((value) => ({ value, label: kinds[value].label }));

/** What is looked at while it runs, what follows a fall, and how it is stopped without losing work. */
export function Care({ form, errorOf }: { form: Form; errorOf: Errors }) {
  return (
    <>
      <fieldset className="needs">
        <legend>Watched while it runs</legend>
        {form.values.watch.map((_, index) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a row is its place in the list
          <WatchFields key={index} form={form} index={index} error={errorOf(`watch[${index}]`)} />
        ))}
        <Button variant="default" size="xs" onClick={() => form.insertListItem("watch", { ...newWatch })}>
          Add a watch
        </Button>
      </fieldset>
      <RecoverFields form={form} error={errorOf("recover")} />
      {form.values.kind !== "toggles" && <CleanStop form={form} errorOf={errorOf} />}
    </>
  );
}

function CleanStop({ form, errorOf }: { form: Form; errorOf: Errors }) {
  return (
    <fieldset className="needs">
      <legend>Clean stop</legend>
      {form.values.steps.length === 0 && <p className="quiet">TERM, and after 10 s what is left is ended by force.</p>}
      {form.values.steps.map((_, index) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a row is its place in the list
        <StepFields key={index} form={form} index={index} error={errorOf(`wind-down[${index}]`)} />
      ))}
      <Button variant="default" size="xs" onClick={() => form.insertListItem("steps", { ...newStep })}>
        Add a step
      </Button>
      {(form.values.terminal || form.values.steps.some((step) => step.kind === "key")) && (
        <Checkbox
          mt={10}
          label="It runs at a terminal of its own: a key can only be pressed there"
          {...form.getInputProps("terminal", { type: "checkbox" })}
        />
      )}
    </fieldset>
  );
}

function WatchFields({ form, index, error }: { form: Form; index: number; error: string | undefined }) {
  const row = form.values.watch[index];
  if (!row) return null;
  const at = (key: string) => form.getInputProps(`watch.${index}.${key}`);
  const { hint } = watches[row.kind];
  return (
    <div className="need">
      <NativeSelect
        label="So it must be"
        data={choices(watches).filter(({ value }) => form.values.kind !== "toggles" || ofAnything.includes(value))}
        {...at("kind")}
      />
      {row.kind === "command" ? (
        <Textarea label="Command, a word a line" autosize placeholder={hint} {...at("value")} error={error} />
      ) : (
        <TextInput label="Which" placeholder={hint} {...at("value")} error={error} />
      )}
      <TextInput label="Every" placeholder="usual" {...at("every")} />
      <NativeSelect
        label="If not"
        data={[
          { value: "", label: "usual" },
          { value: "note", label: "note it" },
          { value: "tell", label: "tell me" },
          { value: "restart", label: "begin it again" },
          { value: "restart-by-force", label: "begin it again by force" },
        ]}
        {...at("then")}
      />
      <Button variant="subtle" size="xs" mt={26} onClick={() => form.removeListItem("watch", index)}>
        Remove
      </Button>
      {row.kind === "http" && <TextInput label="Text in it" placeholder="anything" {...at("text")} />}
      {row.kind === "file" && <TextInput label="No older than" placeholder="15 min" {...at("freshFor")} />}
      {isLevel(row.kind) && <TextInput label="For so long" placeholder="0 s" {...at("above")} />}
      {["http", "tcp", "command"].includes(row.kind) && (
        <TextInput label="Bad looks in a row" placeholder="3" {...at("patience")} />
      )}
    </div>
  );
}

function RecoverFields({ form, error }: { form: Form; error: string | undefined }) {
  const at = (key: string) => form.getInputProps(`recover.${key}`);
  return (
    <fieldset className="needs">
      <legend>When it falls</legend>
      <Radio.Group label="Begun again after" {...at("after")}>
        <Radio value="failure" label="a failure" mt={6} />
        <Radio value="any-end" label="any end" mt={6} />
        <Radio value="never" label="no end" mt={6} />
      </Radio.Group>
      <div className="need recover">
        <TextInput label="First pause" placeholder="1 s" {...at("first")} />
        <TextInput label="Longest pause" placeholder="1 min" {...at("longest")} />
        <TextInput label="Bad ends to hold" placeholder="5" {...at("ends")} />
        <TextInput label="Within" placeholder="10 min" {...at("within")} />
        <TextInput label="On hold, try every" placeholder="never" {...at("retryEvery")} />
      </div>
      <Textarea
        label="Codes and signals that mean something, one a line"
        description="done, again, again-at-once, hold or stop-dependents"
        placeholder={"75=again\n3=hold"}
        autosize
        {...at("codes")}
        error={error}
      />
    </fieldset>
  );
}

function StepFields({ form, index, error }: { form: Form; index: number; error: string | undefined }) {
  const row: StepRow | undefined = form.values.steps[index];
  if (!row) return null;
  const at = (key: string) => form.getInputProps(`steps.${index}.${key}`);
  const { hint } = steps[row.kind];
  return (
    <div className="need">
      <NativeSelect label="Step" data={choices(steps)} {...at("kind")} />
      {row.kind === "command" ? (
        <Textarea label="Command, a word a line" autosize placeholder={hint} {...at("value")} error={error} />
      ) : (
        <TextInput label="What" placeholder={hint} disabled={row.kind === "close"} {...at("value")} error={error} />
      )}
      <TextInput label="Wait" placeholder="10 s" {...at("wait")} />
      {row.kind === "signal" || row.kind === "send" ? (
        <TextInput label="To" placeholder={row.kind === "signal" ? "main" : "tcp 127.0.0.1:7412"} {...at("to")} />
      ) : (
        <span />
      )}
      <Button variant="subtle" size="xs" mt={26} onClick={() => form.removeListItem("steps", index)}>
        Remove
      </Button>
    </div>
  );
}
