import { Button, Checkbox, NativeSelect, Textarea, TextInput } from "@mantine/core";
import { useId } from "react";
import { useServices } from "../live/live";
import { goesWith, type Row, type Value } from "./draft";
import { type Key, memberKeys, shapeOf } from "./keys";
import { PathInput } from "./PathInput";

type At = {
  path: string;
  keyOf: Key;
  value: Value | undefined;
  onChange: (value: Value) => void;
  errorAt: (path: string) => string | undefined;
};

/** A key's default stands where nothing does. */
const left = (key: Key) => key["x-left-out"];

const example = (key: Key) => key.examples?.[0];

const capital = (word: string) => word.charAt(0).toUpperCase() + word.slice(1).replaceAll("-", " ");

/** The field of one key, whatever it takes. */
export function KeyField({ path, keyOf: key, value, onChange, errorAt }: At) {
  const text = typeof value === "string" ? value : "";
  const props = { label: key.title, description: key.description, error: errorAt(path) };
  switch (shapeOf(key)) {
    case "choice":
      return (
        <NativeSelect
          {...props}
          data={[{ value: "", label: `${left(key)} (default)` }, ...(key.enum ?? [])]}
          value={text}
          onChange={(event) => onChange(event.currentTarget.value)}
        />
      );
    case "switch":
      return (
        <Checkbox
          {...props}
          mt={10}
          checked={value === true}
          onChange={(event) => onChange(event.currentTarget.checked)}
        />
      );
    case "texts":
    case "names":
    case "pairs":
      return (
        <Textarea
          {...props}
          description={`One a line. ${key.description}`}
          autosize
          minRows={2}
          value={text}
          onChange={(event) => onChange(event.currentTarget.value)}
        />
      );
    case "path":
      return (
        <PathInput
          {...props}
          required={left(key) === undefined}
          placeholder={left(key) ?? example(key)}
          value={text}
          onChange={onChange}
        />
      );
    case "one":
    case "many":
      return <Rows path={path} keyOf={key} value={value} onChange={onChange} errorAt={errorAt} />;
    default:
      return (
        <TextInput
          {...props}
          required={left(key) === undefined}
          placeholder={left(key) ?? example(key)}
          value={text}
          onChange={(event) => onChange(event.currentTarget.value)}
        />
      );
  }
}

/** A list of maps that are each of one kind, or one such map. */
function Rows({ path, keyOf: key, value, onChange, errorAt }: At) {
  const rows = Array.isArray(value) ? value : [];
  const one = shapeOf(key) === "one";
  const add = () => onChange([...rows, { kind: key["x-kinds"]?.[0] ?? "", value: "", more: {} }]);
  const set = (index: number, row: Row) => onChange(rows.map((other, at) => (at === index ? row : other)));
  return (
    <fieldset className="needs">
      <legend>{key.title}</legend>
      <p className="quiet">
        {key.description} {rows.length === 0 && `Left out: ${left(key)}.`}
      </p>
      {rows.map((row, index) => {
        const at = one ? path : `${path}[${index}]`;
        return (
          <RowFields
            // biome-ignore lint/suspicious/noArrayIndexKey: a row is its place in the list
            key={index}
            keyOf={key}
            row={row}
            error={errorAt(at)}
            onChange={(changed) => set(index, changed)}
            onRemove={() => onChange(rows.filter((_, other) => other !== index))}
          />
        );
      })}
      {(!one || rows.length === 0) && (
        <Button variant="default" size="xs" onClick={add}>
          {one ? "Choose" : "Add"}
        </Button>
      )}
    </fieldset>
  );
}

function RowFields(props: {
  keyOf: Key;
  row: Row;
  error: string | undefined;
  onChange: (row: Row) => void;
  onRemove: () => void;
}) {
  const { keyOf, row, error, onChange } = props;
  const { services } = useServices();
  const hint = useId();
  const members = memberKeys(keyOf);
  const kind = members[row.kind];
  if (!kind) return null;
  const attributes = Object.entries(members).filter(
    ([name, key]) => !keyOf["x-kinds"]?.includes(name) && goesWith(key, row.kind),
  );
  const setMore = (name: string, text: string) => onChange({ ...row, more: { ...row.more, [name]: text } });
  const value = {
    label: "Which",
    error,
    value: row.value,
    "aria-describedby": hint,
    onChange: (event: { currentTarget: { value: string } }) => onChange({ ...row, value: event.currentTarget.value }),
  };
  return (
    <div className="need">
      <NativeSelect
        label="Kind"
        data={keyOf["x-kinds"]?.map((name) => ({ value: name, label: members[name]?.title ?? name }))}
        value={row.kind}
        onChange={(event) => onChange({ ...row, kind: event.currentTarget.value, value: "" })}
      />
      {row.kind === "service" ? (
        <NativeSelect {...value} data={["", ...services.map((one) => one.name)]} />
      ) : kind.enum ? (
        <NativeSelect {...value} data={["", ...kind.enum]} />
      ) : shapeOf(kind) === "texts" ? (
        <Textarea {...value} autosize placeholder="a word a line, the program first" />
      ) : shapeOf(kind) === "path" ? (
        <PathInput {...value} placeholder={example(kind)} onChange={(text) => onChange({ ...row, value: text })} />
      ) : (
        <TextInput {...value} placeholder={example(kind)} />
      )}
      <Button variant="subtle" size="xs" mt={26} onClick={props.onRemove}>
        Remove
      </Button>
      <p className="quiet wide" id={hint}>
        {kind.description}
      </p>
      {attributes.length > 0 && (
        <div className="attributes wide">
          {attributes.map(([name, key]) =>
            key.enum || key.type === "boolean" ? (
              <NativeSelect
                key={name}
                label={capital(name)}
                data={[{ value: "", label: `${left(key)} (default)` }, ...(key.enum ?? ["true"])]}
                value={row.more[name] ?? ""}
                onChange={(event) => setMore(name, event.currentTarget.value)}
              />
            ) : (
              <TextInput
                key={name}
                label={capital(name)}
                placeholder={left(key) ?? example(key)}
                value={row.more[name] ?? ""}
                onChange={(event) => setMore(name, event.currentTarget.value)}
              />
            ),
          )}
        </div>
      )}
    </div>
  );
}
