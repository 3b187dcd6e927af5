import { Button, Checkbox, Radio, SimpleGrid, Textarea, TextInput } from "@mantine/core";
import { useForm } from "@mantine/form";
import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { api, CallError, take } from "../api/client";

type Fields = {
  name: string;
  path: string;
  arguments: string;
  directory: string;
  environment: string;
  account: string;
  at: "boot" | "request";
  start: boolean;
};

const lines = (text: string) => text.split("\n").filter((line) => line.trim() !== "");

/** Which field an error of the sentry belongs to, by its stable code or the definition's key it names. */
const fieldOf: [RegExp, keyof Fields][] = [
  [/^program-|^interpreter-|^program\.path/, "path"],
  [/^account-|^identity/, "account"],
  [/^directory-|^program\.directory/, "directory"],
  [/^name/, "name"],
  [/^program\.environment/, "environment"],
];

/** A program you start by hand today, registered as a service. The sentry checks every value itself; what it finds is shown at its field. */
export function WrapPage() {
  const navigate = useNavigate();
  const form = useForm<Fields>({
    initialValues: {
      name: "",
      path: "",
      arguments: "",
      directory: "",
      environment: "",
      account: "",
      at: "boot",
      start: true,
    },
    validate: {
      environment: (text) =>
        lines(text).some((line) => line.indexOf("=") < 1) ? "One variable a line, as NAME=VALUE" : null,
    },
  });
  const wrap = useMutation({
    mutationFn: async (fields: Fields) => {
      const answer = await take(api.POST("/api/services", { body: definition(fields) as never }));
      const name = answer.service?.name ?? "";
      // Whether it came to run is shown where it can be mended: on the service's own page.
      if (fields.start) void api.POST("/api/services/{name}/start", { params: { path: { name } } });
      return name;
    },
    onSuccess: (name) => navigate({ to: "/services/$name", params: { name } }),
    onError: (error) => {
      if (!(error instanceof CallError)) return;
      const { code, detail, next } = error.problem;
      const field = fieldOf.find(([pattern]) => pattern.test(code) || pattern.test(detail))?.[1];
      if (field) form.setFieldError(field, [detail, next].filter(Boolean).join(" "));
    },
  });
  const elsewhere = wrap.isError && Object.keys(form.errors).length === 0;
  return (
    <>
      <h1>Wrap a program</h1>
      <p className="quiet">
        It is registered as you type it here, checked first. Registered is not running: start it at once, or later.
      </p>
      <form className="sheet" style={{ padding: 22 }} onSubmit={form.onSubmit((fields) => wrap.mutate(fields))}>
        <SimpleGrid cols={{ base: 1, sm: 2 }} spacing="lg" verticalSpacing="md">
          <TextInput
            label="Name"
            description="A short name, or a title: then a short name is made from it"
            required
            {...form.getInputProps("name")}
          />
          <TextInput
            label="Account"
            description="Runs as this account and no other; root must be said"
            required
            {...form.getInputProps("account")}
          />
          <TextInput
            label="Program"
            description="The file to run, with its whole path"
            required
            placeholder="/srv/…"
            {...form.getInputProps("path")}
          />
          <TextInput label="Directory" description="Left out: the program's own" {...form.getInputProps("directory")} />
          <Textarea
            label="Arguments"
            description="One a line, exactly as the program is to get them"
            autosize
            minRows={3}
            {...form.getInputProps("arguments")}
          />
          <Textarea
            label="Environment"
            description="One variable a line: NAME=VALUE"
            autosize
            minRows={3}
            {...form.getInputProps("environment")}
          />
        </SimpleGrid>
        <Radio.Group label="Begins" mt="lg" {...form.getInputProps("at")}>
          <Radio value="boot" label="with the machine, before anyone logs in" mt={6} />
          <Radio value="request" label="when somebody asks" mt={6} />
        </Radio.Group>
        <Checkbox label="Start it at once" mt="lg" {...form.getInputProps("start", { type: "checkbox" })} />
        {elsewhere && (
          <p className="asks" role="alert">
            ▲ {wrap.error.message}
          </p>
        )}
        <Button type="submit" mt="lg" loading={wrap.isPending}>
          Wrap
        </Button>
      </form>
    </>
  );
}

function definition(fields: Fields) {
  const environment = Object.fromEntries(
    lines(fields.environment).map((line) => [
      line.slice(0, line.indexOf("=")).trim(),
      line.slice(line.indexOf("=") + 1),
    ]),
  );
  return {
    format: "calm-sentry/1",
    name: fields.name.trim(),
    program: {
      path: fields.path.trim(),
      ...(fields.arguments && { arguments: fields.arguments.replace(/\n$/, "").split("\n") }),
      ...(fields.directory.trim() && { directory: fields.directory.trim() }),
      ...(Object.keys(environment).length > 0 && { environment }),
    },
    identity: { account: fields.account.trim() },
    begin: { at: fields.at },
  };
}
