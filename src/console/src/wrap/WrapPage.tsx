import { Button, Checkbox, NativeSelect } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, take } from "../api/client";
import { Wrong } from "../app/Trouble";
import { useServices } from "../live/live";
import { Again } from "./Again";
import { Checked } from "./Checked";
import { DefinitionForm, Part } from "./DefinitionForm";
import { type Definition, type Draft, definition, draftOf } from "./draft";
import { type Key, useKeys } from "./keys";
import { Rehearsal } from "./Rehearsal";
import { useCheck } from "./useCheck";
import "./wrap.css";

/** A program you start by hand today, made a service in the order of the work; the sentry checks all of it while you type. */
export function WrapPage() {
  const keys = useKeys();
  return (
    <>
      <h1>Wrap a program</h1>
      <p className="quiet">
        In the order of the work; every answer is checked while you type. Registered is not running: start it at once,
        or later.
      </p>
      {keys && <WrapForm keys={keys} />}
    </>
  );
}

function WrapForm({ keys }: { keys: Record<string, Key> }) {
  const navigate = useNavigate();
  const [draft, setDraft] = useState<Draft>({ "begin.at": "boot" });
  const [accept, setAccept] = useState<string[]>([]);
  const [start, setStart] = useState(true);
  const sent = { ...definition(keys, draft), ...(accept.length > 0 && { accept }) };
  const enough = Boolean(draft.name) && Boolean(draft["program.path"]);
  const { check, fresh, again } = useCheck(sent, enough);
  const wrap = useMutation({
    mutationFn: async () => {
      const answer = await take(api.POST("/api/services", { body: sent as never }));
      const name = answer.service?.name ?? "";
      // Whether it came to run is shown where it can be mended: on the service's own page.
      if (start) void api.POST("/api/services/{name}/start", { params: { path: { name } } });
      return name;
    },
    onSuccess: (name) => navigate({ to: "/services/$name", params: { name } }),
  });
  return (
    <div className="bench">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          wrap.mutate();
        }}
      >
        <DefinitionForm
          keys={keys}
          draft={draft}
          onChange={(path, value) => setDraft((before) => ({ ...before, [path]: value }))}
          check={check}
          first={
            <Sibling onChoose={(from, given) => setDraft({ ...draftOf(keys, from, given), name: draft.name ?? "" })} />
          }
        />
        <Part title="Try it">
          {enough && check?.errors.length === 0 ? (
            <Rehearsal
              definition={sent}
              onAdopt={(adoption) => setDraft((before) => ({ ...before, ...draftOf(keys, adoption) }))}
            />
          ) : (
            <p className="quiet">With a name and a program it can be run here just as its service would run it.</p>
          )}
        </Part>
        <Checkbox
          label="Start it at once"
          mt="lg"
          checked={start}
          onChange={(event) => setStart(event.currentTarget.checked)}
        />
        <Wrong error={wrap.error} />
        <Button type="submit" mt="md" loading={wrap.isPending}>
          Wrap
        </Button>
      </form>
      <aside aria-label="Checked while you type">
        <Checked
          check={check}
          fresh={fresh}
          draft={draft}
          onAccept={(code) => setAccept([...accept, code])}
          onChanged={() => void again()}
        />
        {check?.repeat && (
          <>
            <h2>The same again</h2>
            <div className="sheet side">
              <Again
                repeat={check.repeat}
                onGiven={(given) => {
                  setDraft(draftOf(keys, given));
                  setAccept((given.accept as string[] | undefined) ?? []);
                }}
              />
            </div>
          </>
        )}
      </aside>
    </div>
  );
}

/** Another service to begin from: everything of it is taken over but its name. */
function Sibling({ onChoose }: { onChoose: (from: Definition, given: readonly string[]) => void }) {
  const { services } = useServices();
  const choose = async (name: string) => {
    if (name === "") return;
    const like = await take(api.GET("/api/services/{name}", { params: { path: { name } } }));
    onChoose(like.definition as Definition, like.given);
  };
  return (
    <NativeSelect
      label="Like"
      description="Take over the settings of another service"
      data={[{ value: "", label: "none" }, ...services.map((one) => ({ value: one.name, label: one.title }))]}
      onChange={(event) => void choose(event.currentTarget.value)}
    />
  );
}
