import { Button, Checkbox, NativeSelect, Radio, SimpleGrid, Textarea, TextInput } from "@mantine/core";
import { useForm } from "@mantine/form";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { type ReactNode, useId } from "react";
import { api, take } from "../api/client";
import { useServices } from "../live/live";
import { Again } from "./Again";
import { Begin } from "./Begin";
import { proofRow } from "./begin";
import { Care } from "./Care";
import { stepRows } from "./care";
import { type Definition, definition, empty, type Fields, fields } from "./definition";
import { Findings } from "./Findings";
import { Rehearsal } from "./Rehearsal";
import { mistakes, useCheck } from "./useCheck";

const classes = ["idle", "below-normal", "normal", "above-normal", "high"];

/** A program you start by hand today, made a service in the order of the work; the sentry checks all of it while you type. */
export function WrapPage() {
  const navigate = useNavigate();
  const form = useForm<Fields>({ initialValues: empty });
  const sent = definition(form.values);
  const enough = form.values.name.trim() !== "" && form.values.path.trim() !== "";
  const { check, fresh, again } = useCheck(sent, enough);
  const wrong = mistakes(check);
  const sentry = useQuery({ queryKey: ["sentry"], queryFn: () => take(api.GET("/api/sentry")) });
  const wrap = useMutation({
    mutationFn: async () => {
      const answer = await take(api.POST("/api/services", { body: definition(form.values) as never }));
      const name = answer.service?.name ?? "";
      // Whether it came to run is shown where it can be mended: on the service's own page.
      if (form.values.start) void api.POST("/api/services/{name}/start", { params: { path: { name } } });
      return name;
    },
    onSuccess: (name) => navigate({ to: "/services/$name", params: { name } }),
  });
  const input = (field: keyof Fields) => ({ ...form.getInputProps(field), error: wrong[field] });
  const interpreters = check?.interpreters ?? [];
  return (
    <>
      <h1>Wrap a program</h1>
      <p className="quiet">
        In the order of the work; every answer is checked while you type. Registered is not running: start it at once,
        or later.
      </p>
      <div className="bench">
        <form
          onSubmit={(event) => {
            event.preventDefault();
            wrap.mutate();
          }}
        >
          <Part title="What it is">
            <SimpleGrid cols={{ base: 1, sm: 2 }}>
              <TextInput label="Name" description="A title, or a short name" required {...input("name")} />
              <Sibling onChoose={(like) => form.setValues({ ...like, name: form.values.name })} />
            </SimpleGrid>
            <TextInput label="Notes" description="What it is for, what to know about it" {...input("notes")} />
          </Part>
          <Part title="What runs">
            <TextInput
              label="Program"
              description="The file to run, with its whole path"
              required
              placeholder="/srv/…"
              {...input("path")}
            />
            {interpreters.length > 0 && (
              <NativeSelect
                label="Interpreter"
                description="Pinned, so that nothing changes under it"
                data={[
                  {
                    value: "",
                    label: `chosen by the sentry: ${interpreters.find((one) => one.chosen)?.path ?? "none"}`,
                  },
                  ...interpreters.map((one) => ({
                    value: one.path,
                    label: `${one.path}  ${one.version ?? ""}`,
                  })),
                ]}
                {...input("with")}
              />
            )}
            <SimpleGrid cols={{ base: 1, sm: 2 }}>
              <Textarea
                label="Arguments"
                description="One a line, exactly as the program is to get them"
                autosize
                minRows={3}
                {...input("arguments")}
              />
              <Textarea
                label="Environment"
                description="One variable a line: NAME=VALUE"
                autosize
                minRows={3}
                {...input("environment")}
              />
            </SimpleGrid>
            <SimpleGrid cols={{ base: 1, sm: 2 }}>
              <TextInput label="Directory" description="Left out: the program's own" {...input("directory")} />
              <Textarea
                label="Secrets"
                description="Names only, one a line; NAME:file gives a file"
                autosize
                minRows={1}
                {...input("secrets")}
              />
            </SimpleGrid>
            <Radio.Group label="Kind" {...form.getInputProps("kind")}>
              <Radio value="stays" label="stays: the process that is launched is the program" mt={6} />
              <Radio value="detaches" label="detaches: it puts itself into the background" mt={6} />
              <Radio value="toggles" label="toggles: one command switches it on, another off" mt={6} />
            </Radio.Group>
            {form.values.kind === "detaches" && (
              <TextInput label="Pid file" description="Left out: found by its tree" {...input("pidFile")} />
            )}
            {form.values.kind === "toggles" && (
              <Textarea
                label="Stop command"
                description="Program and arguments, one a line"
                required
                autosize
                {...input("stop")}
              />
            )}
          </Part>
          <Part title="Who it is">
            <SimpleGrid cols={{ base: 1, sm: 2 }}>
              <TextInput
                label="Account"
                description={`One of its own is best${sentry.data?.account === "root" ? "; root must be said" : `; left out: ${sentry.data?.account ?? "yours"}`}`}
                {...input("account")}
              />
              <TextInput label="Groups" description="Beside those of its account" {...input("groups")} />
            </SimpleGrid>
            <SimpleGrid cols={{ base: 1, sm: 2 }}>
              <TextInput
                label="Umask"
                description="Rights its files do not get"
                placeholder="0022"
                {...input("umask")}
              />
              <Checkbox
                label="May gain more rights, through programs such as sudo"
                mt={30}
                {...form.getInputProps("moreRights", { type: "checkbox" })}
              />
            </SimpleGrid>
          </Part>
          <Part title="What it may use">
            <SimpleGrid cols={{ base: 2, sm: 3 }}>
              <NativeSelect label="Priority" data={classes} {...input("priority")} />
              <NativeSelect label="Turn at the disks" data={classes} {...input("disk")} />
              <TextInput label="Processors" placeholder="all, or 0-1" {...input("processors")} />
              <TextInput label="Memory" placeholder="no ceiling, or 512 MiB" {...input("memory")} />
              <TextInput label="Processor time" placeholder="no ceiling, or 150 %" {...input("cpu")} />
              <TextInput label="Processes and threads" placeholder="no ceiling, or 64" {...input("tasks")} />
              <TextInput label="Open files" placeholder="the host's, or 4096" {...input("openFiles")} />
            </SimpleGrid>
          </Part>
          <Part title="When it begins">
            <Begin form={form} errorOf={(key) => check?.errors.find((error) => error.startsWith(key))} />
          </Part>
          <Part title="While it runs, when it falls, how it ends">
            <Care form={form} errorOf={(key) => check?.errors.find((error) => error.startsWith(key))} />
          </Part>
          <Part title="Try it">
            {enough && check?.errors.length === 0 ? (
              <Rehearsal definition={sent} onAdopt={(adoption) => form.setValues(adopt(form.values, adoption))} />
            ) : (
              <p className="quiet">With a name and a program it can be run here just as its service would run it.</p>
            )}
          </Part>
          <Checkbox label="Start it at once" mt="lg" {...form.getInputProps("start", { type: "checkbox" })} />
          {wrap.isError && (
            <p className="asks" role="alert">
              ▲ {wrap.error.message}
            </p>
          )}
          <Button type="submit" mt="md" loading={wrap.isPending}>
            Wrap
          </Button>
        </form>
        <aside aria-label="Checked while you type">
          <h2>Checked while you type</h2>
          <div className="sheet side" aria-busy={!fresh}>
            {!check && <p className="quiet">Nothing to check yet: a name and a program are needed.</p>}
            {check && (
              <p role="status" className={check.clear ? undefined : "asks"}>
                {check.clear ? "✓" : "▲"} {check.said}
              </p>
            )}
            {check?.errors.map((error) => (
              <p key={error} className="asks">
                {error}
              </p>
            ))}
            {check && (
              <Findings
                check={check}
                account={form.values.account.trim()}
                onAccept={(code) => form.setFieldValue("accept", [...form.values.accept, code])}
                onChanged={() => void again()}
              />
            )}
          </div>
          {check?.repeat && (
            <>
              <h2>The same again</h2>
              <div className="sheet side">
                <Again repeat={check.repeat} />
              </div>
            </>
          )}
        </aside>
      </div>
    </>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  const id = useId();
  return (
    <section className="sheet part" aria-labelledby={id}>
      <h2 id={id}>{title}</h2>
      {children}
    </section>
  );
}

/** Another service to begin from: everything of it is taken over but its name. */
function Sibling({ onChoose }: { onChoose: (fields: Fields) => void }) {
  const { services } = useServices();
  const choose = async (name: string) => {
    if (name === "") return;
    const like = await take(api.GET("/api/services/{name}", { params: { path: { name } } }));
    onChoose(fields(like.definition, like.given));
  };
  return (
    <NativeSelect
      label="Like"
      description="Begin from another service"
      data={[{ value: "", label: "nothing yet" }, ...services.map((one) => ({ value: one.name, label: one.title }))]}
      onChange={(event) => void choose(event.currentTarget.value)}
    />
  );
}

function adopt(values: Fields, adoption: Definition): Partial<Fields> {
  const program = adoption.program as { kind?: Fields["kind"]; "pid-file"?: string } | undefined;
  const resources = adoption.resources as { memory?: string } | undefined;
  const begin = adoption.begin as { proof?: unknown } | undefined;
  const steps = adoption["wind-down"] as { signal: string; wait: string }[] | undefined;
  return {
    kind: program?.kind ?? values.kind,
    pidFile: program?.["pid-file"] ?? values.pidFile,
    memory: resources?.memory ?? values.memory,
    proof: begin?.proof ? proofRow(begin.proof) : values.proof,
    steps: steps ? stepRows(steps) : values.steps,
  };
}
