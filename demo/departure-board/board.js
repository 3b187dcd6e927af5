// The departure board of the quay office: one web page, by a timetable that it reads when it starts and when it gets SIGHUP.
// Who asked stands in access.log in its state directory, which it opens anew when it gets SIGUSR2.
import { closeSync, openSync, readFileSync, writeSync } from "node:fs";
import { createServer } from "node:http";

const port = Number(process.env.BOARD_PORT ?? 7410);
const line = process.env.LINE_NAME ?? "Skerry Line";
const timetable = process.argv[2];

const read = () =>
  readFileSync(timetable, "utf8")
    .trim()
    .split("\n")
    .map((row) => row.split(";"));
let departures = read();
process.on("SIGHUP", () => {
  departures = read();
  console.log(`timetable read anew: ${departures.length} departures`);
});

const state = process.env.CALM_STATE;
const openLog = () => (state ? openSync(`${state}/access.log`, "a") : null);
let log = openLog();
process.on("SIGUSR2", () => {
  if (log !== null) closeSync(log);
  log = openLog();
});

let visitors = 0;
createServer((request, response) => {
  if (log !== null) writeSync(log, `${new Date().toISOString()} ${request.method} ${request.url}\n`);
  if (request.url === "/health") {
    response.end("ok\n");
    return;
  }
  visitors++;
  console.log(`visitor ${visitors} asked for ${request.url}`);
  const rows = departures
    .map(([time, to, berth]) => `<tr><td>${time}</td><td>${to}</td><td>berth ${berth}</td></tr>`)
    .join("");
  response.setHeader("Content-Type", "text/html; charset=utf-8");
  response.end(`<!doctype html><title>${line}</title><h1>${line}: departures</h1><table>${rows}</table>`);
}).listen(port, "127.0.0.1", () => console.log(`${line} departure board on http://127.0.0.1:${port}/, ${departures.length} departures`));
