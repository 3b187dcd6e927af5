import { Tabs } from "@mantine/core";
import type { RepeatView } from "../api/client";
import { Typed } from "../app/Typed";
import { AsFile } from "./AsFile";
import type { Definition } from "./draft";

const quoted = (word: string) =>
  /^[\p{L}\p{N}\-_./=:,@%+]+$/u.test(word) ? word : `'${word.replaceAll("'", "'\\''")}'`;

/** The same definition as a command to type and as a file to keep. */
export function Again({ repeat, onGiven }: { repeat: RepeatView; onGiven: (definition: Definition) => void }) {
  return (
    <Tabs defaultValue="command" keepMounted={false}>
      <Tabs.List>
        <Tabs.Tab value="command">As a command</Tabs.Tab>
        <Tabs.Tab value="file">As a file</Tabs.Tab>
      </Tabs.List>
      <Tabs.Panel value="command">
        <pre className="again">
          {repeat.command ? <Typed words={repeat.command.map(quoted)} /> : "Only a file can say all of it."}
        </pre>
      </Tabs.Panel>
      <Tabs.Panel value="file">
        <AsFile file={repeat.file} onGiven={onGiven} />
      </Tabs.Panel>
    </Tabs>
  );
}
