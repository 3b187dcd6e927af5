import { Button, Checkbox, Group, NativeSelect, Radio, Textarea, TextInput } from "@mantine/core";
import type { UseFormReturnType } from "@mantine/form";
import { useServices } from "../live/live";
import { type NeedKind, newNeed, type ProofKind } from "./begin";
import type { Fields } from "./definition";

const needKinds: { value: NeedKind; label: string; hint: string }[] = [
  { value: "service", label: "a service", hint: "" },
  { value: "network", label: "the network", hint: "up, or an interface such as eth0" },
  { value: "tcp", label: "a TCP port", hint: "127.0.0.1:5432" },
  { value: "path", label: "a path", hint: "/mnt/manifests" },
  { value: "after-boot", label: "time since boot", hint: "30 s" },
];

const proofKinds: { value: ProofKind; label: string; hint: string }[] = [
  { value: "up-for", label: "staying up", hint: "1 s" },
  { value: "tcp", label: "it takes connections", hint: "127.0.0.1:7411" },
  { value: "http", label: "a page answers", hint: "http://127.0.0.1:7411/health" },
  { value: "output", label: "it prints a line", hint: "listening on" },
  { value: "file", label: "it writes a file", hint: "/run/relay/ready" },
  { value: "command", label: "a command succeeds", hint: "/usr/bin/ledger-ping" },
  { value: "told", label: "it says so itself", hint: "" },
];

type Form = UseFormReturnType<Fields>;
type Errors = (key: string) => string | undefined;

/** When it begins, what must be true before, and what shows that it serves. */
export function Begin({ form, errorOf }: { form: Form; errorOf: Errors }) {
  return (
    <>
      <Radio.Group label="Begins" {...form.getInputProps("at")}>
        <Radio value="boot" label="with the machine, before anyone logs in" mt={6} />
        <Radio value="boot-late" label="with the machine, once all else that begins with it is proven" mt={6} />
        <Radio value="request" label="when somebody asks" mt={6} />
        <Radio value="never" label="never: every start is refused" mt={6} />
      </Radio.Group>
      <fieldset className="needs">
        <legend>Needs</legend>
        {form.values.needs.map((_, index) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a row is its place in the list
          <NeedFields key={index} form={form} index={index} error={errorOf(`begin.needs[${index}]`)} />
        ))}
        <Button variant="default" size="xs" onClick={() => form.insertListItem("needs", { ...newNeed })}>
          Add a need
        </Button>
      </fieldset>
      <ProofFields form={form} error={errorOf("begin.proof")} />
    </>
  );
}

function NeedFields({ form, index, error }: { form: Form; index: number; error: string | undefined }) {
  const { services } = useServices();
  const row = form.values.needs[index];
  if (!row) return null;
  const at = (key: string) => form.getInputProps(`needs.${index}.${key}`);
  return (
    <div className="need">
      <NativeSelect label="What" data={needKinds.map(({ value, label }) => ({ value, label }))} {...at("kind")} />
      {row.kind === "service" ? (
        <NativeSelect label="Which" data={["", ...services.map((one) => one.name)]} {...at("value")} error={error} />
      ) : (
        <TextInput
          label="Which"
          placeholder={needKinds.find((one) => one.value === row.kind)?.hint}
          {...at("value")}
          error={error}
        />
      )}
      <TextInput label="Within" placeholder="5 min" {...at("within")} />
      <NativeSelect
        label="If not"
        data={[
          { value: "tell", label: "wait on" },
          { value: "go-ahead", label: "go ahead" },
          { value: "hold", label: "hold" },
        ]}
        {...at("then")}
      />
      <Button variant="subtle" size="xs" mt={26} onClick={() => form.removeListItem("needs", index)}>
        Remove
      </Button>
      {row.kind === "service" && (
        <NativeSelect
          className="wide"
          label="If that one goes away"
          data={[
            { value: "leave", label: "go on as it is" },
            { value: "restart", label: "be restarted once it is back" },
            { value: "go-down", label: "go down too, and begin again with it" },
          ]}
          {...at("ifLost")}
        />
      )}
      {row.kind === "path" && (
        <Group className="wide">
          <Checkbox label="mounted" {...form.getInputProps(`needs.${index}.mounted`, { type: "checkbox" })} />
          <Checkbox
            label="its account may write there"
            {...form.getInputProps(`needs.${index}.writable`, { type: "checkbox" })}
          />
        </Group>
      )}
    </div>
  );
}

function ProofFields({ form, error }: { form: Form; error: string | undefined }) {
  const proof = form.values.proof;
  const at = (key: string) => form.getInputProps(`proof.${key}`);
  const hint = proofKinds.find((one) => one.value === proof.kind)?.hint;
  return (
    <fieldset className="needs">
      <legend>Proof that it serves</legend>
      <div className="need proof">
        <NativeSelect label="Kind" data={proofKinds.map(({ value, label }) => ({ value, label }))} {...at("kind")} />
        {proof.kind === "command" ? (
          <Textarea label="Command, a word a line" autosize placeholder={hint} {...at("value")} error={error} />
        ) : (
          proof.kind !== "told" && <TextInput label="Which" placeholder={hint} {...at("value")} error={error} />
        )}
        {proof.kind !== "up-for" && <TextInput label="Within" placeholder="1 min" {...at("within")} />}
        {proof.kind !== "up-for" && (
          <Checkbox
            label="If not, only say so"
            mt={30}
            {...form.getInputProps("proof.onlyTell", { type: "checkbox" })}
          />
        )}
        {proof.kind === "http" && <TextInput label="Status" placeholder="200 to 399" {...at("status")} />}
        {proof.kind === "http" && <TextInput label="Text in it" placeholder="anything" {...at("text")} />}
      </div>
      {proof.kind === "told" && (
        <p className="quiet">
          The program calls once: <code>curl --unix-socket "$CALM_SAY" http://calm/serves</code>
        </p>
      )}
    </fieldset>
  );
}
