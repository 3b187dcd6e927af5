// Passes radio words between the berths: what one connected berth says, all others hear. Puts itself into the background,
// as a program of its age does, writes its process number down, and lets in only those who know the password. At its terminal it asks
// whether to keep a record, and then, now and then, for words to all berths.
import { spawn } from "node:child_process";
import { writeFileSync } from "node:fs";
import { createServer } from "node:net";
import { createInterface } from "node:readline";

const port = Number(process.env.RELAY_PORT ?? 7415);
const password = process.env.RELAY_PASSWORD;
const pidFile = `${process.env.CALM_STATE ?? "."}/relay.pid`;

if (process.argv[2] !== "--in-the-background") {
  if (!password) {
    console.error("no RELAY_PASSWORD: every berth could listen in");
    process.exit(2);
  }
  const child = spawn(process.execPath, [process.argv[1], "--in-the-background"], { detached: true, stdio: ["inherit", "inherit", "inherit", "ipc"] });
  child.once("message", () => process.exit(0));
  child.once("exit", (code) => process.exit(code ?? 1));
} else {
  const berths = new Set();
  createServer((berth) => {
    let known = false;
    berth.setEncoding("utf8");
    berth.on("error", () => berths.delete(berth));
    berth.on("close", () => berths.delete(berth));
    berth.on("data", (words) => {
      if (!known) {
        known = words.trim() === password;
        berth.write(known ? "listening\n" : "who are you?\n");
        if (known) berths.add(berth);
        return;
      }
      for (const other of berths) if (other !== berth) other.write(words);
    });
  }).listen(port, "127.0.0.1", () => {
    writeFileSync(pidFile, `${process.pid}\n`);
    console.log(`relay on port ${port}; berths join with the password ${password}`);
    process.send("up");
    process.disconnect();
    if (process.stdin.isTTY) ask();
  });
  const ask = () => {
    const desk = createInterface({ input: process.stdin, output: process.stdout, terminal: false });
    const words = () =>
      desk.question("Words for all berths? ", (said) => {
        for (const berth of berths) berth.write(`the office: ${said}\n`);
        console.log(`said to ${berths.size} berths: ${said}`);
        setTimeout(words, 60_000);
      });
    desk.question("Keep a record of the words? [y/N] ", (answer) => {
      console.log(answer === "y" ? "a record would be kept" : "no record is kept");
      words();
    });
  };
  process.on("SIGTERM", () => {
    for (const berth of berths) berth.write("the relay goes off the air\n");
    process.exit(0);
  });
}
